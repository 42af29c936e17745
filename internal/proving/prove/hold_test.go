package prove

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/proving/differ"
)

// The side to go back to is held to what it was: what has changed is named, what was only restarted
// is no change, and no value stands in what is kept.
func TestHoldingASide(t *testing.T) {
	q, y, services := newQuestion(t)
	q.Target = split.Blue
	y.region["blue-1"] = "north of the secret harbour"
	key := []byte("a key of ours")
	record := func() wayback.Record {
		r, missing := differ.Record(t.Context(), differ.Question{Plan: q.Plan, Standing: y, Sides: q.Sides}, split.Blue,
			key)
		if len(missing) > 0 {
			t.Fatal(missing)
		}
		return r
	}
	was := record()
	if data, err := json.Marshal(was); err != nil || strings.Contains(string(data), "harbour") ||
		len(was.Instances) == 0 || len(was.Facts) == 0 {
		t.Errorf("kept is %s, %v", data, err)
	}
	if other, _ := differ.Record(t.Context(), differ.Question{Plan: q.Plan, Standing: y, Sides: q.Sides}, split.Blue,
		[]byte("another key")); slices.Equal(other.Facts[0].Digests, was.Facts[0].Digests) {
		t.Error("the key makes no difference")
	}
	failing := func(l wayback.Look) string {
		var list []string
		for _, f := range l.Failed {
			list = append(list, strings.TrimSpace(f.Where+" "+f.What+": "+f.Said))
		}
		return strings.Join(list, "; ")
	}
	l := Hold(t.Context(), q, was, key, 1)
	if failing(l.Same)+failing(l.Smoke) != "" || l.Smoke.Of != 2*len(q.Sides[split.Blue]) || !l.Data.At.IsZero() {
		t.Errorf("a side that is as it was: %+v", l)
	}
	// Another setting, another build, an instance less, a check that fails, a need that is not there.
	y.region["blue-1"] = "south"
	services[split.Blue].version = "4.2.1"
	y.blocked["blue-1"] = q.Plan.Parts[0].Needs[0].What.(plan.TCP).Address
	q.Sides[split.Blue] = slices.Clone(q.Sides[split.Blue])
	q.Sides[split.Blue][0].Build = "another"
	l = Hold(t.Context(), q, was, key, 2)
	for _, want := range []string{"blue-1 build: is another, and was 7c1e40d9a0b1",
		"web environment REGION: is not what it was"} {
		if !strings.Contains(failing(l.Same), want) {
			t.Errorf("it does not say %q: %s", want, failing(l.Same))
		}
	}
	if got := failing(l.Smoke); !strings.Contains(got, "blue-1 fares: want") ||
		!strings.Contains(got, "blue-1 search: want") {
		t.Errorf("its checks: %s", got)
	}
	gone := q
	gone.Sides[split.Blue] = []reading.Instance{}
	if l := Hold(t.Context(), gone, was, key, 3); !strings.Contains(failing(l.Same),
		"blue-1 instance: does not run any more") {
		t.Errorf("nobody there: %s", failing(l.Same))
	}
	// What cannot be read is not taken for gone.
	q.Plan.Parts[0].Configuration = []string{"/nowhere/sailings.yaml"}
	if l := Hold(t.Context(), q, was, key, 4); l.Same.Error == "" {
		t.Errorf("a file that is not there: %+v", l.Same)
	}
}

// The plan's own checks of the way back are made from where an instance of the side stands.
func TestTheChecksOfTheWayBack(t *testing.T) {
	q, y, _ := newQuestion(t)
	q.Target = split.Blue
	address := q.Plan.Parts[0].Needs[0].What.(plan.TCP).Address
	q.Plan.WayBack.Checks = []plan.Check{q.Plan.Parts[0].Needs[0]}
	q.Plan.WayBack.Checks[0].Name = "data"
	if l := Hold(t.Context(), q, wayback.Record{}, nil, 1).Data; l.Of != 1 || len(l.Failed) != 0 {
		t.Errorf("%+v", l)
	}
	y.blocked["blue-1"] = address
	if l := Hold(t.Context(), q, wayback.Record{}, nil, 2).Data; len(l.Failed) != 1 || l.Failed[0].What != "data" ||
		l.Failed[0].Where != "blue-1" {
		t.Errorf("%+v", l)
	}
	y.gone = true
	if l := Hold(t.Context(), q, wayback.Record{}, nil, 3).Data; len(l.Failed) != 1 ||
		!strings.Contains(l.Failed[0].Said, "does not answer") {
		t.Errorf("a place that cannot be reached: %+v", l)
	}
}

// Of a large side a few are asked in each look, and all have had their turn in the end.
func TestAFewInTurn(t *testing.T) {
	var all []reading.Instance
	for n := range 19 {
		all = append(all, reading.Instance{Name: fmt.Sprint("blue-", n), Part: "web"})
	}
	all = append(all, reading.Instance{Name: "blue-worker-1", Part: "worker"})
	seen := map[string]bool{}
	for round := range 3 {
		list := inTurn(all, round)
		if len(list) != held+1 {
			t.Fatalf("%d are asked at once", len(list))
		}
		for _, i := range list {
			seen[i.Name] = true
		}
	}
	if len(seen) != len(all) {
		t.Errorf("after three looks %d of %d were asked", len(seen), len(all))
	}
}

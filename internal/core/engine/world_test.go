package engine

import (
	"slices"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// seen is a world in which the instances of the first part stand as they are said to.
func seen(now time.Time, sides [2][]reading.Health) *sight {
	w := &sight{world: world{plan: &plan.Plan{Parts: []plan.Part{{Name: "web"}, {Name: "worker"}}}, now: now}}
	for side, list := range sides {
		w.sides[side].view.At = now
		for n, h := range list {
			i := reading.Instance{Name: string(rune('a' + n)), Part: "web", Side: split.Side(side),
				Running: h != reading.Exited,
				Address: split.Side(side).String() + string(rune('0'+n)), Started: now}
			w.sides[side].view.Instances = append(w.sides[side].view.Instances,
				reading.Condition{Instance: i, State: h})
		}
	}
	return w
}

// Who serves is counted of the first part alone, on both sides, and is not known of what was never read.
func TestTheWorldCountsWhoServes(t *testing.T) {
	now := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	w := seen(now, [2][]reading.Health{{reading.Healthy, reading.Exited}, {reading.Healthy, reading.Healthy}})
	w.sides[0].view.Instances = append(w.sides[0].view.Instances,
		reading.Condition{Instance: reading.Instance{Part: "worker", Running: true}, State: reading.Healthy})
	want := crossing.Serving{Side: split.Blue, Known: true, Instances: 2, Healthy: 1, Other: 2}
	if got := w.lastStanding(split.Blue); got != want {
		t.Errorf("blue is %+v, want %+v", got, want)
	}
	w.sides[split.Green].view.At = time.Time{}
	if w.lastStanding(split.Blue).Known {
		t.Error("a side that was never read is known")
	}
}

// A proof holds for the instances that it was made with, as long as they are the same.
func TestTheWorldKnowsWhatWasProven(t *testing.T) {
	now := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	w := seen(now, [2][]reading.Health{{}, {reading.Healthy, reading.Healthy}})
	good := proof.Proof{Results: []proof.Result{{Check: "search", Pass: true}}}
	if w.proven(split.Green) {
		t.Error("nobody has proven it")
	}
	if w.Proved(split.Green, good, w.Running(split.Green)); !w.proven(split.Green) || w.proven(split.Blue) {
		t.Error("green is proven, and blue is not")
	}
	list := w.sides[split.Green].view.Instances
	list[0].Started = now.Add(time.Second)
	if w.proven(split.Green) {
		t.Error("one of them was started again")
	}
	w.Proved(split.Green, good, w.Running(split.Green))
	list[1].Running = false
	if w.proven(split.Green) {
		t.Error("one of them has ended")
	}
	w.Proved(split.Green, proof.Proof{Results: []proof.Result{{Check: "search"}}}, w.Running(split.Green))
	if w.proven(split.Green) {
		t.Error("its last proof did not pass")
	}
}

// Strangers are those that a front sends requests to and a plan that names who stands there does not.
func TestTheWorldKnowsStrangers(t *testing.T) {
	now := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	w := seen(now, [2][]reading.Health{{reading.Healthy}, {}})
	for _, at := range []string{"blue0", "elsewhere"} {
		c := reading.Count{Server: reading.Server{Address: at}}
		w.front.reading.Sides[split.Blue].Instances = append(w.front.reading.Sides[split.Blue].Instances, c)
	}
	w.named[split.Blue] = map[string]bool{"blue0": true}
	if got := w.strangers(split.Blue); got != nil {
		t.Errorf("who is started here has no strangers: %v", got)
	}
	w.plan.Parts[0].Stacks[split.Blue].Stands = make([]plan.Stand, 1)
	if got := w.strangers(split.Blue); !slices.Equal(got, []string{"elsewhere"}) {
		t.Errorf("strangers %v", got)
	}
	if !w.lists(split.Blue, "elsewhere") || w.lists(split.Green, "elsewhere") {
		t.Error("the front lists it on blue")
	}
}

package proof

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	core "vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/people/tui/theme"
	"vaiven/lab/testkit"
	"vaiven/lab/tuitest"
)

var now = time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)

// sample is a side with a need that is not reached, and a difference to be accepted.
func sample() keeper.Snapshot {
	s := keeper.Snapshot{View: engine.View{Service: "sailings", Live: split.Blue,
		Parts: []engine.Part{{Name: "search"}, {Name: "berths"}}}}
	s.Crossing = crossing.State{Stage: crossing.Proving, Target: split.Green, Version: "4.4.0"}
	green := &s.Sides[split.Green]
	green.Version = "4.4.0"
	add := func(r core.Result) {
		r.At, r.Since, r.Tries = now.Add(-2*time.Second), now.Add(-8*time.Second), 1
		r.Took, r.History = 12*time.Millisecond, []float64{40, 12, 9, 12}
		s.Proof.Results = append(s.Proof.Results, r)
	}
	for _, part := range []struct {
		name string
		n    int
	}{{"search", 3}, {"berths", 1}} {
		add(core.Result{Part: part.name, Kind: core.KindInstances, Check: "instances", Instance: "green", Pass: true,
			Want: "at least 1", Got: fmt.Sprint(part.n)})
		for n := range part.n {
			name := fmt.Sprintf("green-%s-%d", part.name, n+1)
			green.Instances = append(green.Instances, reading.Condition{
				Instance: reading.Instance{Name: name, Part: part.name, Running: true}, State: reading.Healthy, At: now,
				Since: now.Add(-9 * time.Second),
				Took:  2 * time.Millisecond, History: []float64{3, -1, 2, 2},
			})
			add(core.Result{Part: part.name, Kind: core.KindSmoke, Check: "search", Instance: name, Pass: true,
				Want: "status 200", Got: "status 200"})
			add(core.Result{
				Part: part.name, Kind: core.KindNeed, Check: "fares", Instance: name, Pass: n != 1,
				Want:   "a connection to fares.vessa:5432",
				Got:    "connection refused after 2ms; reached from blue in 3ms",
				Answer: "dial tcp 10.1.0.7:5432:\nconnect: connection refused",
			})
		}
	}
	add(core.Result{Part: "search", Kind: core.KindDifference, Check: "differences", Instance: "green", Ask: true,
		Want: "no unplanned difference", Got: "1: environment REGION"})
	return s
}

func view(w, h int, s keeper.Snapshot) page {
	return page{Model{}, frame.Frame{Theme: theme.New(true), W: w, H: h, S: s, Now: now}}
}

func (m page) shown(t *testing.T) string { return tuitest.Draw(t, m.Model, m.Frame) }

func TestViewFits(t *testing.T) {
	crowd := sample()
	for n := range 60 {
		name := fmt.Sprintf("green-search-%d", n+4)
		crowd.Sides[split.Green].Instances = append(crowd.Sides[split.Green].Instances,
			reading.Condition{Instance: reading.Instance{Name: name, Part: "search"}, State: reading.Starting})
	}
	for name, s := range map[string]keeper.Snapshot{"sample": sample(), "nothing": {}, "crowd": crowd} {
		for _, size := range [][2]int{{142, 38}, {80, 24}, {220, 60}, {40, 10}, {20, 5}, {0, 0}} {
			w, h := size[0], size[1]
			if text := view(w, h, s).shown(t); t.Failed() {
				t.Fatalf("%s:\n%s", name, text)
			}
		}
	}
	for _, size := range [][2]int{{142, 38}, {80, 24}} {
		w, h := size[0], size[1]
		testkit.Golden(t, fmt.Sprintf("proof-%dx%d.txt", w, h), view(w, h, sample()).shown(t)+"\n")
	}
}

func TestTheCursor(t *testing.T) {
	m := view(142, 38, sample())
	at := func() string {
		r, _ := m.Chosen()
		return r.Check + " on " + r.Instance
	}
	if at() != "fares on green-search-2" {
		t.Errorf("at first it stands on %s, want what does not pass", at())
	}
	for _, step := range []struct {
		dx, dy int
		want   string
	}{
		{1, 0, "fares on green-search-3"}, {1, 0, "fares on green-search-3"}, {0, -1, "search on green-search-3"},
		{-9, 0, "search on green-search-1"},
		{0, 99, "fares on green-berths-1"}, {0, -99, "instances on green"},
	} {
		if m.Model = m.Move(step.dx, step.dy); at() != step.want {
			t.Errorf("moved by %d, %d it stands on %s, want %s", step.dx, step.dy, at(), step.want)
		}
	}
	none := view(80, 24, keeper.Snapshot{})
	none.Model = none.Move(1, 1)
	if _, ok := none.Chosen(); ok {
		t.Error("there is nothing to stand on")
	}
}

// The last failing answer can be read to its end.
func TestScroll(t *testing.T) {
	s := sample()
	for n := range s.Proof.Results {
		if !s.Proof.Results[n].Pass && !s.Proof.Results[n].Ask {
			s.Proof.Results[n].Answer = strings.Repeat("a line of the answer\n", 40) + "the end of it"
		}
	}
	m := view(80, 24, s)
	if v := m.shown(t); strings.Contains(v, "the end of it") || !strings.Contains(v, " lines, pgdown") {
		t.Errorf("a long answer is shown as\n%s", v)
	}
	for range 20 {
		scrolled, _ := m.Press(m.Frame, "pgdown")
		m.Model = scrolled.(Model)
	}
	if v := m.shown(t); !strings.Contains(v, "the end of it") {
		t.Errorf("scrolled to the end it is\n%s", v)
	}
}

// The verdict is said in words.
func TestVerdict(t *testing.T) {
	s := sample()
	for n := range s.Proof.Results {
		s.Proof.Results[n].Pass = true
	}
	asks := sample()
	for n := range asks.Proof.Results {
		asks.Proof.Results[n].Pass = !asks.Proof.Results[n].Ask
	}
	accepted := asks
	accepted.Crossing.Accepted = []core.Finding{asks.Proof.Results[len(asks.Proof.Results)-1].Finding()}
	proving := s
	proving.Proving = true
	for want, s := range map[string]keeper.Snapshot{
		"not proven   ": sample(), "proven   ": s, "1 to be accepted   ": asks,
		"proven, with what was accepted   ": accepted,
		"being proven   ":                   proving, "not proven yet": {},
	} {
		if got, _ := view(142, 38, s).verdict(); !strings.HasPrefix(got, want) {
			t.Errorf("the verdict is %q, want %q", got, want)
		}
	}
}

package guard

import (
	"math"
	"slices"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

var start = time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)

// watch is a service whose front is read every second, crossing from blue to green.
type watch struct {
	t       *testing.T
	guards  *Guards
	series  figures.Series
	now     time.Time
	since   time.Time
	counts  [2]reading.Count
	lost    [2]int64
	clients [2]reading.Clients
	share   split.Share // on green, since it gets anything
	facts   func(*Facts)
	last    []Status
}

func newWatch(t *testing.T, rules ...plan.Guard) *watch {
	w := &watch{t: t, guards: New(rules, Terms{Alpha: 0.01, Seconds: 2000, Blocks: 2000}), now: start, share: 1000,
		facts: func(*Facts) {}}
	for side := range w.counts {
		w.counts[side].Server = reading.Server{Name: split.Side(side).String() + "-1",
			Address: "10.1.0." + split.Side(side).String()}
	}
	w.pass(0, [2]answers{})
	return w
}

// answers are those of a second.
type answers struct {
	all, failing, slow int64
	timed              bool
}

// pass lets seconds pass with the same answers in each.
func (w *watch) pass(seconds int, sides [2]answers) []Status {
	w.t.Helper()
	for range max(seconds, 1) {
		if seconds > 0 {
			w.now = w.now.Add(time.Second)
		}
		share := w.share
		if w.since.IsZero() {
			share = 0
		}
		r := reading.Front{At: w.now, Split: reading.Split{Share: share},
			Tells: reading.Capabilities{Counts: true, Times: true, Waits: true, Both: true}}
		for side, a := range sides {
			c := &w.counts[side]
			c.Requests += a.all
			c.Status[5] += a.failing
			if a.timed {
				h, err := c.Histogram()
				if err != nil {
					w.t.Fatal(err)
				}
				for n := range a.all {
					took := 10 * time.Millisecond
					if n < a.slow {
						took = time.Second
					}
					reading.Record(h, took)
				}
				c.Latency = reading.Encode(h)
			}
			r.Sides[side] = reading.Side{Instances: []reading.Count{*c}, Lost: w.lost[side], Clients: w.clients[side]}
		}
		if err := w.series.Add(r); err != nil {
			w.t.Fatal(err)
		}
		f := Facts{Now: w.now, Since: w.since, Target: split.Green, Share: share, Series: &w.series, FrontRead: true,
			SideRead: true, Wanted: 2, Tells: reading.Capabilities{Counts: true, Times: true, Waits: true, Both: true},
			Condition: []reading.Condition{{Instance: reading.Instance{Name: "green-1"}, State: reading.Healthy},
				{Instance: reading.Instance{Name: "green-2"}, State: reading.Healthy}},
			Ill: func(c reading.Condition) bool { return c.State != reading.Healthy }}
		w.facts(&f)
		w.last = w.guards.Evaluate(f)
	}
	return w.last
}

// is holds the first guard to a state.
func (w *watch) is(what string, state State, lack Gap) Status {
	w.t.Helper()
	s := w.last[0]
	if s.State != state || s.Gap != lack {
		w.t.Errorf("%s: it is %s, for want of %q; want %s, %q. %+v", what, s.State, s.Gap, state, lack, s)
	}
	return s
}

var failing = plan.Guard{Name: "failing", Watch: plan.Failing, Margin: 0.01, Find: 0.015, Then: plan.RollBack}

func TestComparing(t *testing.T) {
	w := newWatch(t, failing)
	w.pass(10, [2]answers{{all: 100}, {}})
	w.is("before the target gets anything", Idle, "")
	w.since = w.now
	w.pass(1, [2]answers{{all: 90}, {all: 10}})
	w.is("at first", Unknown, TooFew)
	w.pass(30, [2]answers{{all: 90}, {all: 10}})
	if s := w.is("both alike", Clear, ""); s.Trial.Of != 310 || s.Baseline.Of != 2790 {
		t.Errorf("it compares %+v with %+v", s.Trial, s.Baseline)
	}
	if s := w.last[0]; s.Excluded > 0.2 || s.FindIn <= 0 || s.Unit != Requests || s.Needed < 2 {
		t.Errorf("after 300 good answers it says %+v", s)
	}
	w.pass(100, [2]answers{{all: 90}, {all: 10}})
	if s := w.last[0]; s.Excluded > s.Find || s.FindIn != 0 || s.Range.High > s.Find {
		t.Errorf("after 1300 good answers it says %+v", s)
	}
	for k := 0; w.last[0].State == Clear && k < 60; k++ {
		w.pass(1, [2]answers{{all: 90}, {all: 10, failing: 1}})
	}
	if s := w.is("a little worse", Watching, ""); s.Sure < 0.5 || s.Evidence >= s.Needed || s.More <= 0 {
		t.Errorf("it is %v sure, %v of %v, after %v more", s.Sure, s.Evidence, s.Needed, s.More)
	}
	w.pass(5, [2]answers{{all: 90}, {all: 10, failing: 5}})
	if s := w.is("much worse", Tripped, ""); s.Level() != s.Trial.Rate() || len(s.Sureness) == 0 || s.Range.Low <= 0 ||
		s.Evidence < s.Needed {
		t.Errorf("tripped at %v, certainties %v: %+v", s.Level(), s.Sureness, s)
	}
	// What cannot be read is not clear.
	if s := w.last[0]; len(s.Sureness) != surenessLength {
		t.Errorf("it shows %d certainties", len(s.Sureness))
	}
	w.facts = func(f *Facts) { f.FrontRead = false }
	w.pass(1, [2]answers{{all: 90}, {all: 10}})
	w.is("not read", Unknown, NotRead)
}

// arrive has all requests move to the target, with what the live side did since a time kept.
func (w *watch) arrive(since time.Time) []crossing.Baseline {
	f := Facts{Now: w.now, Since: w.since, Target: split.Green, Series: &w.series,
		Tells: reading.Capabilities{Counts: true, Times: true}}
	w.facts(&f)
	w.share = split.Whole
	list := w.guards.Baselines(f, since)
	if w.since.IsZero() {
		w.since = w.now
	}
	w.facts = func(f *Facts) { f.Share, f.Changed, f.Baselines = split.Whole, w.since, list }
	return list
}

// Once all traffic has moved, what the live side did last is the baseline, whole and for as
// long as it takes; without any there is no verdict.
func TestTheBaseline(t *testing.T) {
	w := newWatch(t, failing)
	w.pass(10, [2]answers{{all: 100, failing: 5}, {}})
	w.arrive(time.Time{})
	w.pass(90, [2]answers{{}, {all: 100, failing: 5}})
	if s := w.is("all at once, as bad as before", Clear, ""); s.Baseline != (evidence.Count{Bad: 50, Of: 1000}) ||
		s.AsOf != start.Add(10*time.Second) {
		t.Errorf("the baseline is %+v of %v", s.Baseline, s.AsOf)
	}
	w.pass(15, [2]answers{{}, {all: 100, failing: 12}})
	if s := w.is("and then worse", Tripped, ""); s.Then != plan.Freeze {
		t.Errorf("against what was it does more than freeze: %+v", s)
	}
	w.pass(15, [2]answers{{}, {all: 100, failing: 40}})
	if s := w.is("and then far outside", Tripped, ""); s.Then != plan.RollBack {
		t.Errorf("far outside it only freezes: %+v", s)
	}
	w = newWatch(t, failing)
	w.arrive(time.Time{})
	w.pass(30, [2]answers{{}, {all: 100, failing: 20}})
	w.is("with nothing to compare with", Unknown, NoBaseline)
	w = newWatch(t, failing)
	w.since = w.now
	w.pass(30, [2]answers{{all: 90, failing: 90}, {all: 10, failing: 10}})
	w.is("where nothing could be worse", Unknown, NoBaseline)
	// It is what the live side did on the last leg, however long that was; too little there
	// does not take the place of what is known.
	w = newWatch(t, failing)
	w.pass(1, [2]answers{{all: 100}, {}})
	w.since = w.now
	w.pass(200, [2]answers{{all: 10, failing: 1}, {all: 10}})
	list := w.arrive(w.since)
	if len(list) != 1 || list[0].Count != (evidence.Count{Bad: 200, Of: 2000}) {
		t.Errorf("the last leg gives %+v", list)
	}
	for of, want := range map[int64]int64{19: 2000, 20: 20} {
		w.pass(1, [2]answers{{all: of}, {all: 10}})
		f := Facts{Now: w.now, Since: w.since, Target: split.Green, Series: &w.series, Baselines: list}
		if again := w.guards.Baselines(f, w.now.Add(-time.Second)); len(again) != 1 || again[0].Count.Of != want {
			t.Errorf("with %d answers more it is %+v", of, again)
		}
	}
	w.facts = func(f *Facts) { f.First = true }
	w.pass(1, [2]answers{{}, {all: 100, failing: 100}})
	w.is("a first release", Unknown, OnlySide)
	if list := w.guards.Baselines(Facts{Now: w.now, Series: &w.series, First: true}, w.since); len(list) > 0 {
		t.Errorf("a first release has the baseline %+v", list)
	}
}

// What was usual in other hours widens what a side that stands alone is held against.
func TestTheDaysBaseline(t *testing.T) {
	for _, hours := range [][]evidence.Count{nil, {{Bad: 40, Of: 4000}, {Bad: 1200, Of: 20_000}, {Bad: 30, Of: 3000}}} {
		w := newWatch(t, failing)
		w.pass(30, [2]answers{{all: 100, failing: 1}, {}})
		w.facts = func(f *Facts) { f.Hours = hours }
		list := w.arrive(time.Time{})
		w.pass(90, [2]answers{{}, {all: 100, failing: 5}})
		want := State(Tripped)
		if hours != nil {
			want = Clear
		}
		if s := w.last[0]; s.State != want || len(list) != 1 || (list[0].High > 0.06) != (hours != nil) {
			t.Errorf("with hours %v it is %s, against %+v", hours, s.State, list)
		}
	}
}

// A request that hangs, and one that its client gave up, are bad answers.
func TestHangingAndLeft(t *testing.T) {
	slow := failing
	slow.Name, slow.Watch, slow.After = "over 250ms", plan.Slow, 250*time.Millisecond
	for _, rule := range []plan.Guard{failing, slow} {
		w := newWatch(t, rule)
		w.since = w.now
		w.pass(20, [2]answers{{all: 90, timed: true}, {all: 10, timed: true}})
		w.is("all well", Clear, "")
		w.counts[split.Green].Waiting = []int64{60, 50, 40, 40, 40} // longer than 250ms: 50, than two seconds: 40
		w.pass(1, [2]answers{{all: 90, timed: true}, {}})
		want := evidence.Count{Bad: 40, Of: 240}
		if rule.Watch == plan.Slow {
			want = evidence.Count{Bad: 50, Of: 250}
		}
		if s := w.is("some hang", Tripped, ""); s.Trial != want {
			t.Errorf("%s counts %+v, want %+v", s.Name, s.Trial, want)
		}
		w.counts[split.Green].Waiting = nil
		w.pass(1, [2]answers{{all: 90, timed: true}, {all: 50, timed: true}})
		if s := w.is("they were answered after all, and hung", Tripped, ""); s.Trial.Bad != 0 {
			t.Errorf("%s still counts %+v", s.Name, s.Trial)
		}
	}
	w := newWatch(t, failing)
	w.since = w.now
	w.pass(20, [2]answers{{all: 90}, {all: 10}})
	w.counts[split.Green].Left += 30
	w.pass(1, [2]answers{{all: 90}, {}})
	if s := w.is("clients gave up", Tripped, ""); s.Trial != (evidence.Count{Bad: 30, Of: 240 - 10}) {
		t.Errorf("it counts %+v", s.Trial)
	}
}

// How sure it is, is kept now and then; a reading that was missing forgets no verdict.
func TestBetweenReadings(t *testing.T) {
	w := newWatch(t, failing)
	w.pass(10, [2]answers{{all: 100}, {}})
	w.since = w.now
	seconds := 6 * int(surenessEvery/time.Second)
	w.pass(seconds, [2]answers{{all: 90}, {all: 10}})
	if n := len(w.last[0].Sureness); n != 6 {
		t.Errorf("in %d seconds it kept %d certainties", seconds, n)
	}
	w.facts = func(f *Facts) { f.FrontRead = false }
	w.pass(1, [2]answers{})
	w.is("not read", Unknown, NotRead)
	w.facts = func(*Facts) {}
	w.pass(1, [2]answers{})
	w.is("read again, with nothing new", Clear, "")
}

// A slot that is used again, and a counter that falls, count nothing.
func TestOldCounters(t *testing.T) {
	w := newWatch(t, failing)
	w.pass(10, [2]answers{{all: 100}, {}})
	w.since = w.now
	w.counts[split.Green].Address = "10.1.0.9" // another instance, with a history
	w.counts[split.Green].Requests, w.counts[split.Green].Status[5] = 10_000, 5_000
	w.pass(20, [2]answers{{all: 90}, {all: 10}})
	w.is("a history", Clear, "")
	w.counts[split.Green].Requests, w.counts[split.Green].Status[5] = 100, 90
	w.pass(5, [2]answers{{all: 90}, {all: 10}})
	w.is("began anew", Clear, "")
}

func TestSlow(t *testing.T) {
	slow := failing
	slow.Name, slow.Watch, slow.After = "over 250ms", plan.Slow, 250*time.Millisecond
	w := newWatch(t, slow)
	w.pass(10, [2]answers{{all: 100, timed: true}, {}})
	w.since = w.now
	w.pass(20, [2]answers{{all: 90, timed: true}, {all: 10, slow: 3, timed: true}})
	w.is("three of ten are slow", Tripped, "")
	w = newWatch(t, slow)
	w.facts = func(f *Facts) { f.Tells.Times = false }
	w.pass(10, [2]answers{{all: 100}, {}})
	w.since = w.now
	w.pass(20, [2]answers{{all: 90}, {all: 10}})
	w.is("a front without times", Unknown, NotTimed)
	w = newWatch(t, slow)
	w.pass(10, [2]answers{{all: 100}, {}})
	w.arrive(time.Time{})
	w.pass(20, [2]answers{{}, {all: 100, slow: 30, timed: true}})
	w.is("answers without times are no baseline", Unknown, NoBaseline)
}

func TestCounting(t *testing.T) {
	lost := plan.Guard{Name: "lost", Watch: plan.Lost, Then: plan.RollBack, Most: 2}
	w := newWatch(t, lost)
	w.since = w.now
	w.pass(2, [2]answers{{all: 90}, {all: 10}})
	w.is("none", Clear, "")
	w.lost = [2]int64{7, 2}
	w.pass(1, [2]answers{{all: 90}, {all: 10}})
	w.is("as many as allowed, on green", Watching, "")
	w.facts = func(f *Facts) { f.FrontRead = false }
	w.pass(1, [2]answers{{all: 90}, {all: 10}})
	w.is("not read", Unknown, NotRead)
	w.lost[split.Green] = 3
	w.pass(1, [2]answers{{all: 90}, {all: 10}})
	if s := w.is("too many, when it was read last", Tripped, ""); s.Level() != 3 {
		t.Errorf("it tripped at %v", s.Level())
	}

	w = newWatch(t, plan.Guard{Name: "unhealthy", Watch: plan.Unhealthy, Then: plan.Freeze})
	w.since = w.now
	w.pass(1, [2]answers{})
	w.is("all healthy", Clear, "")
	w.facts = func(f *Facts) { f.Condition[1].State, f.Condition[1].Said = reading.Failing, "status 503" }
	w.pass(1, [2]answers{})
	if s := w.is("one ill", Tripped, ""); s.First.Name != "green-2" || s.First.Said != "status 503" || s.Missing != 0 {
		t.Errorf("it names %+v", s)
	}
	w.facts = func(f *Facts) { f.Condition = f.Condition[:1]; f.SideRead = false }
	w.pass(1, [2]answers{})
	if s := w.is("one missing, in an old reading", Tripped, ""); s.Missing != 1 || s.Wanted != 2 {
		t.Errorf("it says %+v", s)
	}
	w.facts = func(f *Facts) { f.SideRead = false }
	w.pass(1, [2]answers{})
	w.is("well, in an old reading", Unknown, NotRead)
	off := plan.Guard{Name: "off", Watch: plan.Failing, Off: true}
	w = newWatch(t, off)
	w.since = w.now
	w.pass(30, [2]answers{{all: 90}, {all: 10, failing: 10}})
	w.is("switched off", Off, "")
}

// The gravest is heeded; one that was overruled is quiet up to the level that was seen.
func TestGravest(t *testing.T) {
	tripped := func(name string, then plan.Action, watch plan.Watch, bad, of int64) Status {
		return Status{Name: name, Then: then, Watch: watch, State: Tripped, Trial: evidence.Count{Bad: bad, Of: of},
			Margin: 0.01}
	}
	list := []Status{
		{Name: "calm", State: Clear, Then: plan.RollBack}, tripped("first freeze", plan.Freeze, plan.Unhealthy, 1, 0),
		tripped("failing", plan.RollBack, plan.Failing, 100, 1000),
		tripped("lost", plan.RollBack, plan.Lost, 5, 0),
	}
	names := func(overruled ...crossing.Overruling) string {
		a, ok := Gravest(list, split.Green, overruled)
		if ok && a.Side != split.Green {
			t.Errorf("the alarm is about %v", a.Side)
		}
		return a.Guard
	}
	if a, ok := Gravest(list[1:2], split.Green, nil); !ok || a.Guard != "first freeze" {
		t.Errorf("alone it is %+v, %v", a, ok)
	}
	if a, _ := Gravest([]Status{list[1], tripped("second freeze", plan.Freeze, plan.Lost, 9, 0)}, split.Green,
		nil); a.Guard != "first freeze" {
		t.Errorf("of two alike it is %q", a.Guard)
	}
	if got := names(); got != "failing" {
		t.Errorf("the gravest is %q", got)
	}
	if got := names(crossing.Overruling{Guard: "failing", Level: 0.1, Beyond: 0.12}); got != "lost" {
		t.Errorf("after one was overruled it is %q", got)
	}
	both := []crossing.Overruling{{Guard: "failing", Level: 0.1, Beyond: 0.12}, {Guard: "lost", Level: 5}}
	if got := names(both...); got != "first freeze" {
		t.Errorf("after both were overruled it is %q", got)
	}
	all := append(slices.Clone(both), crossing.Overruling{Guard: "first freeze", Level: 1})
	if got := names(all...); got != "" {
		t.Errorf("after all were overruled it is %q", got)
	}
	list[3].Trial.Bad = 6
	if got := names(all...); got != "lost" {
		t.Errorf("one more lost: %q", got)
	}
	list[3].Trial.Bad = 5
	list[2].Margin = 0.12 // it has begun anew, for what is worse than was seen
	list[2].Trial.Bad = 900
	if a, ok := Gravest(list, split.Green, all); !ok || a.Guard != "failing" || a.Level != 0.9 ||
		a.Then != plan.RollBack {
		t.Errorf("much worse: %+v", a)
	}
}

// A queue's oldest message has waited for too long, or nearly, or it is not known.
func TestWaits(t *testing.T) {
	g := New([]plan.Guard{{Name: "waits over 30s", Watch: plan.Waits, Longest: 30 * time.Second, Then: plan.RollBack}},
		Terms{})
	for what, c := range map[string]struct {
		queue *reading.Queue
		read  bool
		state State
		lack  Gap
	}{
		"a queue that moves":    {&reading.Queue{Oldest: 2 * time.Second}, true, Clear, ""},
		"one that hardly does":  {&reading.Queue{Oldest: 20 * time.Second}, true, Watching, ""},
		"one that stands still": {&reading.Queue{Oldest: 31 * time.Second}, true, Tripped, ""},
		"a front without any":   {nil, true, Unknown, NotCounted},
		"a front not read":      {&reading.Queue{Oldest: time.Hour}, false, Unknown, NotRead},
	} {
		s := g.Evaluate(Facts{Now: start, Since: start, Target: split.Green, Series: new(figures.Series),
			FrontRead: c.read, Queue: c.queue})[0]
		if s.State != c.state || s.Gap != c.lack || s.After != 30*time.Second {
			t.Errorf("%s: %+v", what, s)
		}
		if c.state == Tripped && s.Level() != 31 {
			t.Errorf("%s is as bad as %v", what, s.Level())
		}
	}
}

// Without a bound it is three times what is usual on the live side, and half a minute at the least.
func TestWaitsAsUsual(t *testing.T) {
	g := New([]plan.Guard{{Name: "waits longer than usual", Watch: plan.Waits, Then: plan.Freeze}}, Terms{})
	for what, c := range map[string]struct {
		usual, oldest, after time.Duration
		known, first         bool
		state                State
		lack                 Gap
	}{
		"short":                     {time.Second, 20 * time.Second, 30 * time.Second, true, false, Watching, ""},
		"longer than half a minute": {time.Second, 31 * time.Second, 30 * time.Second, true, false, Tripped, ""},
		"a live side that is late":  {time.Minute, 100 * time.Second, 3 * time.Minute, true, false, Watching, ""},
		"three times as late":       {time.Minute, 181 * time.Second, 3 * time.Minute, true, false, Tripped, ""},
		"a live side never seen":    {0, time.Hour, 0, false, false, Unknown, NotCounted},
		"no live side":              {0, time.Hour, 0, false, true, Unknown, OnlySide},
	} {
		var s figures.Series
		for n := range int64(2) {
			r := reading.Front{At: start.Add(time.Duration(n) * time.Second)}
			r.Sides[split.Green].Queue = &reading.Queue{}
			if c.known {
				r.Sides[split.Blue] = reading.Side{Queue: &reading.Queue{Oldest: c.usual},
					Instances: []reading.Count{{Server: reading.Server{Name: "blue-1"}, Requests: n}}}
			}
			if err := s.Add(r); err != nil {
				t.Fatal(err)
			}
		}
		is := g.Evaluate(Facts{Now: start, Since: start, Target: split.Green, Series: &s, First: c.first,
			FrontRead: true, Queue: &reading.Queue{Oldest: c.oldest}})[0]
		if is.State != c.state || is.Gap != c.lack || is.After != c.after {
			t.Errorf("%s: %+v", what, is)
		}
	}
}

// How many instances may be ill is a part of the side, and what is ill on the live side at the same time is held
// against it.
func TestHowManyMayBeIll(t *testing.T) {
	for _, c := range []struct {
		wanted, ill int
		rule        plan.Guard
		beside      float64
		tripped     bool
	}{
		{3, 1, plan.Guard{Part: 0.1}, 0, true}, {9, 1, plan.Guard{Part: 0.1}, 0, true},
		{10, 1, plan.Guard{Part: 0.1}, 0, false}, {100, 10, plan.Guard{Part: 0.1}, 0, false},
		{100, 11, plan.Guard{Part: 0.1}, 0, true}, {100, 1, plan.Guard{}, 0, true},
		{100, 3, plan.Guard{Most: 3}, 0, false},
		{3, 1, plan.Guard{Part: 0.1}, 1.0 / 3, false}, {3, 2, plan.Guard{Part: 0.1}, 1.0 / 3, true},
		{3, 1, plan.Guard{Part: 0.1}, 1, true},
	} {
		c.rule.Watch = plan.Unhealthy
		f := Facts{Now: start, Since: start, Target: split.Green, Series: new(figures.Series), SideRead: true,
			Wanted: c.wanted, Beside: c.beside,
			Ill: func(c reading.Condition) bool { return c.State != reading.Healthy }}
		for n := range c.wanted {
			i := reading.Condition{State: reading.Healthy}
			if n < c.ill {
				i.State = reading.Failing
			}
			f.Condition = append(f.Condition, i)
		}
		if s := New([]plan.Guard{c.rule}, Terms{Alpha: 0.01}).Evaluate(f)[0]; (s.State == Tripped) != c.tripped {
			t.Errorf("%d of %d ill, %+v, %.2f beside: it is %v", c.ill, c.wanted, c.rule, c.beside, s.State)
		}
	}
}

// A guard that will have nothing to compare with once all requests go to the target says so while there is a live side.
func TestNoPastIsSaidBefore(t *testing.T) {
	for _, c := range []struct {
		bad    int64 // of a hundred answers of the live side a second
		noPast bool
	}{{0, false}, {5, false}, {60, true}} {
		w := newWatch(t, failing)
		w.pass(60, [2]answers{{all: 100, failing: c.bad}, {}})
		w.since = w.now
		w.pass(120, [2]answers{{all: 90, failing: c.bad * 9 / 10}, {all: 10, failing: c.bad / 10}})
		if s := w.last[0]; s.NoPast != c.noPast {
			t.Errorf("with %d %% bad it says %v: %+v", c.bad, s.NoPast, s)
		}
		if w.share = split.Whole; w.pass(2, [2]answers{{}, {all: 100}})[0].NoPast {
			t.Errorf("with %d %% bad it says so with nothing beside it", c.bad)
		}
	}
}

// A guard that a person has overruled may be wrong half as often as before, and again by half with the next word: all
// that it may be wrong about is spent once.
func TestAnOverruledGuardHasHalfOfItsError(t *testing.T) {
	w := newWatch(t, failing)
	w.pass(10, [2]answers{{all: 100}, {}})
	w.since = w.now
	needed := w.pass(5, [2]answers{{all: 90}, {all: 10}})[0].Needed
	var ruled []crossing.Overruling
	for n := range 3 {
		ruled = []crossing.Overruling{{Guard: "failing", Level: 0.1 * float64(n+1), Beyond: 0.1}}
		w.facts = func(f *Facts) { f.Overruled = ruled }
		now := w.pass(5, [2]answers{{all: 90}, {all: 10}})[0].Needed
		if want := needed + math.Log10(2); math.Abs(now-want) > 1e-9 {
			t.Errorf("after word %d it needs 10^%.3f, and needed 10^%.3f", n+1, now, needed)
		}
		needed = now
	}
}

package guard

import (
	"cmp"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// What hits both sides while the share changes is held against neither: it is not that green got
// more of the bad time.
func TestAnIncidentAcrossAChange(t *testing.T) {
	w := newWatch(t, failing)
	w.pass(20, [2]answers{{all: 100}, {}})
	w.since, w.share = w.now, 500
	w.pass(60, [2]answers{{all: 95}, {all: 5}})
	w.pass(5, [2]answers{{all: 95, failing: 28}, {all: 5, failing: 2}})
	w.share = 5000
	changed := w.now
	w.facts = func(f *Facts) { f.Changed = changed }
	for range 10 {
		w.pass(1, [2]answers{{all: 50, failing: 15}, {all: 50, failing: 15}})
		w.is("both are hit", Clear, "")
	}
	w.pass(60, [2]answers{{all: 50}, {all: 50}})
	if s := w.is("and well again", Clear, ""); s.Trial.Rate() <= s.Baseline.Rate() || s.Difference > 0.005 {
		t.Errorf("all in all %+v and %+v failed, and the sides differ by %v", s.Baseline, s.Trial, s.Difference)
	}
}

// What a change of the share, or of a side's instances, falls into is not compared.
func TestMixedTimesAreNotCompared(t *testing.T) {
	for _, c := range []struct {
		name  string
		spoil func(*watch)
	}{
		{"the share", func(w *watch) { w.share = 2000 }},
		{"an instance of blue's", func(w *watch) { w.counts[split.Blue].Address = "10.1.0.7" }},
	} {
		w := newWatch(t, failing)
		w.pass(20, [2]answers{{all: 100}, {}})
		w.since = w.now
		w.pass(30, [2]answers{{all: 90}, {all: 10}})
		before := w.guards.Hand().Evidence[0].Near[0].Blocks
		c.spoil(w)
		w.pass(1, [2]answers{{all: 90}, {all: 50, failing: 50}})
		if after := w.guards.Hand().Evidence[0].Near[0].Blocks; after != before {
			t.Errorf("%s: what it fell into was compared", c.name)
		}
	}
}

// Where nobody counts clients that stay together, a guard calls a person and does not go back by itself.
func TestClientsThatNobodyCounts(t *testing.T) {
	w := newWatch(t, failing)
	w.facts = func(f *Facts) { f.Together = true }
	w.pass(20, [2]answers{{all: 100}, {}})
	w.since = w.now
	w.pass(40, [2]answers{{all: 90}, {all: 10, failing: 4}})
	if s := w.is("nobody counts clients", Tripped, ""); s.Then != plan.Freeze || !s.Eased || s.Unit != Requests {
		t.Errorf("%+v", s)
	}
}

// crowd plays a block in which clients ask on both sides, so many of the new ones for the first time, and some of
// those that are at risk turn bad.
func (w *watch) crowd(blue, green, came, bad int64) {
	for side, n := range [2]int64{blue, green} {
		c := &w.clients[side]
		if c.Asked, c.Good = c.Asked+n, c.Good+n; split.Side(side) == split.Blue {
			c.Seen += n
		} else {
			c.Seen, c.Good = c.Seen+came, c.Good-bad
		}
		turned, err := reading.TurnedOf(c.Turns)
		if err != nil {
			w.t.Fatal(err)
		}
		for grade := range turned {
			of := &turned[grade][0][0]
			if of.Of += n; split.Side(side) == split.Green {
				of.Bad += bad
			}
		}
		c.Turns = turned.Bytes()
	}
	w.pass(5, [2]answers{{all: blue}, {all: green, failing: bad}})
}

// Where the front counts clients that stay together, what counts is how many turn bad, whenever that begins and however
// many requests of theirs fail.
func TestClientsThatStayTogether(t *testing.T) {
	begin := func() *watch {
		w := newWatch(t, failing)
		w.facts = func(f *Facts) { f.Together, f.Tells.Clients = true, true }
		for range 20 {
			w.crowd(90, 0, 0, 0)
		}
		w.since = w.now
		return w
	}
	w := begin()
	w.crowd(90, 10, 10, 0)
	if s := w.is("ten clients", Unknown, FewClients); s.Clients != 10 {
		t.Errorf("%+v", s)
	}
	w.crowd(90, 60, 60, 0)
	for range 240 {
		w.crowd(90, 60, 0, 0)
	}
	s := w.is("none turns bad", Clear, "")
	if s.Then != plan.RollBack || s.Eased || s.Unit != Clients || s.Clients != 70 || s.ClientsNeeded != 90 {
		t.Errorf("%+v", s)
	}
	for n := 0; w.last[0].State != Tripped; n++ {
		if n > 4 {
			t.Fatalf("a fault that begins after twenty minutes is not found: %+v", w.last[0])
		}
		w.crowd(90, 60, 0, 6)
	}

	// Clients that are always bad have turned bad once: no more evidence comes of them.
	w = begin()
	w.crowd(90, 60, 60, 1)
	for range 240 {
		w.pass(5, [2]answers{{all: 90}, {all: 60, failing: 20}})
	}
	if s := w.last[0]; s.State == Tripped {
		t.Errorf("one client that asks again and again: %+v", s)
	}

	// With too few clients for any evidence, a route stops where nobody has a good answer.
	w = begin()
	for n := range int64(3) {
		c := &w.clients[split.Green]
		c.Seen, c.Asked = c.Seen+1-min(n, 1), c.Asked+1
		w.clients[split.Blue].Asked, w.clients[split.Blue].Good = 90*(n+1), 90*(n+1)
		w.pass(5, [2]answers{{all: 90}, {all: 5, failing: 5}})
	}
	if s := w.last[0]; s.State != Tripped || s.Then != plan.Freeze || s.Sure > 0.5 {
		t.Errorf("one client has no good answer: %+v", s)
	}
}

// What instances answer slowly while they warm up is not held against them where the plan gives them time.
func TestSettling(t *testing.T) {
	for _, settle := range []time.Duration{0, 30 * time.Second} {
		rule := plan.Guard{Name: "slow", Watch: plan.Slow, After: 250 * time.Millisecond, Margin: 0.02, Find: 0.04,
			Settle: settle, Then: plan.RollBack}
		w := newWatch(t, rule)
		cold := [2]answers{{all: 90, timed: true}, {all: 10, slow: 5, timed: true}}
		w.pass(20, [2]answers{{all: 100, timed: true}, {}})
		w.since = w.now
		w.pass(25, cold)
		if s := w.last[0]; (s.State == Tripped) != (settle == 0) {
			t.Errorf("with %v to settle: %+v", settle, s)
		}
		w.pass(60, [2]answers{{all: 90, timed: true}, {all: 10, timed: true}})
		w.pass(100, cold)
		w.is("slow again later", Tripped, "")
	}
}

// After a person has gone on in spite of it, a guard is heard again for what is worse than was
// seen, and may be wrong about half as much.
func TestOverruled(t *testing.T) {
	w := newWatch(t, failing)
	w.pass(20, [2]answers{{all: 1000}, {}})
	w.since = w.now
	w.pass(40, [2]answers{{all: 900}, {all: 100, failing: 5}})
	s := w.is("five of a hundred fail", Tripped, "")
	a, _ := Gravest(w.last, split.Green, nil)
	if a.Worst != s.Range.High || a.Worst < 0.05 || a.Worst > 0.08 {
		t.Errorf("it may be worse by %v", a.Worst)
	}
	w.facts = func(f *Facts) {
		f.Overruled = []crossing.Overruling{{Guard: "failing", Level: a.Level, Beyond: a.Worst}}
	}
	w.pass(120, [2]answers{{all: 900}, {all: 100, failing: 5}})
	if again := w.is("it stays so", Clear, ""); again.Needed < s.Needed+0.29 || again.Margin != a.Worst {
		t.Errorf("it needs %v after %v, beyond %v", again.Needed, s.Needed, again.Margin)
	}
	w.pass(20, [2]answers{{all: 900}, {all: 100, failing: 20}})
	w.is("it gets worse", Tripped, "")
}

// Guards that go on for others know what those knew; those that begin in the middle may be wrong
// about half of what is left.
func TestGoingOnForOthers(t *testing.T) {
	w := newWatch(t, failing)
	w.pass(20, [2]answers{{all: 100}, {}})
	w.since = w.now
	w.pass(20, [2]answers{{all: 90}, {all: 10, failing: 1}})
	before := w.last[0]
	data, err := json.Marshal(w.guards.Hand())
	var m Memory
	if err != nil || json.Unmarshal(data, &m) != nil {
		t.Fatalf("it cannot be written: %v", err)
	}
	next := New([]plan.Guard{failing}, Terms{Alpha: 0.01, Seconds: 2000, Blocks: 2000})
	next.Remember(m)
	w.guards = next
	w.pass(0, [2]answers{})
	if s := w.last[0]; s.Evidence != before.Evidence || s.Excluded != before.Excluded ||
		s.Difference != before.Difference {
		t.Errorf("handed over are %v, %v, %v; it goes on with %v, %v, %v", before.Evidence, before.Excluded,
			before.Difference, s.Evidence, s.Excluded, s.Difference)
	}
	w.guards = New([]plan.Guard{failing}, Terms{Alpha: 0.01, Seconds: 2000, Blocks: 2000, Restarts: 2})
	w.pass(0, [2]answers{})
	if s := w.last[0]; s.Needed < before.Needed+0.6 {
		t.Errorf("begun twice in the middle, it needs %v after %v", s.Needed, before.Needed)
	}
	next.Remember(Memory{Evidence: make([]*Evidence, 3)}) // of another plan
	if next.Hand().Evidence[0] == nil {
		t.Error("it took over what another plan's guards knew")
	}
}

// Slower than usual is slower than the live side was, at any of several bounds.
func TestSlowerThanUsual(t *testing.T) {
	usual := plan.Guard{Name: "slower than usual", Watch: plan.Slow, Margin: 0.02, Find: 0.05, Then: plan.RollBack}
	w := newWatch(t, usual)
	w.pass(2, [2]answers{{all: 100, timed: true}, {}})
	w.since = w.now
	w.pass(1, [2]answers{{all: 90, timed: true}, {all: 10, timed: true}})
	if s := w.is("too few to know what is usual", Unknown, NoBaseline); s.Trial.Of+s.Baseline.Of > 0 {
		t.Errorf("it counts %+v and %+v by no bound", s.Trial, s.Baseline)
	}
	w = newWatch(t, usual)
	w.pass(30, [2]answers{{all: 100, slow: 2, timed: true}, {}})
	w.since = w.now
	w.pass(60, [2]answers{{all: 90, slow: 2, timed: true}, {all: 10, timed: true}})
	if s := w.is("as usual", Clear, ""); s.After <= 0 || len(w.guards.Hand().Evidence[0].Bounds) < 2 {
		t.Errorf("%+v", s)
	}
	w.pass(30, [2]answers{{all: 90, slow: 2, timed: true}, {all: 10, slow: 2, timed: true}})
	if s := w.is("two of ten take a second", Tripped, ""); s.After < 10*time.Millisecond || s.After > time.Second {
		t.Errorf("it is slower than %v", s.After)
	}
}

// A leg is sure when the guards on what users are answered are; where those can see nothing, it is
// the door's word that counts.
func TestUnsure(t *testing.T) {
	good := Status{Name: "failing", Watch: plan.Failing, State: Clear, Find: 0.01, Excluded: 0.01}
	slow := Status{Name: "slow", Watch: plan.Slow, State: Clear, Find: 0.04, Excluded: 0.1, FindIn: time.Minute}
	door := Status{Name: "door", Watch: plan.Door, State: Clear, Find: 0.1, Excluded: 0.3}
	never := Status{Name: "slow", Watch: plan.Slow, State: Unknown, Gap: NotTimed, Find: 0.04}
	lost := Status{Name: "lost", Watch: plan.Lost, State: Clear}
	off := Status{Name: "off", Watch: plan.Failing, State: Off}
	uncounted := Status{Name: "failing", Watch: plan.Failing, State: Unknown, Gap: NotCounted, Find: 0.01}
	for _, c := range []struct {
		name string
		list []Status
		want string
	}{
		{"all sure", []Status{good, never, lost, off, door}, ""},
		{"one is not", []Status{good, slow, door}, "slow"},
		{"nothing is counted", []Status{uncounted, never, door}, "door"},
		{"too few", []Status{{Name: "failing", Watch: plan.Failing, State: Unknown, Gap: TooFew, Find: 0.01,
			Excluded: 0.01}}, "failing"},
		{"nobody can see anything", []Status{uncounted, never}, "failing slow"},
		{"nobody compares", []Status{lost, off}, "-"},
	} {
		var names []string
		for _, u := range Unsure(c.list) {
			names = append(names, cmp.Or(u.Guard, "-"))
		}
		if got := strings.Join(names, " "); got != c.want {
			t.Errorf("%s: %q is not sure, want %q", c.name, got, c.want)
		}
	}
	if u := Unsure([]Status{slow})[0]; u != (crossing.Unsure{Guard: "slow", Find: 0.04, Excluded: 0.1,
		In: time.Minute}) {
		t.Errorf("%+v", u)
	}
}

func BenchmarkEvaluate(b *testing.B) {
	rules := make([]plan.Guard, 20)
	for n := range rules {
		rules[n] = plan.Guard{Watch: plan.Failing, Margin: 0.005, Find: 0.01}
	}
	const instances = 100 // a side
	var r reading.Front
	r.Tells = reading.Capabilities{Counts: true, Times: true, Waits: true}
	r.Split.Share = 1000
	for side := range r.Sides {
		for n := range instances {
			r.Sides[side].Instances = append(r.Sides[side].Instances,
				reading.Count{Server: reading.Server{Name: string(rune(n)), Address: string(rune(n))}})
		}
	}
	w := watch{guards: New(rules, Terms{Alpha: 0.01, Blocks: 2000, Seconds: 1000})}
	r.At = start
	_ = w.series.Add(r)
	now := start
	b.ReportAllocs()
	for b.Loop() {
		b.StopTimer()
		now = now.Add(500 * time.Millisecond)
		r.At = now
		for side := range r.Sides {
			for n := range r.Sides[side].Instances {
				r.Sides[side].Instances[n].Requests += 3
			}
		}
		_ = w.series.Add(r)
		b.StartTimer()
		w.guards.Evaluate(Facts{Now: now, Since: start, Target: split.Green, Series: &w.series, FrontRead: true,
			Tells: r.Tells, Share: 1000})
	}
}

// What a guard has come to is kept moment by moment, and goes on with guards that take over; of very
// many moments two become one, and nothing is lost.
func TestStories(t *testing.T) {
	w := newWatch(t, failing, plan.Guard{Name: "lost", Watch: plan.Lost})
	w.pass(20, [2]answers{{all: 100}, {}})
	w.since = w.now
	w.pass(60, [2]answers{{all: 90, failing: 1}, {all: 10, failing: 1}})
	list := w.guards.Stories()
	if len(list) != 1 || list[0].Guard != "failing" || list[0].Unit != Requests || list[0].Margin != 0.01 ||
		len(list[0].Points) < 10 {
		t.Fatalf("%+v", list)
	}
	var block evidence.Block
	between := 0 // moments that are there because it tripped then
	for n, m := range list[0].Points {
		block = block.Plus(evidence.Block{Live: m.Live, Trial: m.Trial})
		if m.Needed < 2 {
			t.Errorf("%+v", m)
		}
		if n > 0 && m.At.Sub(list[0].Points[n-1].At) < surenessEvery && m.Evidence >= m.Needed {
			between++
		}
	}
	if between == 0 || between > 2 {
		t.Errorf("%d moments in which it tripped", between)
	}
	if block.Trial.Of < 500 || block.Live.Of != 9*block.Trial.Of || block.Trial.Bad*10 != block.Trial.Of {
		t.Errorf("all in all %+v", block)
	}
	next := New([]plan.Guard{failing, {Name: "lost", Watch: plan.Lost}}, w.guards.terms)
	next.Remember(w.guards.Hand())
	if got := next.Stories()[0].Points; len(got) != len(list[0].Points) {
		t.Errorf("%d moments were handed over, of %d", len(got), len(list[0].Points))
	}
	var moments []Point
	for n := range 5000 {
		moments = told(moments, Point{At: start.Add(time.Duration(n) * time.Second), Trial: evidence.Count{Of: 1}})
	}
	var of int64
	for _, m := range moments {
		of += m.Trial.Of
	}
	if len(moments) > mostMoments || of != 5000 || !moments[len(moments)-1].At.Equal(start.Add(4999*time.Second)) {
		t.Errorf("%d moments with %d answers", len(moments), of)
	}
}

// Where bad answers came in bursts at single instances before, what counts is how many instances have one.
func TestBursts(t *testing.T) {
	begin := func(known bool) *watch {
		w := newWatch(t, failing)
		w.facts = func(f *Facts) {
			if known {
				f.Bursts = evidence.Bursts{Usual: 0.001, Of: evidence.Count{Bad: 20, Of: 1000}}
			}
		}
		w.pass(60, [2]answers{{all: 400}, {}})
		w.since = w.now
		w.pass(20, [2]answers{{all: 300}, {all: 100}})
		return w
	}
	burst := [2]answers{{all: 300}, {all: 100, failing: 50}}
	for _, known := range []bool{false, true} {
		w := begin(known)
		tripped := false
		for range 3 {
			w.pass(2, burst)
			tripped = tripped || w.last[0].State == Tripped
			w.pass(300, [2]answers{{all: 300}, {all: 100}})
		}
		if tripped == known {
			t.Errorf("three bursts in a quarter of an hour, with bursts known %v: tripped %v, %+v", known, tripped,
				w.last[0])
		}
	}
	w := begin(true)
	w.pass(150, burst)
	if s := w.is("it never ends", Tripped, ""); s.Unit != Instances {
		t.Errorf("%+v", s)
	}
}

// Where the live side has had a burst or two, what one instance does in a moment is no reason to go back by itself;
// what most of them do is.
func TestAFewBursts(t *testing.T) {
	for _, ill := range []int{1, 4} {
		g := New([]plan.Guard{failing}, Terms{Alpha: 0.01, Seconds: 2000, Blocks: 2000})
		var series figures.Series
		var counts [2][4]reading.Count
		now, since := start, time.Time{}
		var s Status
		for second := range 90 {
			r := reading.Front{At: now, Tells: reading.Capabilities{Counts: true, Both: true}}
			if second >= 30 {
				r.Split.Share = 2500
			}
			if second == 30 {
				since = now
			}
			for side := range counts {
				for n := range counts[side] {
					c := &counts[side][n]
					c.Name = fmt.Sprintf("%v-%d", split.Side(side), n+1)
					c.Address = c.Name + ":1"
					if c.Requests += 50; second > 60 && split.Side(side) == split.Green && n < ill {
						c.Status[5] += 20
					}
					r.Sides[side].Instances = append(r.Sides[side].Instances, *c)
				}
			}
			if err := series.Add(r); err != nil {
				t.Fatal(err)
			}
			f := Facts{Now: now, Since: since, Changed: since, Target: split.Green, Share: r.Split.Share,
				Series: &series, FrontRead: true, SideRead: true, Tells: r.Tells,
				Bursts: evidence.Bursts{Usual: 0.001, Of: evidence.Count{Bad: 3, Of: 200}}}
			if s = g.Evaluate(f)[0]; s.State == Tripped {
				break
			}
			now = now.Add(time.Second)
		}
		if s.State != Tripped || s.Bursts != (ill == 1) || (s.Then == plan.RollBack) != (ill == 4) {
			t.Errorf("with %d of 4 ill: %+v", ill, s)
		}
	}
}

// Where the live side by itself is as bad as the new one time after time, nobody goes back for it; for more, yes.
func TestARateThatWanders(t *testing.T) {
	for _, c := range []struct {
		failing int64
		back    bool
	}{{30, false}, {90, true}} {
		w := newWatch(t, failing)
		var swings evidence.Swings
		for n := range 80 {
			block := evidence.Count{Bad: 10, Of: 10_000}
			if n%20 == 0 {
				block.Bad = 300
			}
			swings.Learn(start.Add(time.Duration(n)*time.Minute), block)
		}
		w.facts = func(f *Facts) { f.Swings = swings }
		w.pass(60, [2]answers{{all: 4000}, {}})
		w.since = w.now
		w.pass(60, [2]answers{{all: 3000, failing: 3}, {all: 1000, failing: c.failing}})
		if s := w.is("it is worse", Tripped, ""); s.Wanders == c.back || (s.Then == plan.RollBack) != c.back {
			t.Errorf("%d of 1,000 fail: %+v", c.failing, s)
		}
	}
}

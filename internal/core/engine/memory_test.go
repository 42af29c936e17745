package engine

import (
	"encoding/json"
	"slices"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
)

// A machine that slept for an hour has skipped no leg, and nothing is retired in the minute after;
// what was read before says nothing.
func TestASleep(t *testing.T) {
	b := newBench(t)
	b.shifts()
	b.pass(3 * time.Second)
	left := b.e.View(b.now).Left
	b.now = b.now.Add(100 * time.Millisecond)
	b.e.Slept(b.now, time.Hour)
	b.e.Pass(b.now)
	v := b.e.View(b.now)
	if v.Left < left-200*time.Millisecond || v.Crossing.Share != 2000 {
		t.Errorf("after an hour of sleep %v of %v are left, at %v", v.Left, left, v.Crossing)
	}
	if len(v.Lacks) != 3 {
		t.Errorf("what was read before still counts: %+v", v.Lacks)
	}
	if got := v.Hole.To.Sub(v.Hole.From); got != time.Hour || v.Again.Sub(b.now) != time.Minute {
		t.Errorf("the hole is %v, and nothing is retired before %v from now", got, v.Again.Sub(b.now))
	}
	b.pass(time.Second)
	v = b.e.View(b.now)
	if f, asks := crossing.FrozenBy[crossing.Unwatched](v.Crossing); !asks || f.Missed != time.Hour ||
		len(v.Lacks) > 0 {
		t.Errorf("when all is read again nobody is asked: %+v, %v", v.Lacks, v.Crossing)
	}
	b.e.Slept(b.now, time.Hour)
	if n := len(b.e.State().Freezes); n != 1 {
		t.Errorf("a second sleep: %d freezes", n)
	}
}

// A loop that was held up for an hour, as by SIGSTOP, is a hole too, and one that was late is none.
func TestATimeInWhichNothingWasHeard(t *testing.T) {
	for _, c := range []struct {
		gap  time.Duration
		hole bool
	}{{holeLeast - time.Millisecond, false}, {holeLeast, true}, {time.Hour, true}} {
		b := newBench(t)
		b.shifts()
		before := b.now
		b.now = b.now.Add(c.gap)
		b.e.Pass(b.now)
		if v := b.e.View(b.now); (v.Hole != Hole{}) != c.hole ||
			c.hole && (!v.Hole.From.Equal(before) || !v.Hole.To.Equal(b.now)) || v.Crossing.Frozen() != c.hole {
			t.Errorf("nothing for %v: the hole is %+v", c.gap, v.Hole)
		}
	}
	b := newBench(t) // nothing is crossing: nobody misses anything
	b.now = b.now.Add(time.Hour)
	b.e.Pass(b.now)
	if v := b.e.View(b.now); v.Hole != (Hole{}) {
		t.Errorf("without a crossing there is a hole %+v", v.Hole)
	}
}

// What is handed over travels as JSON, and whoever takes it goes on where the other was.
func TestGoingOnForAnother(t *testing.T) {
	b := newBench(t)
	b.shifts()
	for range 4 {
		b.front.Sides[1].Instances[0].Requests += 50
		b.pass(time.Second)
	}
	before := b.e.View(b.now)
	data, err := json.Marshal(b.e.Hand(b.now))
	var m Memory
	if err == nil {
		err = json.Unmarshal(data, &m)
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name string
		late time.Duration
	}{{"at once", 300 * time.Millisecond}, {"too late", handedFor + time.Second}} {
		name := c.name
		b.now = b.now.Add(c.late)
		state := b.e.State()
		e := New(b.e.plan, state, b.now, m)
		next := &bench{t: t, e: e, now: b.now, front: b.front, sides: b.sides}
		next.look()
		v := e.View(next.now)
		_, frozen := crossing.FrozenBy[crossing.FoundAgain](v.Crossing)
		if name == "at once" {
			if frozen || v.Crossing.Seq != state.Seq || v.Left > before.Left || v.Sides[1].Figures.Requests == 0 ||
				v.Hole != (Hole{}) {
				t.Errorf("%s: %v, left %v of %v, %d requests known, hole %+v", name, v.Crossing, v.Left, before.Left,
					v.Sides[1].Figures.Requests, v.Hole)
			}
		} else if !frozen || v.Hole.From.IsZero() || !v.Again.After(next.now) {
			t.Errorf("%s: %v, hole %+v", name, v.Crossing, v.Hole)
		}
	}
	// Handed over at once, and the front has another share than it had: that is found out.
	other := b.front
	other.Split.Share, other.Split.Revision = 7000, other.Split.Revision+1
	m.At = b.now
	e := New(b.e.plan, b.e.State(), b.now, m)
	next := &bench{t: t, e: e, now: b.now, front: other, sides: b.sides}
	next.look()
	if v := e.View(next.now); !v.Crossing.Frozen() {
		t.Errorf("another share was taken for what was handed over: %v", v.Crossing)
	}
}

// Of one that was killed only what it kept is known: the guards' evidence, if it is of this crossing and these guards.
func TestEvidenceOutlivesTheEngine(t *testing.T) {
	b := newBench(t)
	b.e.plan.Guards = append(b.e.plan.Guards, plan.Guard{Name: "failing", Watch: plan.Failing, Margin: 0.01, Find: 0.02,
		Then: plan.RollBack})
	b.shifts()
	for range 8 {
		b.front.Sides[0].Instances[0].Requests += 200
		b.front.Sides[1].Instances[0].Requests += 50
		b.pass(time.Second)
	}
	data, err := json.Marshal(Memory{Gathered: b.e.Gathered()})
	var read Memory
	if err != nil || json.Unmarshal(data, &read) != nil || read.Gathered.Crossing == 0 {
		t.Fatalf("what is kept cannot be written: %v", err)
	}
	for name, known := range map[string]bool{"of it": true, "of another crossing": false, "of other guards": false} {
		m := read
		switch name {
		case "of another crossing":
			m.Gathered.Crossing++
		case "of other guards":
			m.Gathered.Rules = []string{"failing"}
		}
		e := New(b.e.plan, b.e.State(), b.now, m)
		next := &bench{t: t, e: e, now: b.now, front: b.front, sides: b.sides}
		next.look()
		if _, frozen := crossing.FrozenBy[crossing.FoundAgain](e.View(next.now).Crossing); !frozen {
			t.Errorf("evidence %s: it goes on as if somebody had watched", name)
		}
		blocks := 0
		for _, e := range e.guards.Hand().Evidence {
			if e != nil {
				blocks += e.Near[0].Blocks
			}
		}
		if (blocks > 0) != known {
			t.Errorf("evidence %s: of %d blocks", name, blocks)
		}
	}
}

// The wheel is left when nothing was heard of its holder for half a minute.
func TestTheWheelFallsVacant(t *testing.T) {
	b := newBench(t)
	b.begin()
	b.e.state.Wheel = crossing.Wheel{Client: "1", By: "marit", Since: b.now}
	b.e.heard = b.now
	there := func(string) bool { return true }
	gone := func(string) bool { return false }
	b.e.Present(b.now, there)
	b.pass(20 * time.Second)
	b.e.Present(b.now, there)
	for range 58 {
		b.now = b.now.Add(500 * time.Millisecond)
		b.e.Present(b.now, gone)
		b.look()
	}
	if b.e.State().Wheel.Vacant() {
		t.Fatal("it was taken away within half a minute")
	}
	b.now = b.now.Add(2 * time.Second)
	b.look()
	if !b.e.State().Wheel.Vacant() {
		t.Errorf("who is gone still has it: %+v", b.e.State().Wheel)
	}
}

// Instances that end are started again while their side gets requests or is kept, and otherwise
// left alone; those that get requests come first.
func TestWhatIsStartedAgain(t *testing.T) {
	always := func(p *plan.Plan) {
		for side := range p.Parts[0].Stacks {
			p.Parts[0].Stacks[side].Restart = true
		}
	}
	ends := func(b *bench, side split.Side) {
		b.sides[side][0].Running, b.sides[side][0].State, b.sides[side][0].Exit = false, reading.Exited, "exit status 3"
		b.look()
	}
	is := func(b *bench, want ...string) {
		t.Helper()
		var got []string
		for _, i := range b.e.Restarts(b.now) {
			got = append(got, i.Name)
		}
		if len(got) != len(want) || len(got) > 0 && got[0] != want[0] {
			t.Errorf("started again are %v, not %v", got, want)
		}
	}
	b := newBench(t, always)
	b.stand(split.Green, "4.3.0", reading.Healthy)
	ends(b, split.Green)
	is(b) // the spare side, and nothing is crossing
	ends(b, split.Blue)
	is(b, "blue-1")
	never := newBench(t)
	ends(never, split.Blue)
	is(never)
	b = newBench(t, always)
	b.shifts()
	ends(b, split.Green)
	ends(b, split.Blue)
	is(b, "blue-1") // most requests go there
	b.e.Restarting(b.now, b.sides[split.Blue][0].Instance)
	is(b) // it is being started, and green has time
	b.e.Restarted(b.now, b.sides[split.Blue][0].Instance, Again{})
	is(b) // after a pause
	b.now = b.now.Add(pauseFirst)
	b.look()
	is(b, "blue-1")
	var pauses []time.Duration
	for range 9 {
		i := b.sides[split.Blue][0].Instance
		b.e.Restarting(b.now, i)
		b.e.Restarted(b.now, i, Again{})
		pauses = append(pauses, b.e.again[nameOf(i)].pause())
	}
	if pauses[0] != 2*time.Second || pauses[1] != 4*time.Second || pauses[8] != pauseMost {
		t.Errorf("the pauses are %v", pauses)
	}
	if v := b.e.View(b.now); len(v.Sides[split.Blue].Restarts) != 1 || v.Sides[split.Blue].Restarts[0].Count != 10 {
		t.Errorf("shown is %+v", v.Sides[split.Blue].Restarts)
	}
	i := b.sides[split.Blue][0].Instance
	b.now = b.now.Add(calmAfter + time.Second)
	b.e.Restarting(b.now, i)
	if n := b.e.again[nameOf(i)].count; n != 1 {
		t.Errorf("after ten calm minutes it is the %d. time", n)
	}
}

// The first times are recorded, and then fewer and fewer: an instance that never stays up does not
// fill the logbook.
func TestRestartsAreRecorded(t *testing.T) {
	b := newBench(t)
	i := b.sides[split.Blue][0].Instance
	i.Output = []string{"starting", "no berths"}
	n := 0
	for count := 1; count <= 1000; count++ {
		b.e.Restarting(b.now, i)
		for _, e := range b.e.Restarted(b.now, i, Again{}) {
			if r, ok := e.What.(crossing.Restarted); ok {
				n++
				if r.Output != "no berths" || e.Crossing != 0 {
					t.Errorf("recorded is %+v", e)
				}
			}
		}
	}
	if n != 10 {
		t.Errorf("%d entries of 1000 times", n)
	}
}

// The day's peak is that of whole minutes, and begins anew with the day.
func TestPeaks(t *testing.T) {
	var p peaks
	at := time.Date(2026, 11, 26, 23, 55, 30, 0, time.UTC)
	seconds := func(n int, all int64) {
		for range n {
			p.add(Point{At: at, All: all})
			at = at.Add(time.Second)
		}
	}
	seconds(30, 900) // half a minute
	if p.most != 0 {
		t.Errorf("half a minute came to %v", p.most)
	}
	seconds(60, 100)
	seconds(60, 40)
	seconds(1, 40)
	if p.most < 449 || p.most > 451 { // the first minute was seen from its half on
		t.Errorf("the peak is %v", p.most)
	}
	at = time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)
	seconds(61, 10)
	if p.most != 10 {
		t.Errorf("on the next day it is %v", p.most)
	}
}

// A way back that closes stops the route, but not where the plan does not want that.
func TestAClosedWayBack(t *testing.T) {
	for _, freezes := range []bool{true, false} {
		b := newBench(t, func(p *plan.Plan) { p.WayBack.Freezes = freezes })
		b.shifts()
		b.e.state.Was = wayback.Record{Side: split.Blue, At: b.now}
		b.e.Looked(b.now, wayback.Looks{Data: wayback.Look{At: b.now, Of: 1,
			Failed: []wayback.Failing{{What: "fits"}}}})
		if _, frozen := crossing.FrozenBy[crossing.WayClosed](b.e.State()); frozen != freezes {
			t.Errorf("with %v it is frozen: %v", freezes, frozen)
		}
		if v := b.e.View(b.now); v.WayBack.State != wayback.Closed {
			t.Errorf("the way back is %+v", v.WayBack)
		}
	}
}

// One that has read nothing yet since it was started knows of no time in which somebody watched: what it hands over
// is no more than its track, and whoever goes on asks a person, as it would have.
func TestHandedOverBeforeAnythingWasRead(t *testing.T) {
	b := newBench(t)
	b.shifts()
	again := New(b.e.plan, b.e.State(), b.now, Memory{})
	m := again.Hand(b.now.Add(time.Second))
	next := &bench{t: t, e: New(b.e.plan, b.e.State(), b.now.Add(time.Second), m), now: b.now.Add(time.Second),
		front: b.front, sides: b.sides}
	next.look()
	if _, frozen := crossing.FrozenBy[crossing.FoundAgain](next.e.State()); !frozen || !next.e.rested.After(next.now) {
		t.Errorf("it goes on as if somebody had watched: %v", next.e.State())
	}
}

// A keeper that stood still did not listen: nobody has lost the wheel by it.
func TestWhoeverWasNotHeardKeepsTheWheel(t *testing.T) {
	b := newBench(t)
	b.begin()
	b.e.state.Wheel, b.e.heard = crossing.Wheel{Client: "1", By: "marit", Since: b.now}, b.now
	b.now = b.now.Add(time.Hour)
	b.e.Pass(b.now)
	if b.e.State().Wheel.Vacant() {
		t.Error("the wheel is vacant")
	}
}

// A retire that was ordered before a time in which nobody watched rests after it like any other.
func TestARetireRestsAfterAHole(t *testing.T) {
	b := newBench(t)
	b.shifts()
	b.e.state.Stage, b.e.state.Share, b.e.state.Task = crossing.Settled, split.Whole,
		crossing.Task{ID: 90, Do: crossing.TaskRetire, Side: split.Blue}
	b.front.Split.Share = split.Whole
	b.read()
	b.now = b.now.Add(holeLeast)
	b.look()
	if lacks := b.e.withheld(b.e.state.Task); len(lacks) != 1 || !oneof.IsA[crossing.LackTime](lacks[0]) {
		t.Errorf("right after a hole it is held because of %+v", lacks)
	}
	b.pass(restAfter)
	if lacks := b.e.withheld(b.e.state.Task); slices.ContainsFunc(lacks,
		func(l crossing.Lack) bool { return oneof.IsA[crossing.LackTime](l) }) {
		t.Errorf("a minute later it is held because of %+v", lacks)
	}
}

// A home that is read to be dead after a sleep is no home, though the other side has not been read again.
func TestADeadHomeAfterASleep(t *testing.T) {
	b := newBench(t)
	b.shifts()
	b.sides[split.Green][0].State = reading.Failing
	b.sides[split.Blue][0].State = reading.Failing
	b.now = b.now.Add(time.Second)
	b.e.Slept(b.now, time.Minute)
	b.now = b.now.Add(time.Second)
	b.read()
	b.side(split.Blue)
	if home := b.e.homeFrom(b.now, split.Green); !home.Known || home.Healthy > 0 {
		t.Errorf("home is %+v", home)
	}
}

// Nothing more goes to a side that was read to be dead, also before the other one was read at all.
func TestADeadSideAfterAHandOver(t *testing.T) {
	b := newBench(t)
	b.shifts()
	b.sides[split.Green][0].State = reading.Failing
	b.e = New(b.e.plan, b.e.State(), b.now, b.e.Hand(b.now))
	b.now = b.now.Add(time.Second)
	b.read()
	b.side(split.Green)
	if there := b.e.there(); !there.Empty() {
		t.Errorf("green is %+v", there)
	}
}

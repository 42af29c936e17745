package engine

import (
	"slices"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

var failing = plan.Guard{Name: "failing", Watch: plan.Failing, Margin: 0.01, Find: 0.02, Then: plan.RollBack}

// answer lets time pass in which everything is read and both sides answer so many requests a
// second, all of them well.
func (b *bench) answer(d time.Duration, blue, green int64) {
	for end := b.now.Add(d); b.now.Before(end); {
		b.now = b.now.Add(500 * time.Millisecond)
		for side, more := range []int64{blue / 2, green / 2} {
			for n := range b.front.Sides[side].Instances {
				b.front.Sides[side].Instances[n].Requests += more
				b.front.Sides[side].Instances[n].Status[2] += more
			}
		}
		b.look()
	}
}

// lacks is what is missing, in few words.
func (b *bench) lacks() (kinds []string) {
	for _, l := range b.e.View(b.now).Lacks {
		kinds = append(kinds, l.Kind())
	}
	return kinds
}

func (b *bench) frozen(kind crossing.CauseKind) bool {
	return slices.ContainsFunc(b.e.State().Freezes,
		func(f crossing.Freezing) bool { return f.Cause.Kind() == crossing.Causes.Name(kind) })
}

// A leg's time counts while its guards have enough to judge by; where they have too few for
// as long as it was to last, a person is called, and goes on without them for that leg.
func TestTooFewAnswers(t *testing.T) {
	quiet := func(p *plan.Plan) {
		p.Guards = []plan.Guard{failing}
		p.Route[0].Dwell = 40 * time.Second
	}
	b := newBench(t, quiet)
	b.answer(10*time.Second, 100, 0)
	b.shifts()
	b.answer(39*time.Second, 6, 1)
	v := b.e.View(b.now)
	if len(v.Lacks) != 1 || oneof.As[crossing.LackAnswers](v.Lacks[0]).Need != guard.Least(plan.Failing) ||
		v.Left != 40*time.Second || oneof.As[crossing.LackAnswers](v.Lacks[0]).Since.IsZero() || v.Crossing.Frozen() {
		t.Errorf("with few answers %v are left, lacking %+v: %v", v.Left, v.Lacks, v.Crossing)
	}
	b.answer(3*time.Second, 6, 0)
	f, frozen := crossing.FrozenBy[crossing.NotKnown](b.e.State())
	if !frozen || len(f.Lacks) != 1 || crossing.GuardOf(f.Lacks[0]) != "failing" {
		t.Fatalf("after its length it is %v", b.e.State())
	}
	if err := b.command(crossing.Resume{}); err != nil {
		t.Fatal(err)
	}
	b.answer(41*time.Second, 6, 0)
	b.moves(b.order(crossing.TaskMove))
	b.answer(time.Second, 0, 2)
	if got := b.lacks(); len(got) != 1 || got[0] != crossing.Lacks.Name(crossing.LackAnswers{}) {
		t.Errorf("in the keep, which nobody has said anything about, it lacks %v", got)
	}
	// With enough there is nothing to ask.
	b = newBench(t, quiet)
	b.answer(10*time.Second, 100, 0)
	b.shifts()
	b.answer(20*time.Second, 100, 10)
	if left := b.e.View(b.now).Left; left > 30*time.Second || left < 20*time.Second {
		t.Errorf("with enough answers after 2 s, %v are left", left)
	}
	// Where the plan says so, it goes on without.
	b = newBench(t, quiet, func(p *plan.Plan) { p.Quiet = plan.QuietGoOn })
	b.shifts()
	b.answer(40*time.Second, 6, 0)
	b.moves(b.order(crossing.TaskMove))
	b.answer(20*time.Second, 0, 0)
	if s := b.e.State(); s.Stage != crossing.Settled {
		t.Errorf("quiet: go on, and it is %v", s)
	}
}

// What cannot be read for half a minute stops the route, and no word of a person replaces it.
func TestUnreadForTooLong(t *testing.T) {
	b := newBench(t)
	b.shifts()
	blind := func(d time.Duration) {
		for end := b.now.Add(d); b.now.Before(end); {
			b.now = b.now.Add(500 * time.Millisecond)
			b.side(split.Blue)
			b.side(split.Green)
			b.e.FrontFailed(b.now, "no answer")
		}
	}
	blind(31 * time.Second)
	if b.frozen(crossing.NotKnown{}) {
		t.Error("it lapses too soon")
	}
	b.refused(crossing.Next{Leg: 1}, crossing.NotWatched{})
	blind(3 * time.Second)
	if !b.frozen(crossing.NotKnown{}) {
		t.Errorf("unread for 34 s it is %v", b.e.State())
	}
	if err := b.command(crossing.Resume{}); err != nil {
		t.Fatal(err)
	}
	if b.refused(crossing.Next{Leg: 1}, crossing.NotWatched{}); b.frozen(crossing.NotKnown{}) {
		t.Error("who goes on is not heard")
	}
	blind(31 * time.Second)
	if !b.frozen(crossing.NotKnown{}) {
		t.Error("unread again for as long, it is not said again")
	}
	if err := b.command(crossing.Back{}); err != nil {
		t.Errorf("and home is not to be reached: %v", err)
	}
	// A short hole is none of a person's business.
	b = newBench(t)
	b.shifts()
	for range 5 {
		blind(20 * time.Second)
		b.look()
	}
	if b.frozen(crossing.NotKnown{}) {
		t.Error("short holes froze it")
	}
}

// A reading from before a change of the share says nothing of what came of it.
func TestTimeBeginsWithAReading(t *testing.T) {
	b := newBench(t)
	b.shifts()
	b.e.settled = b.now // it was changed just now
	left := b.e.View(b.now).Left
	for range 3 {
		b.now = b.now.Add(400 * time.Millisecond)
		b.e.Pass(b.now)
	}
	if now := b.e.View(b.now).Left; now != left {
		t.Errorf("before the front was read again %v of %v are left", now, left)
	}
	b.look()
	b.now = b.now.Add(400 * time.Millisecond)
	b.e.Pass(b.now)
	if now := b.e.View(b.now).Left; now != left-400*time.Millisecond {
		t.Errorf("after it was, %v of %v are left", now, left)
	}
}

// What blue answered on the last leg is kept in the logbook, and a keeper that starts again
// in the keep compares with it.
func TestTheBaselineOutlivesAKeeper(t *testing.T) {
	b := newBench(t, func(p *plan.Plan) { p.Guards, p.Keep = []plan.Guard{failing}, time.Hour })
	b.answer(10*time.Second, 100, 0)
	b.shifts()
	if list := b.e.State().Baselines; len(list) != 1 || list[0].Count.Of != 1000 {
		t.Errorf("before the first leg blue had answered %+v", list)
	}
	b.answer(16*time.Second, 100, 20)
	b.moves(b.order(crossing.TaskMove))
	list := b.e.State().Baselines
	if len(list) != 1 || list[0].Guard != "failing" || list[0].Count.Of < 1400 || list[0].Count.Of > 1600 {
		t.Fatalf("on the last leg blue answered %+v", list)
	}
	b.answer(5*time.Minute, 0, 100)
	if s := b.e.View(b.now).Guards[0]; s.State != guard.Clear || s.Baseline != list[0].Count ||
		!s.AsOf.Equal(list[0].To) {
		t.Errorf("it wears away: %+v", s)
	}
	b.e = New(b.e.plan, b.e.State(), b.now, Memory{})
	b.look()
	if err := b.command(crossing.Resume{}); err != nil { // in spite of what was found
		t.Fatal(err)
	}
	b.answer(5*time.Second, 0, 100)
	if s := b.e.View(b.now).Guards[0]; s.State != guard.Clear || s.Baseline != list[0].Count {
		t.Errorf("started again it compares with %+v", s)
	}
	// With none there is no verdict, and no going on by itself.
	without := b.e.State()
	without.Baselines = nil
	b.e = New(b.e.plan, without, b.now, Memory{})
	b.look()
	if err := b.command(crossing.Resume{}); err != nil {
		t.Fatal(err)
	}
	o := b.order(crossing.TaskProve)
	b.proves(o)
	b.answer(5*time.Second, 0, 100)
	if got := b.lacks(); len(got) != 1 || got[0] != crossing.Lacks.Name(crossing.LackBaseline{}) {
		t.Errorf("with nothing to compare with it lacks %v", got)
	}
	b.answer(40*time.Second, 0, 100)
	if !b.frozen(crossing.NotKnown{}) {
		t.Errorf("and it is %v", b.e.State())
	}
}

// What the live side answered while it was ill is nothing to compare with.
func TestAnIllSideIsNoBaseline(t *testing.T) {
	b := newBench(t, func(p *plan.Plan) { p.Guards, p.Route[0].Dwell = []plan.Guard{failing}, time.Hour })
	b.sides[split.Blue] = append(b.sides[split.Blue], b.sides[split.Blue][0])
	b.sides[split.Blue][1].Name, b.sides[split.Blue][1].Part = "berths-1", "berths"
	b.answer(10*time.Second, 100, 0)
	b.shifts()
	before := b.e.State().Baselines
	b.sides[split.Blue][0].State = reading.Failing
	b.answer(10*time.Second, 100, 20)
	if !b.frozen(crossing.HomeIll{}) {
		t.Fatalf("it is %v", b.e.State())
	}
	if w := b.e.View(b.now).WayBack; w.State != "closed" {
		t.Errorf("with nobody who answers the way back is %s", w.State)
	}
	if err := b.command(crossing.Steer{Share: split.Whole}); err != nil {
		t.Fatal(err)
	}
	b.moves(b.order(crossing.TaskMove))
	if list := b.e.State().Baselines; len(list) != 1 || list[0] != before[0] {
		t.Errorf("it compares with %+v", list)
	}
}

// A first release has nothing to compare with, which stops nobody; nor does what a front can
// never tell.
func TestWhatIsNotWaitedFor(t *testing.T) {
	slow := failing
	slow.Name, slow.Watch, slow.After = "slow", plan.Slow, 250*time.Millisecond
	b := newBench(t, func(p *plan.Plan) { p.Guards = []plan.Guard{slow} })
	b.front.Tells.Times = false
	b.answer(10*time.Second, 100, 0)
	b.shifts()
	b.answer(12*time.Second, 100, 50)
	if s := b.e.View(b.now).Guards[0]; s.Gap != guard.NotTimed || len(b.lacks()) > 0 {
		t.Errorf("without times it lacks %v: %+v", b.lacks(), s)
	}
	b.moves(b.order(crossing.TaskMove))
	first := b.e.State()
	first.First = true
	b.e = New(b.e.plan, first, b.now, Memory{})
	b.look()
	b.answer(5*time.Second, 0, 100)
	if s := b.e.View(b.now).Guards[0]; s.Gap != guard.OnlySide || len(b.lacks()) > 0 {
		t.Errorf("a first release lacks %v: %+v", b.lacks(), s)
	}
}

// Where a front counts nothing, the prober's answers are evidence, if a guard looks at them.
func TestAFrontThatDoesNotCount(t *testing.T) {
	door := failing
	door.Name, door.Watch = "door", plan.Door
	for off, want := range map[bool]int{false: 0, true: 1} {
		door.Off = off
		b := newBench(t, func(p *plan.Plan) { p.Guards, p.Route[0].Dwell = []plan.Guard{failing, door}, time.Hour })
		b.front.Tells.Counts = false
		heard := reading.Door{}
		tell := func(e reading.Ended) {
			for range 12 {
				b.pass(time.Second)
				e.At = b.now
				heard.Ended = append(heard.Ended, e)
				b.doored = true
				b.e.DoorRead(heard)
			}
			b.pass(time.Second)
		}
		tell(reading.Ended{Sides: [2]reading.Tally{{Of: 20}}})
		b.shifts()
		tell(reading.Ended{Sides: [2]reading.Tally{{Of: 15}, {Of: 5}}})
		if s := b.e.View(b.now).Guards[0]; s.Gap != guard.NotCounted || len(b.lacks()) != want {
			t.Errorf("with the door off (%v) it lacks %v: %+v", off, b.lacks(), s)
		}
	}
}

// Counts that are missing for a moment are missed, whatever the plan says of quiet services.
func TestCountsThatAreMissing(t *testing.T) {
	b := newBench(t, func(p *plan.Plan) { p.Quiet, p.Route[0].Dwell = plan.QuietGoOn, time.Hour })
	b.shifts()
	b.front.Blind = "access.log: permission denied"
	b.pass(20 * time.Second)
	if v := b.e.View(b.now); len(v.Lacks) != 1 || oneof.As[crossing.LackCounts](v.Lacks[0]).Since.IsZero() ||
		v.Left < 59*time.Minute {
		t.Errorf("%v are left, lacking %+v", v.Left, v.Lacks)
	}
	b.pass(12 * time.Second)
	if !b.frozen(crossing.NotKnown{}) {
		t.Errorf("it is %v", b.e.State())
	}
}

// A prober that hears nothing is missed, whatever the plan says of quiet services.
func TestADoorThatIsNotReached(t *testing.T) {
	door := failing
	door.Name, door.Watch = "door", plan.Door
	b := newBench(t, func(p *plan.Plan) {
		p.Guards, p.Quiet, p.Route[0].Dwell = []plan.Guard{door}, plan.QuietGoOn, time.Hour
	})
	heard := reading.Door{}
	tell := func(d time.Duration, e reading.Ended) {
		for end := b.now.Add(d); b.now.Before(end); {
			b.pass(time.Second)
			e.At = b.now
			heard.Ended, heard.Bad = append(heard.Ended, e),
				[]reading.Bad{{Mark: reading.Mark{Kind: reading.LostAnswer}, Why: "connection refused"}}
			b.doored = true
			b.e.DoorRead(heard)
		}
	}
	tell(10*time.Second, reading.Ended{Sides: [2]reading.Tally{{Of: 20}}})
	b.shifts()
	tell(5*time.Second, reading.Ended{Sides: [2]reading.Tally{{Of: 15}, {Of: 5}}})
	if got := b.lacks(); len(got) > 0 {
		t.Errorf("all well, it lacks %v", got)
	}
	tell(8*time.Second, reading.Ended{Unreached: 20})
	if v := b.e.View(b.now); len(v.Lacks) != 1 || oneof.As[crossing.LackDoor](v.Lacks[0]).Said != "connection refused" {
		t.Errorf("cut off, it lacks %+v", v.Lacks)
	}
	tell(32*time.Second, reading.Ended{Unreached: 20})
	if !b.frozen(crossing.NotKnown{}) {
		t.Errorf("cut off for long, it is %v", b.e.State())
	}
}

// Where some go by the share before for a while, the leg's and the keep's time begin when the
// last of them does not, and nothing is retired before.
func TestTimeCountsWhereAllHaveTheShare(t *testing.T) {
	b := newBench(t)
	b.everywhere = b.now.Add(time.Minute)
	b.shifts()
	b.pass(b.everywhere.Sub(b.now) - time.Second)
	if v := b.e.View(b.now); v.Left != 10*time.Second || v.Crossing.Leg != 0 || v.Crossing.Frozen() {
		t.Errorf("before all have the share %v of the leg are left: %v", v.Left, v.Crossing)
	}
	b.pass(9 * time.Second)
	if v := b.e.View(b.now); v.Left > 3*time.Second || v.Left < time.Second {
		t.Errorf("8 s after all have it %v of the leg are left", v.Left)
	}
	b.pass(3 * time.Second)
	b.everywhere = b.now.Add(time.Minute)
	b.moves(b.order(crossing.TaskMove))
	b.pass(b.everywhere.Sub(b.now) - time.Second)
	if list := b.e.Orders(); len(list) > 0 {
		t.Errorf("before all have the share there is ordered %v", list)
	}
	b.pass(25 * time.Second)
	b.order(crossing.TaskRetire)
}

// Nothing moves before the prober has had good answers at the front: what is not reached says nothing of anybody.
func TestADoorThatWasNeverReached(t *testing.T) {
	door := func(p *plan.Plan) {
		p.Guards = []plan.Guard{{Name: "door", Watch: plan.Door, Margin: 0.05, Find: 0.1, Then: plan.RollBack}}
	}
	for _, reached := range []bool{true, false} {
		b := newBench(t, door)
		b.doored = true
		var ended []reading.Ended
		step := func() {
			e := reading.Ended{At: b.now, Unreached: 10}
			if reached {
				e = reading.Ended{At: b.now, Sides: [2]reading.Tally{{Of: 10}, {}}}
			}
			ended = append(ended, e)
			b.e.DoorRead(reading.Door{At: b.now.Add(time.Second), Ended: ended})
			b.pass(time.Second)
		}
		for range 3 {
			step()
		}
		b.begin()
		o := b.order(crossing.TaskRaise)
		b.stand(split.Green, "4.3.0", reading.Healthy)
		b.told(split.Green)
		b.e.Started(b.now, o.ID)
		step()
		b.proves(b.order(crossing.TaskProve))
		step()
		if reached {
			b.order(crossing.TaskMove)
			continue
		}
		if got := b.lacks(); len(got) != 1 || got[0] != crossing.Lacks.Name(crossing.LackDoor{}) ||
			len(b.e.Orders()) > 0 {
			t.Errorf("it lacks %v, and orders %v", got, b.e.Orders())
		}
		for range 35 {
			step()
		}
		if !b.frozen(crossing.NotKnown{}) || b.e.State().Share != 0 {
			t.Fatalf("then it is at %v", b.e.State())
		}
		if err := b.command(crossing.Resume{}); err != nil {
			t.Fatal(err)
		}
		step()
		b.order(crossing.TaskMove) // on a person's word
	}
}

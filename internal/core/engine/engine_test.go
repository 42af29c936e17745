package engine

import (
	"fmt"
	"math"
	"reflect"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/core/wayout"
)

// bench is an engine with everything that it is told, step by step.
type bench struct {
	everywhere time.Time // when what is put in force is so for the last of those who ask
	t          *testing.T
	e          *Engine
	now        time.Time
	front      reading.Front
	sides      [2][]reading.Condition
	doored     bool         // the test says itself what the prober gets
	more       raise.Choice // what green is raised at, where that is not as usual
}

var first = time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)

func newBench(t *testing.T, change ...func(*plan.Plan)) *bench {
	t.Helper()
	p := &plan.Plan{
		Service: "sailings", Front: plan.Front{Key: plan.Key{From: plan.KeyRandom}},
		Parts: []plan.Part{{Name: "web", Health: plan.Check{Every: time.Second, Down: 2}}},
		Route: route.Route{{Part: 2000, Dwell: 10 * time.Second}, {Part: split.Whole}}, Keep: 20 * time.Second,
		Then: plan.ThenRetire, Find: 0.01, Sure: 0.99,
		Guards: []plan.Guard{{Name: "unhealthy", Watch: plan.Unhealthy, Then: plan.RollBack}},
	}
	for side := range p.Parts[0].Stacks {
		p.Parts[0].Stacks[side] = plan.Stack{Instances: 1, Raise: 20 * time.Second, Grace: time.Second,
			Capacity: plan.Capacity{Each: 100}, Price: plan.Price{Amount: 0.1, Unit: "EUR"}}
	}
	for _, do := range change {
		do(p)
	}
	b := &bench{t: t, now: first}
	b.front.Tells = reading.Capabilities{Counts: true, Times: true, Waits: true, Both: true}
	b.stand(split.Blue, "4.2.0", reading.Healthy)
	b.told(split.Blue)
	b.e = New(p, crossing.State{}, b.now, Memory{})
	b.look()
	return b
}

func (b *bench) stand(side split.Side, version string, state reading.Health) {
	b.sides[side] = []reading.Condition{{
		Instance: reading.Instance{Name: side.String() + "-1", Part: "web", Side: side, Version: version,
			Build: "b-" + version, Address: side.String() + ":80", Started: b.now, Running: state != reading.Exited},
		State: state, Since: b.now.Add(2 * time.Second), Said: "status 503",
	}}
}

// told gives the front a side's instances.
func (b *bench) told(side split.Side) {
	b.front.Sides[side].Instances = nil
	for _, c := range b.sides[side] {
		b.front.Sides[side].Instances = append(b.front.Sides[side].Instances,
			reading.Count{Server: reading.Server{Name: c.Name, Address: c.Address, Version: c.Version}})
	}
}

// look reads everything. Where a test says nothing of the prober, it gets good answers from whoever has requests.
func (b *bench) look() {
	if !b.doored {
		answered := reading.Ended{At: b.now}
		for _, side := range split.Sides {
			if b.front.Split.Share.Of(side) > 0 {
				answered.Sides[side].Of = 1
			}
		}
		b.e.DoorRead(reading.Door{At: b.now, Ended: []reading.Ended{answered}})
	}
	b.read()
	for _, side := range split.Sides {
		b.side(side)
	}
}

func (b *bench) read() {
	b.front.At = b.now
	b.e.FrontRead(b.now, Asked{b.now, b.e.front.changes}, b.front)
}

func (b *bench) side(side split.Side) {
	b.e.SideRead(b.now, SideReading{Side: side, Asked: Asked{b.now, b.e.sides[side].view.Changes}, At: b.now,
		Conditions: b.sides[side]})
}

// pass lets time pass in which everything is read.
func (b *bench) pass(d time.Duration) {
	for end := b.now.Add(d); b.now.Before(end); {
		b.now = b.now.Add(500 * time.Millisecond)
		b.look()
	}
}

func (b *bench) command(in crossing.Input) error {
	b.t.Helper()
	b.e.Pass(b.now)
	m := crossing.Moment{At: b.now, By: "marit", Seen: b.e.State().Seq}
	would := b.e.Would(m, in)
	_, err := b.e.Command(m, in)
	if fmt.Sprint(would) != fmt.Sprint(err) {
		b.t.Errorf("%T would be refused with %v, and was with %v", in, would, err)
	}
	return err
}

// begin begins a crossing to green.
func (b *bench) begin() {
	b.t.Helper()
	p := b.e.plan
	choice := raise.Choice{Part: "web", Version: "4.3.0", Build: "b-4.3.0"}
	if b.more != (raise.Choice{}) {
		choice = b.more
	}
	err := b.command(crossing.Begin{
		Service: p.Service, Number: 1, Target: split.Green, LiveVersion: "4.2.0", Choices: []raise.Choice{choice},
		Route: p.Route, Keep: p.Keep, Then: p.Then,
	})
	if err != nil {
		b.t.Fatal(err)
	}
}

// order is the one that is to be done now.
func (b *bench) order(want crossing.TaskKind) Order {
	b.t.Helper()
	list := b.e.Orders()
	if len(list) != 1 || list[0].Do != want {
		b.t.Fatalf("ordered is %v, want %s: %v", list, want, b.e.State())
	}
	return list[0]
}

// proven brings a crossing to where green has been proven, and the front does not know it yet.
func (b *bench) proven() {
	b.t.Helper()
	b.begin()
	o := b.order(crossing.TaskRaise)
	b.stand(split.Green, "4.3.0", reading.Healthy)
	b.e.Started(b.now, o.ID)
	b.pass(time.Second)
	b.proves(b.order(crossing.TaskProve))
}

// shifts brings a crossing to its first leg.
func (b *bench) shifts() {
	b.t.Helper()
	b.proven()
	if orders := b.e.Orders(); len(orders) > 0 {
		b.t.Fatalf("the front does not know green yet, and %v is ordered", orders)
	}
	if tell, ok := b.e.Telling(b.now); !ok || tell.Side != split.Green || len(tell.Servers) != 1 {
		b.t.Fatalf("the front is to be told %+v, %v", tell, ok)
	}
	b.told(split.Green)
	b.read()
	b.moves(b.order(crossing.TaskMove))
}

// proves makes the proof that is ordered.
func (b *bench) proves(o Order) {
	b.e.Report(b.now, crossing.Proved{Task: o.ID,
		Proof: proof.Proof{Results: []proof.Result{{Check: "search", Pass: true}}}})
}

// moves puts what is ordered in force.
func (b *bench) moves(o Order) {
	b.front.Split = reading.Split{Share: o.Share, Revision: b.front.Split.Revision + 1, Since: b.now}
	b.e.Report(b.now, crossing.TookEffect{Task: o.ID, Nearest: o.Share, Share: o.Share,
		Revision: b.front.Split.Revision, Took: 3 * time.Millisecond, Everywhere: b.everywhere})
	b.now = b.now.Add(time.Millisecond)
	b.look()
}

func (b *bench) refused(in crossing.Input, want crossing.Reason) {
	b.t.Helper()
	err := b.command(in)
	if r, ok := crossing.Refused[crossing.Reason](err); !ok || r.Name() != want.Name() {
		b.t.Errorf("%T: %v, want %s", in, err, want.Name())
	}
}

// notRaised is what a crossing that was called off could not raise.
func notRaised(s crossing.State) crossing.TroubleRaise {
	return oneof.As[crossing.TroubleRaise](oneof.As[crossing.NotRaised](s.Why).Trouble)
}

func TestACrossingStepByStep(t *testing.T) {
	b := newBench(t)
	b.shifts()
	v := b.e.View(b.now)
	if v.Left != 10*time.Second || v.Live != split.Blue || v.Switch.Took != 3*time.Millisecond ||
		v.Overlap.Since.IsZero() || v.Overlap.Cost.Unit != "EUR" || len(v.Lacks) > 0 {
		t.Errorf("on the first leg: %+v", v)
	}
	b.pass(9 * time.Second)
	if left := b.e.View(b.now).Left; left != time.Second {
		t.Errorf("after nine of ten seconds %v are left", left)
	}
	b.pass(time.Second)
	b.moves(b.order(crossing.TaskMove))
	if v := b.e.View(b.now); v.Crossing.Stage != crossing.Keeping || v.Left != 20*time.Second {
		t.Errorf("kept: %v, %v left", v.Crossing, v.Left)
	}
	b.pass(20 * time.Second)
	o := b.order(crossing.TaskRetire)
	if v := b.e.View(b.now); v.Live != split.Green || v.Crossing.Stage != crossing.Settled || o.Side != split.Blue {
		t.Errorf("settled: %v, to do %v", v.Crossing, o)
	}
	b.sides[split.Blue] = nil
	b.e.Report(b.now, crossing.Retired{Task: o.ID, Side: split.Blue})
	b.told(split.Blue)
	b.pass(time.Second)
	b.refused(crossing.Back{}, crossing.Gone{})
	if v := b.e.View(b.now); v.WayBack.State != "closed" || len(v.Track) < 20 || v.Sides[split.Blue].Version != "" {
		t.Errorf("after the end: way back %+v, %d points, blue %+v", v.WayBack, len(v.Track), v.Sides[split.Blue])
	}
}

// Time counts while everything is read, and what is missing is named.
func TestTimeCountsWhileItIsWatched(t *testing.T) {
	b := newBench(t)
	b.shifts()
	left := func() time.Duration { return b.e.View(b.now).Left }
	for range 60 { // nothing is read
		b.now = b.now.Add(500 * time.Millisecond)
		b.e.FrontFailed(b.now, "no answer")
	}
	if v := b.e.View(b.now); left() < 7*time.Second || len(v.Lacks) != 3 ||
		oneof.As[crossing.LackFront](v.Lacks[0]).Said != "no answer" || !oneof.IsA[crossing.LackSide](v.Lacks[1]) {
		t.Errorf("unread for half a minute: %v left, lacking %+v", left(), v.Lacks)
	}
	b.look()
	before := left()
	for range 20 { // the front and one side alone
		b.now = b.now.Add(500 * time.Millisecond)
		b.read()
		b.side(split.Green)
	}
	if v := b.e.View(b.now); before-left() > 6*time.Second || len(v.Lacks) != 1 ||
		oneof.As[crossing.LackSide](v.Lacks[0]).Side != split.Blue {
		t.Errorf("blue unread: %v left of %v, lacking %+v", left(), before, v.Lacks)
	}
	if err := b.command(crossing.Freeze{}); err != nil {
		t.Fatal(err)
	}
	before = left()
	b.pass(5 * time.Second)
	if left() != before {
		t.Errorf("frozen, %v are left of %v", left(), before)
	}
	b.look()
	b.now = b.now.Add(time.Hour) // the process stood still
	b.e.Pass(b.now)
	if err := b.command(crossing.Resume{}); err != nil {
		t.Fatal(err)
	}
	b.look()
	if left() != before {
		t.Errorf("after an hour away, %v are left of %v", left(), before)
	}
}

// A raise waits for every instance, names those that do not come up, and has its limit.
func TestRaises(t *testing.T) {
	b := newBench(t)
	b.begin()
	o := b.order(crossing.TaskRaise)
	b.stand(split.Green, "4.3.0", reading.Healthy)
	b.pass(time.Second)
	if b.order(crossing.TaskRaise).ID != o.ID {
		t.Error("instances that nobody has started yet count")
	}
	b.stand(split.Green, "4.3.0", reading.Answering)
	old := SideReading{Side: split.Green, Asked: Asked{b.now, b.e.sides[split.Green].view.Changes}, At: b.now}
	old.Conditions = []reading.Condition{{Instance: b.sides[split.Green][0].Instance, State: reading.Healthy}}
	b.e.Started(b.now, o.ID)
	b.e.SideRead(b.now, old)
	if b.order(crossing.TaskRaise).ID != o.ID {
		t.Error("what was read before they were started counts")
	}
	b.pass(25 * time.Second)
	s := b.e.State()
	if v := notRaised(s); s.Stage != crossing.CalledOff || len(v.Raise.Stuck) != 1 ||
		v.Raise.Stuck[0].Said != "status 503" || v.Limit != 20*time.Second {
		t.Errorf("it never came up: %v, %+v", s, s.Why)
	}
	b = newBench(t)
	b.begin()
	b.stand(split.Green, "4.3.0", reading.Exited)
	b.e.Started(b.now, b.order(crossing.TaskRaise).ID)
	b.pass(time.Second)
	if s := b.e.State(); s.Stage != crossing.CalledOff || notRaised(s).Limit != 0 {
		t.Errorf("it ended at once: %v, %+v", s, s.Why)
	}
}

// An instance that was never seen healthy is ill when it has said no often enough.
func TestIll(t *testing.T) {
	b := newBench(t)
	for want, c := range map[bool][]reading.Condition{
		false: {{State: reading.Healthy}, {State: reading.Answering},
			{State: reading.Starting, Instance: reading.Instance{Part: "web"}, History: []float64{-1, 3, -1}}},
		true: {{State: reading.Failing}, {State: reading.Exited},
			{State: reading.Answering, Instance: reading.Instance{Part: "web"}, History: []float64{3, -1, -1}},
			{State: reading.Answering, Instance: reading.Instance{Part: "other"}, History: []float64{-1}}},
	} {
		for _, c := range c {
			if b.e.ill(c) != want {
				t.Errorf("%+v is ill: %v", c, !want)
			}
		}
	}
}

// A keeper that has just begun takes nobody for dead whom it has not heard say no.
func TestNobodyIsDeadAtFirst(t *testing.T) {
	b := newBench(t)
	b.shifts()
	b.sides[split.Blue][0].State = reading.Answering
	b.pass(2 * time.Second)
	if s := b.e.State(); s.Frozen() || len(b.e.View(b.now).WaysOut) > 0 {
		t.Errorf("blue has not been seen healthy yet, and it is %v", s)
	}
	b.sides[split.Blue][0].History = []float64{-1, -1}
	b.pass(time.Second)
	f, frozen := crossing.FrozenBy[crossing.HomeIll](b.e.State())
	if w := b.e.View(b.now).WaysOut; !frozen || f.Home.Instances != 1 || len(w) != 3 ||
		w[0].Do != wayout.Forward {
		t.Errorf("blue says no again and again, and it is %v, %+v", b.e.State(), w)
	}
	// A person goes on, and is called again when it is worse.
	if err := b.command(crossing.Resume{}); err != nil {
		t.Fatal(err)
	}
	b.pass(2 * time.Second)
	if s := b.e.State(); s.Frozen() {
		t.Errorf("what was accepted freezes again: %v", s)
	}
}

// A live side of which most answers fail is ill, whatever its instances say, and also where
// nobody reaches them; then it can be left.
func TestALiveSideThatFails(t *testing.T) {
	b := newBench(t, func(p *plan.Plan) { p.Route[0].Dwell = time.Hour })
	b.answer(5*time.Second, 100, 0)
	b.shifts()
	b.answer(3*time.Second, 80, 20)
	for range 24 { // nobody reads blue any more
		b.now = b.now.Add(500 * time.Millisecond)
		i := &b.front.Sides[split.Blue].Instances[0]
		i.Requests += 40
		i.Status[5] += 30
		b.read()
		b.side(split.Green)
	}
	f, frozen := crossing.FrozenBy[crossing.HomeIll](b.e.State())
	if !frozen || f.Home.Failing < 0.5 || f.Home.Known && f.Home.Healthy == 0 {
		t.Errorf("it is %v: %+v", b.e.State(), f.Home)
	}
	v := b.e.View(b.now)
	if w := v.WaysOut; len(w) != 3 || w[0].Do != wayout.Forward || w[0].Lost > 1 || w[2].Do != wayout.Home {
		t.Errorf("what helps is %+v", w)
	}
	if v.Split.Wrong || v.Split.Front.Verdict != "" {
		t.Errorf("while requests are lost the split is judged: %+v", v.Split)
	}
	if err := b.command(crossing.Steer{Share: split.Whole}); err != nil {
		t.Error(err)
	}
	b.moves(b.order(crossing.TaskMove))
}

// A guard takes nobody to where more fails than where they are.
func TestAGuardGoesToNoWorseSide(t *testing.T) {
	for _, c := range []struct {
		blue, green int64 // of ten answers that fail
		back        bool
	}{{9, 4, false}, {9, 10, true}, {4, 9, true}, {10, 10, true}} {
		b := newBench(t, func(p *plan.Plan) { p.Route[0].Dwell = time.Hour })
		b.answer(5*time.Second, 100, 0)
		b.shifts()
		b.answer(5*time.Second, 80, 20)
		for range 8 {
			b.now = b.now.Add(500 * time.Millisecond)
			for side, bad := range []int64{c.blue, c.green} {
				i := &b.front.Sides[side].Instances[0]
				i.Requests += 10
				i.Status[5] += bad
			}
			b.look()
		}
		if b.e.State().GoingBack || b.e.State().Stage.Over() {
			t.Fatalf("%+v: it goes back before its guard has tripped: %v", c, b.e.State())
		}
		b.sides[split.Green][0].State = reading.Failing
		b.side(split.Green)
		_, nobody := crossing.FrozenBy[crossing.NobodyHome](b.e.State())
		if back := b.e.State().GoingBack; back != c.back || nobody == c.back {
			t.Errorf("of ten answers %d and %d fail, and it is %v", c.blue, c.green, b.e.State())
		}
	}
}

// Home is a place: what is known of it decides, if it was read within ten seconds.
func TestHome(t *testing.T) {
	b := newBench(t)
	b.shifts()
	b.sides[split.Blue][0].State = reading.Failing
	b.pass(time.Second)
	want := crossing.Serving{Known: true, Side: split.Blue, Instances: 1, Other: 1}
	err := b.command(crossing.Back{})
	if r, ok := crossing.Refused[crossing.NobodyThere](err); !ok || r.Serving != want {
		t.Errorf("to nobody: %v, %+v", err, r)
	}
	b.now = b.now.Add(11 * time.Second) // what was known is old: home goes
	if err := b.command(crossing.Back{}); err != nil {
		t.Error(err)
	}
	o := b.order(crossing.TaskHome)
	b.front.Split, b.front.Order = reading.Split{Share: 0, Revision: 9}, reading.Order{Generation: 1, Side: split.Blue}
	b.e.Report(b.now, crossing.Returned{Task: o.ID, Share: 0, Generation: 1, Revision: 9})
	b.front.Split = reading.Split{Share: 2000, Revision: 10}
	b.pass(time.Second)
	if o := b.order(crossing.TaskHome); o.Side != split.Blue {
		t.Errorf("it goes home to %v", o.Side)
	}
}

// What the front and its members say is in the way of a beginning, or nothing is known.
func TestWhatIsInTheWay(t *testing.T) {
	b := newBench(t, func(p *plan.Plan) { p.Guards = nil })
	b.front.Apart = []reading.Apart{{Front: "quay", Share: 500}}
	b.read()
	b.refused(crossing.Raise{Side: split.Green}, crossing.GetsRequests{})
	b.refused(crossing.Begin{Target: split.Green, Route: b.e.plan.Route}, crossing.GetsRequests{})
	e := New(b.e.plan, crossing.State{}, b.now, Memory{})
	if _, err := e.Command(crossing.Moment{At: b.now},
		crossing.Shift{Share: 500}); err == nil ||
		!strings.Contains(err.Error(), crossing.NotRead{}.Name()) {
		t.Errorf("before the front was read: %v", err)
	}
	if due := e.Due(b.now); due.Sub(b.now) != judgeEvery {
		t.Errorf("it is due in %v", due.Sub(b.now))
	}
	b.front.Apart = nil
	b.read()
	b.shifts()
	b.e.Rehearsed(wayback.Rehearsal{At: b.now, Failed: "other.conf:12: unknown directive"})
	if v := b.e.View(b.now); v.WayBack.State != "closed" ||
		oneof.As[wayback.Front](v.WayBack.Worst).Rehearsal.Failed == "" {
		t.Errorf("a front that would not take it: %+v", v.WayBack)
	}
}

// What was asked for before everybody went home is overtaken, but for going home.
func TestWhatIsOvertaken(t *testing.T) {
	b := newBench(t)
	b.front.Order = reading.Order{Generation: 3, Side: split.Blue, At: b.now.Add(time.Second)}
	b.read()
	m := crossing.Moment{At: b.now, Seen: b.e.State().Seq, As: new(uint64)}
	_, err := b.e.Command(m, crossing.Shift{Share: 500})
	if r, ok := crossing.Refused[crossing.Overtaken](err); !ok || r.Order.Generation != 3 {
		t.Errorf("a shift from before: %v", err)
	}
	b.stand(split.Green, "4.3.0", reading.Healthy)
	b.look()
	*m.As = 3
	_, err = b.e.Command(m, crossing.Shift{Share: 500})
	if _, ok := crossing.Refused[crossing.NotProven](err); !ok {
		t.Errorf("to a side that nobody proved: %v", err)
	}
	good := proof.Proof{Results: []proof.Result{{Check: "search", Pass: true}}}
	b.e.Proved(split.Green, good, b.e.Running(split.Green))
	if _, err := b.e.Command(m, crossing.Shift{Share: 500}); err != nil {
		t.Errorf("one from after: %v", err)
	}
	b = newBench(t)
	b.shifts()
	b.front.Order = reading.Order{Generation: 3, Side: split.Green, At: b.now.Add(time.Second)}
	b.read()
	m = crossing.Moment{At: b.now, Seen: b.e.State().Seq, As: new(uint64)}
	if _, err := b.e.Command(m, crossing.Back{}); err != nil {
		t.Errorf("going back: %v", err)
	}
}

// What is shown is what was read, over the spans that it is said for.
func TestTheView(t *testing.T) {
	b := newBench(t)
	b.shifts()
	second := func(n int64) {
		b.front.Sides[0].Instances[0].Requests += n
		b.front.Sides[0].Open = 3
		b.pass(time.Second)
	}
	for range 12 {
		second(10)
	}
	b.front.Split.Share = 0 // so that it does not go on
	for range 3 {
		second(50)
	}
	v := b.e.View(b.now)
	blue := v.Sides[split.Blue]
	if f := blue.Figures; f.Requests != 2*50 || f.Rate != 50 || blue.Open != 3 || blue.Healthy != 1 ||
		blue.Wanted != 1 || blue.Capacity != 100 || blue.Build != "b-4.2.0" {
		t.Errorf("blue: %+v", blue)
	}
	if v.Traffic.Rate != 50 || v.Traffic.Capacity != [2]float64{100, 100} || len(v.Parts) != 1 ||
		v.Parts[0].Wanted != [2]int{1, 1} {
		t.Errorf("traffic %+v, parts %+v", v.Traffic, v.Parts)
	}
	if p := v.Track[len(v.Track)-1]; p.All != 50 || p.Green != 0 {
		t.Errorf("the last second is %+v", p)
	}
	started := b.sides[split.Green][0].Started
	if v.Overlap.Since != started || v.Overlap.Cost.Amount != raise.Cost(0.1, []time.Time{started}, b.now) {
		t.Errorf("both stand: %+v, since %v", v.Overlap, started)
	}
	b = newBench(t)
	b.shifts()
	for range 6 {
		b.front.Sides[0].Instances[0].Requests += 48
		b.front.Sides[1].Instances[0].Requests += 12
		b.pass(time.Second)
	}
	if v := b.e.View(b.now).WayBack; v.State != "open" ||
		math.Abs(oneof.As[wayback.Carries](v.Conditions[1]).Headroom-(100.0/60-1)) > 0.001 ||
		v.Conditions[0].Is != (wayback.Healthy{Healthy: 1, Instances: 1}) {
		t.Errorf("way back %+v", v)
	}
	for range 12 {
		b.now = b.now.Add(500 * time.Millisecond)
		b.read()
	}
	if c := b.e.View(b.now).WayBack.Conditions[0]; oneof.As[wayback.Healthy](c).Stale != 6*time.Second ||
		c.State != "narrow" {
		t.Errorf("blue was not read for 6 s: %+v", c)
	}
	// A point of the track is what both sides answered in its second.
	b = newBench(t, func(p *plan.Plan) { p.Parts[0].Stacks[split.Blue].Capacity = plan.Capacity{} })
	b.shifts()
	for range 4 {
		for side, n := range [2]int64{30, 10} {
			c := &b.front.Sides[side].Instances[0]
			c.Requests, c.Status[5] = c.Requests+n, c.Status[5]+n/5
		}
		b.pass(time.Second)
	}
	v = b.e.View(b.now)
	if p := v.Track[len(v.Track)-1]; p.Planned != 2000 || p.Green != 10 || p.All != 40 || p.Failing != 8 {
		t.Errorf("the last second is %+v", p)
	}
	if c := v.WayBack.Conditions[1]; oneof.As[wayback.Carries](c).Headroom != 0 {
		t.Errorf("without a capacity the headroom is %v", c)
	}
	// A side of two versions has both, and one without a crossing lives where all requests went last.
	b = newBench(t, func(p *plan.Plan) { p.Guards = nil })
	b.sides[split.Blue] = append(b.sides[split.Blue], b.sides[split.Blue][0])
	b.sides[split.Blue][1].Version = "4.1.0"
	b.sides[split.Blue][1].Part = "worker"
	b.front.Split = reading.Split{Share: 5001, Revision: 3}
	b.pass(time.Second)
	if v := b.e.View(b.now); v.Live != split.Blue || v.Sides[split.Blue].Version != "4.2.0" ||
		v.Sides[split.Blue].Healthy != 2 || v.Sides[split.Blue].Capacity != 100 {
		t.Errorf("live is %v, blue %+v", v.Live, v.Sides[split.Blue])
	}
	b.sides[split.Blue][1].Part = "web"
	b.front.Split.Share = 5000
	b.pass(time.Second)
	if v := b.e.View(b.now); v.Live != split.Blue || v.Sides[split.Blue].Version != "4.2.0 and 4.1.0" ||
		v.Sides[split.Blue].Capacity != 200 {
		t.Errorf("live is %v, blue %+v", v.Live, v.Sides[split.Blue])
	}
}

// What a keeper finds that is started again, and what a front is not told meanwhile.
func TestStartedAgain(t *testing.T) {
	b := newBench(t)
	b.shifts()
	b.sides[split.Green][0].Running = false
	b.e = New(b.e.plan, b.e.State(), b.now, Memory{})
	b.read()
	if len(b.e.State().Freezes) > 0 {
		t.Error("what was found is judged before the sides were read")
	}
	b.side(split.Blue)
	b.side(split.Green)
	f, ok := crossing.FrozenBy[crossing.FoundAgain](b.e.State())
	if !ok || !reflect.DeepEqual(f.Found,
		crossing.Found{Share: 2000, Noted: 2000, Running: [2]int{1, 0}, Wanted: [2]int{1, 1}, Known: true}) {
		t.Errorf("found %+v", f.Found)
	}
	b = newBench(t)
	b.e = New(b.e.plan, crossing.State{Stage: crossing.Shifting, Target: split.Green, Share: 2000, Leg: -1}, b.now,
		Memory{})
	b.read()
	for n, want := range []bool{false, true} { // sides that do not come are not waited for for ever
		b.now = b.now.Add(startFor - time.Second + time.Duration(n)*time.Second)
		b.e.Pass(b.now)
		if _, ok := crossing.FrozenBy[crossing.FoundAgain](b.e.State()); ok != want {
			t.Errorf("after %v it is taken up: %v", b.now.Sub(first), ok)
		}
	}
	b = newBench(t)
	b.begin()
	b.stand(split.Green, "4.1.0", reading.Healthy) // an old one, which is being replaced
	b.side(split.Green)
	if tell, ok := b.e.Telling(b.now); ok {
		t.Errorf("the front is to be told of instances that are being replaced: %+v", tell)
	}
}

func TestJudgeSplit(t *testing.T) {
	random := plan.Front{Key: plan.Key{From: plan.KeyRandom}}
	cookie := plan.Front{Key: plan.Key{From: plan.KeyCookie}}
	for _, c := range []struct {
		name   string
		front  plan.Front
		both   bool
		counts evidence.Count
		door   [2]int64
		wrong  bool
	}{
		{"nothing counted", random, true, evidence.Count{}, [2]int64{}, false},
		{"as asked", random, true, evidence.Count{Bad: 250, Of: 1000}, [2]int64{75, 25}, false},
		{"the front counts otherwise", random, true, evidence.Count{Bad: 100, Of: 1000}, [2]int64{}, true},
		{"the door sees otherwise", random, true, evidence.Count{Bad: 250, Of: 1000}, [2]int64{400, 20}, true},
		{"one cookie sees one side", cookie, false, evidence.Count{Bad: 250, Of: 1000}, [2]int64{400, 0}, false},
		{"where the prober has many, it sees both", cookie, true, evidence.Count{Bad: 250, Of: 1000}, [2]int64{400, 0},
			true},
		{"clients that stay may be off by more", cookie, true, evidence.Count{Bad: 22_000, Of: 100_000}, [2]int64{},
			false},
		{"as may sessions", plan.Front{Key: random.Key, Sticky: true}, true, evidence.Count{Bad: 22_000, Of: 100_000},
			[2]int64{}, false},
		{"and requests one by one may not", random, true, evidence.Count{Bad: 22_000, Of: 100_000}, [2]int64{}, true},
	} {
		v := JudgeSplit(2500, c.front, reading.Capabilities{Both: c.both}, c.counts, c.door)
		if all := c.door[0] + c.door[1]; v.Wrong != c.wrong || v.Asked != 2500 || v.Door.Of != 0 && v.Door.Of != all {
			t.Errorf("%s: %+v", c.name, v)
		}
	}
	kept := JudgeSplit(split.Whole, plan.Front{Key: random.Key, Sticky: true}, reading.Capabilities{Both: true},
		evidence.Count{Bad: 800, Of: 1000}, [2]int64{0, 2000})
	if kept.Wrong || kept.Front.Verdict != evidence.NotTold || kept.Prober.Verdict != evidence.AsAsked {
		t.Errorf("those that sessions keep on the old side are held for astray: %+v", kept)
	}
	few := JudgeSplit(2500, cookie, reading.Capabilities{Clients: true}, evidence.Count{Bad: 36, Of: 100}, [2]int64{})
	if few.Wrong || few.Front.Chance.High < 0.35 || few.Front.Chance.Low > 0.16 {
		t.Errorf("36 of a hundred clients: %+v", few)
	}
	b := newBench(t)
	b.shifts()
	for range 40 {
		b.front.Sides[0].Instances[0].Requests += 100
		b.pass(500 * time.Millisecond)
	}
	since := b.e.View(b.now).Split.Since
	b.pass(time.Second)
	if v := b.e.View(b.now); !v.Split.Wrong || since.IsZero() || v.Split.Since != since {
		t.Errorf("all on blue where a fifth should not be: %+v", v.Split)
	}
}

// Readings count for as long as is said, to the moment.
func TestHowLongReadingsCount(t *testing.T) {
	b := newBench(t)
	b.shifts()
	b.look()
	lacks := func(after time.Duration) string {
		text := ""
		for _, l := range b.e.View(b.now.Add(after)).Lacks {
			text += l.Kind() + " "
		}
		return text
	}
	sides := max(staleSides*b.e.plan.HealthEvery(), freshSide)
	for after, want := range map[time.Duration]string{
		freshFront: "", freshFront + 1: "front ", sides: "front ", sides + 1: "front side side ",
	} {
		if got := lacks(after); got != want {
			t.Errorf("after %v it lacks %q, want %q", after, got, want)
		}
	}
	if w := b.e.View(b.now.Add(sides + 1)).WayBack; w.State != "narrow" ||
		oneof.As[wayback.Healthy](w.Worst).Stale != sides+1 {
		t.Errorf("the way back is %+v", w)
	}
	// A reading that was asked for before a change of ours was confirmed is not one.
	asked := Asked{b.now, b.e.front.changes}
	b.pass(9 * time.Second)
	late := b.front
	b.pass(time.Second)
	b.moves(b.order(crossing.TaskMove))
	b.e.FrontRead(b.now, asked, late)
	if s := b.e.State(); s.Share != split.Whole || s.Stage != crossing.Keeping {
		t.Errorf("after an old reading: %v", s)
	}
}

// After a going home nothing is raised or retired for as long as it is held; an order that
// sent everything elsewhere is held no less, and one that did not is not held.
func TestHolding(t *testing.T) {
	for _, c := range []struct {
		what  string
		share split.Share
		holds bool
	}{{"all is home", 0, true}, {"something came through after it", 500, false}} {
		b := newBench(t, func(p *plan.Plan) { p.Guards = nil })
		b.front.Order = reading.Order{Generation: 2, Side: split.Blue}
		b.front.Split = reading.Split{Share: c.share, Revision: 3}
		b.read()
		b.front.Split = reading.Split{Share: 0, Revision: 4}
		b.now = b.now.Add(time.Second)
		b.look()
		if err := b.command(crossing.Raise{Side: split.Green,
			Choices: []raise.Choice{{Part: "web", Version: "4.3.0"}}}); err != nil {
			t.Fatal(err)
		}
		if got := len(b.e.Orders()) == 0; got != c.holds {
			t.Errorf("%s: holding is %v", c.what, got)
		}
		b.pass(holdFor)
		b.order(crossing.TaskRaise)
	}
}

// A guard that would go back to where the front knows nobody asks for it once, and again
// when somebody is known there.
func TestNobodyAtHomeByTheFrontsWord(t *testing.T) {
	b := newBench(t, func(p *plan.Plan) { p.Guards[0].Most = 0 })
	b.shifts()
	b.sides[split.Green][0].State = reading.Failing
	b.look()
	o := b.order(crossing.TaskHome)
	// The last reading of the front still has blue's instance; its own word is younger.
	b.e.Report(b.now, crossing.NotReturned{Task: o.ID, Home: crossing.Serving{Side: split.Blue}})
	kept := b.front.Sides[split.Blue].Instances
	b.front.Sides[split.Blue].Instances = nil
	before := b.e.State().Seq
	for _, side := range split.Sides {
		b.side(side)
	}
	b.pass(5 * time.Second)
	if s := b.e.State(); s.Seq != before || len(s.Freezes) != 1 || !oneof.IsA[crossing.NobodyHome](s.Freezes[0].Cause) {
		t.Errorf("%d more events: %v", s.Seq-before, s)
	}
	b.front.Sides[split.Blue].Instances = kept
	b.pass(time.Second)
	b.order(crossing.TaskHome)
}

// A list that failed says nothing new of a side; one that failed in part, what it has.
func TestAListThatFails(t *testing.T) {
	b := newBench(t)
	list := func(said string, conditions ...reading.Condition) SideView {
		b.now = b.now.Add(time.Second)
		b.e.SideRead(b.now, SideReading{Side: split.Blue, Asked: Asked{At: b.now}, At: b.now, Conditions: conditions,
			Error: said})
		return b.e.View(b.now).Sides[split.Blue]
	}
	at := b.now
	if v := list("no answer"); len(v.Instances) != 1 || v.At != at || v.Error != "no answer" {
		t.Errorf("after a list that failed: %+v", v)
	}
	if v := list("host b: no answer", b.sides[split.Blue][0]); len(v.Instances) != 1 || v.At != b.now || v.Error == "" {
		t.Errorf("after one that failed in part: %+v", v)
	}
	if v := list(""); len(v.Instances) != 0 || v.At != b.now || v.Error != "" {
		t.Errorf("after one of nobody: %+v", v)
	}
}

// Nobody waits for sides that cannot be read when a keeper was started, for longer than it
// takes them to be tried, or than is said.
func TestHowLongSidesAreWaitedFor(t *testing.T) {
	for _, c := range []struct {
		after time.Duration
		ready bool
	}{{startFor - 1, false}, {startFor, true}} {
		b := newBench(t)
		e := New(b.e.plan, crossing.State{Stage: crossing.Shifting, Number: 1, Target: split.Green, Share: 2000,
			Moved: true}, first, Memory{})
		r := b.front
		r.At = first.Add(c.after)
		e.FrontRead(r.At, Asked{At: r.At}, r)
		if got := e.View(r.At).Ready; got != c.ready {
			t.Errorf("after %v without the sides it is ready: %v", c.after, got)
		}
	}
}

// A side that was proven and has died since gets nothing more, by hand or by time.
func TestNothingMoreGoesToADeadSide(t *testing.T) {
	b := newBench(t, func(p *plan.Plan) { p.Guards = nil })
	b.shifts()
	b.sides[split.Green][0].State, b.sides[split.Green][0].Running = reading.Exited, false
	b.look()
	b.refused(crossing.Next{Leg: 1}, crossing.NobodyServes{})
	b.pass(10 * time.Second)
	f, frozen := crossing.FrozenBy[crossing.NobodyLeft](b.e.State())
	if !frozen || len(b.e.Orders()) > 0 || f.Target.Instances != 1 {
		t.Errorf("when its leg was over: %v", b.e.State())
	}
	b.stand(split.Green, "4.3.0", reading.Healthy)
	b.look()
	if err := b.command(crossing.Resume{}); err != nil {
		t.Fatal(err)
	}
	b.pass(time.Second)
	b.order(crossing.TaskMove)
}

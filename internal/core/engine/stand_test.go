package engine

import (
	"slices"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// stands makes a plan's side one of instances that somebody else started.
func stands(side split.Side) func(*plan.Plan) {
	return func(p *plan.Plan) {
		p.Parts[0].Stacks[side].Stands = []plan.Stand{{Kind: plan.StandAddress, Address: side.String() + ":80"}}
	}
}

// A side that stands leaves the rotation when it is retired, and the front is told of it again when it is raised, and
// not before.
func TestWhatStandsLeavesTheRotation(t *testing.T) {
	b := newBench(t, stands(split.Blue))
	b.shifts()
	b.pass(11 * time.Second)
	b.moves(b.order(crossing.TaskMove))
	b.pass(21 * time.Second)
	o := b.order(crossing.TaskRetire)
	b.e.Report(b.now, crossing.Stopping{Task: o.ID, Stands: true})
	b.front.Sides[split.Blue].Instances = nil
	b.e.Report(b.now, crossing.Retired{Task: o.ID, Side: split.Blue, Stands: true, Stays: 1})
	b.pass(time.Second)
	if tell, ok := b.e.Telling(b.now); ok {
		t.Errorf("the front is told of a side that was retired: %+v", tell)
	}
	v := b.e.View(b.now)
	if !v.Sides[split.Blue].Out || !v.Sides[split.Blue].Stands || len(v.Sides[split.Blue].Instances) != 1 ||
		v.Sides[split.Green].Stands {
		t.Errorf("blue is %+v", v.Sides[split.Blue])
	}
	b.refused(crossing.Back{}, crossing.Gone{})
	if err := b.command(crossing.Begin{
		Service: "sailings", Number: 2, Target: split.Blue, LiveVersion: "4.3.0",
		Choices: []raise.Choice{{Part: "web", Version: "4.2.0", Build: "another"}}, Route: b.e.plan.Route,
		Keep: time.Minute,
	}); err != nil {
		t.Fatal(err)
	}
	b.e.Started(b.now, b.order(crossing.TaskRaise).ID)
	b.pass(time.Second)
	if b.order(crossing.TaskProve); b.e.View(b.now).Sides[split.Blue].Out {
		t.Error("raised again it is still out")
	}
	if tell, ok := b.e.Telling(b.now); !ok || tell.Side != split.Blue {
		t.Errorf("then the front is told %+v, %v", tell, ok)
	}
}

// A front that sends requests to somebody whom the plan does not name keeps the side as it is; of those that were
// named once, one that is gone is taken out.
func TestStrangersAreLeftAlone(t *testing.T) {
	b := newBench(t, stands(split.Blue))
	b.front.Sides[split.Blue].Instances = append(b.front.Sides[split.Blue].Instances,
		reading.Count{Server: reading.Server{Name: "app3", Address: "10.1.0.9:80"}})
	b.look()
	if tell, ok := b.e.Telling(b.now); ok {
		t.Errorf("the front is told %+v", tell)
	}
	if got := b.e.View(b.now).Sides[split.Blue].Strange; !slices.Equal(got, []string{"10.1.0.9:80"}) {
		t.Errorf("strange are %v", got)
	}
	second := b.sides[split.Blue][0]
	second.Name, second.Address = "blue-2", "10.1.0.9:80"
	b.sides[split.Blue] = append(b.sides[split.Blue], second) // the plan names it now
	b.look()
	if got := b.e.View(b.now).Sides[split.Blue].Strange; got != nil {
		t.Errorf("strange are still %v", got)
	}
	b.sides[split.Blue] = b.sides[split.Blue][:1]
	b.look()
	if tell, ok := b.e.Telling(b.now); !ok || len(tell.Servers) != 1 {
		t.Errorf("when it is gone the front is told %+v, %v", tell, ok)
	}
}

// What stands is raised when it is at the version, whoever brought it there; one that is down, or not there yet, may
// come.
func TestARaiseOfWhatStands(t *testing.T) {
	b := newBench(t, stands(split.Green))
	b.stand(split.Green, "4.2.0", reading.Healthy)
	b.look()
	b.begin()
	b.e.Started(b.now, b.order(crossing.TaskRaise).ID)
	b.pass(3 * time.Second)
	b.order(crossing.TaskRaise) // it waits
	b.stand(split.Green, "4.3.0", reading.Exited)
	b.pass(3 * time.Second)
	b.order(crossing.TaskRaise)
	b.stand(split.Green, "4.3.0", reading.Healthy)
	b.pass(time.Second)
	b.order(crossing.TaskProve)
	c := newBench(t, stands(split.Green))
	c.stand(split.Green, "4.2.0", reading.Healthy)
	c.look()
	c.begin()
	c.e.Started(c.now, c.order(crossing.TaskRaise).ID)
	c.pass(21 * time.Second)
	if s := c.e.State(); s.Stage != crossing.CalledOff || notRaised(s).Raise.Stuck[0].Said != "it runs 4.2.0" {
		t.Errorf("when it does not come: %v", s)
	}
}

// Where the live side is dead nobody waits for word of it: what is proven gets everything in one step, and no guard
// asks for somebody to compare with.
func TestAtOnce(t *testing.T) {
	b := newBench(t)
	begin := crossing.Begin{
		Service: "sailings", Number: 1, Target: split.Green, LiveVersion: "4.2.0",
		Choices: []raise.Choice{{Part: "web", Version: "4.3.0", Build: "b-4.3.0"}}, AtOnce: true,
		Route: b.e.plan.Route, Keep: b.e.plan.Keep,
	}
	b.refused(begin, crossing.LiveServes{})
	b.stand(split.Blue, "4.2.0", reading.Exited)
	b.pass(2 * time.Second)
	if !b.e.View(b.now).Dead {
		t.Error("nobody says that the live side is dead")
	}
	if err := b.command(begin); err != nil {
		t.Fatal(err)
	}
	o := b.order(crossing.TaskRaise)
	b.stand(split.Green, "4.3.0", reading.Healthy)
	b.e.Started(b.now, o.ID)
	for range 8 { // of blue, whose place is gone too, nothing is read any more
		b.now = b.now.Add(500 * time.Millisecond)
		b.read()
		b.side(split.Green)
	}
	b.proves(b.order(crossing.TaskProve))
	b.told(split.Green)
	b.read()
	o = b.order(crossing.TaskMove)
	if o.Share != split.Whole {
		t.Errorf("the first step is %v", o.Share)
	}
	b.moves(o)
	if s := b.e.State(); s.Stage != crossing.Keeping || s.Frozen() {
		t.Errorf("then it is %v", s)
	}
}

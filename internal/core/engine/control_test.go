package engine

import (
	"fmt"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

// control is a crossing with a control group of one, which is being raised.
func control(t *testing.T) *bench {
	t.Helper()
	b := newBench(t, func(p *plan.Plan) {
		p.Route = route.Route{{Part: 2000, Dwell: 10 * time.Second, Control: true}, {Part: 6000, Dwell: time.Minute},
			{Part: split.Whole}}
		p.Guards = append(p.Guards, plan.Guard{Name: "failing", Watch: plan.Failing, Margin: 0.01, Find: 0.05,
			Then: plan.RollBack})
	})
	p := b.e.plan
	err := b.command(crossing.Begin{
		Service: p.Service, Number: 1, Target: split.Green, LiveVersion: "4.2.0", Route: p.Route, Keep: p.Keep,
		Then:    p.Then,
		Choices: []raise.Choice{{Part: "web", Version: "4.3.0", Build: "b-4.3.0", Instances: 1}},
		Control: crossing.Control{Stood: []string{"blue-1"},
			Choices: []raise.Choice{{Part: "web", Version: "4.2.0", Build: "b-4.2.0", Instances: 2}}},
	})
	if err != nil {
		t.Fatal(err)
	}
	o := b.order(crossing.TaskRaise)
	b.stand(split.Green, "4.3.0", reading.Healthy)
	b.e.Started(b.now, o.ID)
	b.pass(time.Second)
	if o = b.order(crossing.TaskRaise); !o.Control || o.Side != split.Blue || raise.Wanted(o.Choices) != 2 {
		t.Fatalf("behind the new side ordered is %v", o)
	}
	b.e.Started(b.now, o.ID)
	c := b.sides[split.Blue][0]
	c.Name, c.Address, c.State, c.Started = "blue-2", "blue-2:80", reading.Starting, b.now
	b.sides[split.Blue] = append(b.sides[split.Blue], c)
	return b
}

// tell gives the front what it is to be told of a side, which has to be so many, and these of the control group.
func (b *bench) tell(side split.Side, all, group int) {
	b.t.Helper()
	tell, ok := b.e.Telling(b.now)
	of := 0
	for _, s := range tell.Servers {
		if s.Control {
			of++
		}
	}
	if !ok || tell.Side != side || len(tell.Servers) != all || of != group {
		b.t.Fatalf("the front is to be told %+v, %v; want %d of %v, %d of them control", tell, ok, all, side, group)
	}
	b.front.Sides[side].Instances = nil
	for _, s := range tell.Servers {
		b.front.Sides[side].Instances = append(b.front.Sides[side].Instances, reading.Count{Server: s})
	}
	b.read()
}

// besideControl is that crossing on its first leg.
func besideControl(t *testing.T) *bench {
	t.Helper()
	b := control(t)
	b.pass(2 * time.Second)
	if tell, ok := b.e.Telling(b.now); ok && tell.Side == split.Blue {
		t.Fatalf("while it starts the front is to be told %+v", tell)
	}
	b.sides[split.Blue][0].State = reading.Failing // which is no matter of the group
	b.sides[split.Blue][1].State = reading.Healthy
	b.pass(time.Second)
	b.sides[split.Blue][0].State = reading.Healthy
	b.look()
	b.proves(b.order(crossing.TaskProve))
	b.pass(time.Second)
	if lacks := b.e.View(b.now).Lacks; len(lacks) != 1 || !oneof.IsA[crossing.LackControl](lacks[0]) {
		t.Errorf("before the front has the group there is lacking %v", lacks)
	}
	b.tell(split.Blue, 2, 1)
	b.tell(split.Green, 1, 0)
	b.pass(time.Second)
	b.moves(b.order(crossing.TaskMove))
	return b
}

// A control group comes up behind the new side, is told to the front before the first leg, and gets nothing of its own
// any more when a leg goes without it; guards compare with it as long as it gets something.
func TestBesideControl(t *testing.T) {
	b := besideControl(t)
	answer := func(rest, group, green int64) { // a sixth of the rest fails
		blue := b.front.Sides[split.Blue].Instances
		blue[0].Requests, blue[1].Requests = blue[0].Requests+rest, blue[1].Requests+group
		blue[0].Status[5] += rest / 6
		b.front.Sides[split.Green].Instances[0].Requests += green
		b.now = b.now.Add(500 * time.Millisecond)
		b.look()
	}
	for range 10 {
		answer(60, 20, 20)
	}
	v := b.e.View(b.now)
	if g := v.Guards[1]; !g.Control || g.Baseline.Bad > 0 || g.Baseline.Of == 0 {
		t.Errorf("the guard compares with what is not its control group: %+v", g)
	}
	if v.Beside.Instances != 1 || v.Beside.Figures.Requests == 0 || v.Beside.Figures.Failing > 0 {
		t.Errorf("the control group is shown as %+v", v.Beside)
	}
	if of := v.Sides[split.Blue].Figures; of.Requests < 3*v.Beside.Figures.Requests || of.Failing == 0 {
		t.Errorf("its side is shown as %+v", of)
	}
	for range 20 {
		answer(0, 80, 20)
	}
	b.moves(b.order(crossing.TaskMove))
	b.tell(split.Blue, 2, 0)
	b.pass(time.Second)
	if v := b.e.View(b.now); v.Beside.Instances != 0 || v.Guards[1].Control {
		t.Errorf("beyond its legs: %+v, %+v", v.Beside, v.Guards[1])
	}
}

// Whoever goes home relies on nobody of a control group: that it is ill makes no side ill, nor what it carries room.
func TestNobodyReliesOnAControlGroup(t *testing.T) {
	b := besideControl(t)
	if v := b.e.View(b.now).Sides[split.Blue]; v.Capacity != 100 {
		t.Errorf("blue carries %v", v.Capacity)
	}
	c := b.sides[split.Blue][1]
	for n := range 4 {
		c.Name = fmt.Sprint("blue-", n+3)
		c.Address, c.State = c.Name+":80", reading.Exited
		b.sides[split.Blue] = append(b.sides[split.Blue], c)
	}
	b.sides[split.Blue][1].State = reading.Exited
	b.pass(time.Second)
	if s := b.e.State(); s.Frozen() || s.GoingBack {
		t.Errorf("with a dead group: %v", s)
	}
	b.front.Sides[split.Blue].Instances[1].Out = true
	b.pass(time.Second)
	if lacks := b.e.View(b.now).Lacks; len(lacks) == 0 || !oneof.IsA[crossing.LackControl](lacks[0]) {
		t.Errorf("with nobody of it in the front there is lacking %v", lacks)
	}
}

// What is left of a control group when all went home is taken from the front, then stopped, and only that.
func TestAControlGroupIsStopped(t *testing.T) {
	b := besideControl(t)
	if err := b.command(crossing.Back{Stands: true, Read: true}); err != nil {
		t.Fatal(err)
	}
	o := b.order(crossing.TaskHome)
	b.front.Split.Share, b.front.Order.Generation = 0, 1
	b.e.Report(b.now, crossing.Returned{Task: o.ID, Share: 0, Generation: 1})
	b.pass(20 * time.Second)
	if list := b.e.Orders(); len(list) > 0 {
		t.Fatalf("the front still has it, and ordered is %v", list)
	}
	b.tell(split.Blue, 1, 0)
	b.pass(time.Second)
	if o = b.order(crossing.TaskRaise); !o.Control || !o.Act || o.Side != split.Blue || raise.Wanted(o.Choices) != 1 {
		t.Fatalf("ordered is %+v", o)
	}
	b.e.Report(b.now, crossing.Failed{Task: o.ID, Trouble: crossing.Went(crossing.TroubleRaise{Said: "no answer"})})
	b.pass(time.Minute)
	if list := b.e.Orders(); len(list) > 0 {
		t.Fatalf("it is tried again at once: %v", list)
	}
	b.pass(leftAgain - time.Minute + time.Second)
	o = b.order(crossing.TaskRaise)
	b.e.Started(b.now, o.ID)
	b.sides[split.Blue] = b.sides[split.Blue][:1]
	b.pass(time.Minute)
	if s := b.e.State(); s.Task.ID != 0 || s.Control.Begun || s.Trouble.Is != nil {
		t.Errorf("after that: %v, %+v", s, s.Control)
	}
	if v := b.e.View(b.now).Sides[split.Blue]; v.Wanted != 1 {
		t.Errorf("%d instances are wanted", v.Wanted)
	}
}

// A group that does not come up calls the crossing off before anything moves.
func TestAControlGroupDoesNotComeUp(t *testing.T) {
	b := control(t)
	b.pass(25 * time.Second)
	if s := b.e.State(); s.Stage != crossing.CalledOff {
		t.Errorf("it is %v", s)
	}
}

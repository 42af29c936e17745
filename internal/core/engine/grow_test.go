package engine

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// grows brings a crossing to where green is to get two instances more, before all goes there.
func grows(t *testing.T) *bench {
	t.Helper()
	b := newBench(t, func(p *plan.Plan) { p.Parts[0].Stacks[split.Green].Restart = true })
	b.more = raise.Choice{Part: "web", Version: "4.3.0", Build: "b-4.3.0", Instances: 1, Until: 5000, Then: 3}
	b.shifts()
	if w := b.e.View(b.now).Sides[split.Green].Wanted; w != 1 {
		t.Errorf("at first %d are wanted", w)
	}
	b.pass(11 * time.Second)
	o := b.order(crossing.TaskRaise)
	if !o.More || raise.Wanted(o.Choices) != 3 {
		t.Fatalf("ordered is %+v", o)
	}
	b.e.Started(b.now, o.ID)
	return b
}

// adds has green stand with more instances, which are in a state.
func (b *bench) adds(n int, state reading.Health) {
	for len(b.sides[split.Green]) < n {
		c := b.sides[split.Green][0]
		c.Name, c.State, c.Started = fmt.Sprintf("green-%d", len(b.sides[split.Green])+1), state, b.now
		c.Address = c.Name + ":80"
		c.History = []float64{-1, -1, -1}
		b.sides[split.Green] = append(b.sides[split.Green], c)
	}
}

// Instances that a side gets for a leg are no matter of guards and get no requests before the side is proven with
// them; the leg begins when the front knows them.
func TestASideGrows(t *testing.T) {
	b := grows(t)
	b.adds(3, reading.Starting)
	b.pass(5 * time.Second)
	if s := b.e.State(); s.GoingBack || s.Frozen() || s.Task.Do != crossing.TaskRaise {
		t.Fatalf("while they start: %v", s)
	}
	if tell, ok := b.e.Telling(b.now); ok {
		t.Errorf("the front is told %+v", tell)
	}
	for n := range b.sides[split.Green] {
		b.sides[split.Green][n].State, b.sides[split.Green][n].History = reading.Healthy, nil
	}
	b.pass(time.Second)
	o := b.order(crossing.TaskProve)
	if tell, ok := b.e.Telling(b.now); ok {
		t.Errorf("before it is proven the front is told %+v", tell)
	}
	known := b.front.Sides[split.Green].Instances
	b.front.Sides[split.Green].Instances = nil // it has forgotten them: those that served are known to it again
	b.read()
	if tell, ok := b.e.Telling(b.now); !ok || len(tell.Servers) != len(known) || tell.Servers[0].Name != known[0].Name {
		t.Errorf("a front that has forgotten its instances is told %+v, %v", tell, ok)
	}
	b.front.Sides[split.Green].Instances = known
	b.read()
	b.proves(o)
	if orders := b.e.Orders(); len(orders) > 0 {
		t.Errorf("before the front knows them there is ordered %v", orders)
	}
	if tell, ok := b.e.Telling(b.now); !ok || len(tell.Servers) != 3 {
		t.Errorf("the front is told %+v, %v", tell, ok)
	}
	b.told(split.Green)
	b.look()
	if o := b.order(crossing.TaskMove); o.Share != split.Whole || b.e.View(b.now).Sides[split.Green].Wanted != 3 {
		t.Errorf("then %+v is ordered", o)
	}
}

// A side grows before its first share is in force, for a larger one: the first may come yet, so those of the growth
// are not told.
func TestASideGrowsBeforeItsFirstShare(t *testing.T) {
	b := newBench(t)
	b.more = raise.Choice{Part: "web", Version: "4.3.0", Build: "b-4.3.0", Instances: 1, Until: 5000, Then: 3}
	b.begin()
	o := b.order(crossing.TaskRaise)
	b.stand(split.Green, "4.3.0", reading.Healthy)
	b.e.Started(b.now, o.ID)
	b.pass(time.Second)
	b.proves(b.order(crossing.TaskProve))
	b.told(split.Green)
	b.look()
	b.order(crossing.TaskMove)
	if err := b.command(crossing.Steer{Share: 7500}); err != nil {
		t.Fatal(err)
	}
	o = b.order(crossing.TaskRaise)
	b.adds(3, reading.Healthy)
	b.e.Started(b.now, o.ID)
	b.pass(time.Second)
	o = b.order(crossing.TaskProve)
	if tell, ok := b.e.Telling(b.now); ok {
		t.Errorf("before it is proven the front is told %+v", tell)
	}
	b.proves(o)
	if tell, ok := b.e.Telling(b.now); !ok || len(tell.Servers) != 3 {
		t.Errorf("then it is told %+v, %v", tell, ok)
	}
}

// One that ends stands still and takes nobody back; what serves is watched all the while, and going back waits for
// nothing.
func TestASideDoesNotGrow(t *testing.T) {
	b := grows(t)
	b.adds(3, reading.Starting)
	b.sides[split.Green][2].State, b.sides[split.Green][2].Running = reading.Exited, false
	b.pass(time.Second)
	f, ok := crossing.FrozenBy[crossing.ByRaise](b.e.State())
	if !ok || len(oneof.As[crossing.TroubleRaise](f.Trouble).Raise.Stuck) != 2 {
		t.Fatalf("it stands at %v", b.e.State())
	}
	b.pass(30 * time.Second)
	if s := b.e.State(); s.GoingBack || s.Part() != 2000 {
		t.Errorf("then %v", s)
	}
	if tell, ok := b.e.Telling(b.now); ok {
		t.Errorf("the front is told %+v", tell)
	}
	if list := b.e.Restarts(b.now); len(list) > 0 {
		t.Errorf("started again is %v", list)
	}
	if err := b.command(crossing.Resume{}); err != nil {
		t.Fatal(err)
	}
	b.pass(time.Second) // the leg's time is over
	b.pass(2 * time.Second)
	if o := b.order(crossing.TaskRaise); !o.More || b.e.State().GoingBack {
		t.Errorf("it tries again with %v", b.e.State())
	}
	b.sides[split.Green][0].State = reading.Failing // who serves
	b.pass(2 * time.Second)
	if b.order(crossing.TaskHome); !b.e.State().GoingBack {
		t.Errorf("nobody heeds the guard: %v", b.e.State())
	}
}

// After the keeper was restarted in the middle, nobody of those that were not proven gets requests.
func TestAKeeperIsRestartedWhileASideGrows(t *testing.T) {
	b := grows(t)
	b.adds(3, reading.Healthy)
	b.pass(time.Second)
	b.order(crossing.TaskProve)
	s := b.e.State()
	b.e = New(b.e.plan, s, b.now, Memory{})
	b.pass(3 * time.Second)
	if s := b.e.State(); !s.Frozen() || s.Proven {
		t.Fatalf("it is at %v", s)
	}
	if tell, ok := b.e.Telling(b.now); ok {
		t.Errorf("the front is told %+v", tell)
	}
	if s.Choices[0].Instances != 3 || b.e.View(b.now).Sides[split.Green].Wanted != 3 {
		t.Errorf("wanted are %d, of %+v", b.e.View(b.now).Sides[split.Green].Wanted, s.Choices)
	}
}

// One that goes on for another in the middle knows who served before: a front that forgets is told of those alone.
func TestAKeeperIsHandedOverWhileASideGrows(t *testing.T) {
	b := grows(t)
	b.adds(3, reading.Healthy)
	b.pass(time.Second)
	b.order(crossing.TaskProve)
	data, err := json.Marshal(b.e.Hand(b.now))
	var m Memory
	if err == nil {
		err = json.Unmarshal(data, &m)
	}
	if err != nil {
		t.Fatal(err)
	}
	b.e = New(b.e.plan, b.e.State(), b.now, m)
	b.front.Sides[split.Green].Instances = nil
	b.pass(time.Second)
	if tell, ok := b.e.Telling(b.now); !ok || len(tell.Servers) != 1 || tell.Servers[0].Name != "green-1" {
		t.Errorf("the front is told %+v, %v", tell, ok)
	}
}

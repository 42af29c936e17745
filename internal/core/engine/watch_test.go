package engine

import (
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// sends has somebody put a share on green at the front.
func (b *bench) sends(share split.Share) {
	b.front.Split = reading.Split{Share: share, Revision: b.front.Split.Revision + 1, Since: b.now}
	b.told(split.Green)
}

// Whoever gets requests is watched, in every stage, whoever sent them.
func TestWhoeverGetsRequestsIsWatched(t *testing.T) {
	t.Run("sent by hand in the raise", func(t *testing.T) {
		b := newBench(t)
		b.begin()
		b.stand(split.Green, "4.3.0", reading.Failing)
		b.sends(3000)
		b.pass(2 * time.Second)
		if o := b.order(crossing.TaskHome); o.Side != split.Blue {
			t.Errorf("it goes to %v", o.Side)
		}
	})
	t.Run("sent by hand in the proof", func(t *testing.T) {
		b := newBench(t)
		b.begin()
		o := b.order(crossing.TaskRaise)
		b.stand(split.Green, "4.3.0", reading.Healthy)
		b.e.Started(b.now, o.ID)
		b.pass(time.Second)
		b.order(crossing.TaskProve)
		b.sends(3000)
		b.pass(2 * time.Second)
		b.stand(split.Green, "4.3.0", reading.Failing)
		b.pass(time.Second)
		b.order(crossing.TaskHome)
	})
	t.Run("by a change whose confirmation is late", func(t *testing.T) {
		b := newBench(t)
		b.begin()
		o := b.order(crossing.TaskRaise)
		b.stand(split.Green, "4.3.0", reading.Healthy)
		b.e.Started(b.now, o.ID)
		b.pass(time.Second)
		b.proves(b.order(crossing.TaskProve))
		b.told(split.Green)
		b.read()
		b.order(crossing.TaskMove)
		b.front.Split = reading.Split{Share: 2000, Revision: b.front.Split.Revision + 1, Since: b.now}
		b.pass(time.Second)
		if s := b.e.State(); s.Task.Do != crossing.TaskMove || s.Share != 0 {
			t.Fatalf("it is confirmed already: %v", s)
		}
		b.stand(split.Green, "4.3.0", reading.Failing)
		b.pass(time.Second)
		b.order(crossing.TaskHome)
	})
	settled := func(t *testing.T) *bench {
		b := newBench(t, func(p *plan.Plan) { p.Then = plan.ThenLeave })
		b.shifts()
		b.pass(10 * time.Second)
		b.moves(b.order(crossing.TaskMove))
		b.pass(20 * time.Second)
		if s := b.e.State(); s.Stage != crossing.Settled {
			t.Fatalf("it has not settled: %v", s)
		}
		return b
	}
	t.Run("the old side, after settled", func(t *testing.T) {
		b := settled(t)
		b.sends(9000)
		b.stand(split.Blue, "4.2.0", reading.Failing)
		b.pass(2 * time.Second)
		o := b.order(crossing.TaskHome)
		if o.Side != split.Green || !o.Act || oneof.As[crossing.ByGuard](o.Why).Alarm.Guard != "unhealthy" {
			t.Errorf("ordered is %+v", o.Task)
		}
		b.front.Order = reading.Order{Generation: 1, Side: split.Green}
		b.sends(split.Whole)
		b.e.Report(b.now, crossing.Returned{Task: o.ID, Share: split.Whole, Generation: 1,
			Revision: b.front.Split.Revision})
		b.pass(wellFor + time.Second)
		if s := b.e.State(); s.Stage != crossing.Settled || s.Task.ID != 0 || len(s.Ails) > 0 {
			t.Errorf("then it is %v, %+v", s, s.Ails)
		}
	})
	t.Run("the old side, where nobody else serves", func(t *testing.T) {
		b := settled(t)
		b.sends(9000)
		b.stand(split.Green, "4.3.0", reading.Failing)
		b.pass(2 * time.Second)
		b.stand(split.Blue, "4.2.0", reading.Failing)
		b.pass(2 * time.Second)
		if s := b.e.State(); len(b.e.Orders()) > 0 || len(s.Ails) != 2 {
			t.Errorf("it is said as %+v, to do %v", s.Ails, b.e.Orders())
		}
	})
	t.Run("the live side dies", func(t *testing.T) {
		b := settled(t)
		b.stand(split.Green, "4.3.0", reading.Failing)
		b.pass(2 * time.Second)
		v := b.e.View(b.now)
		if s := v.Crossing; len(s.Ails) != 1 || !oneof.IsA[crossing.HomeIll](s.Ails[0].Cause) ||
			oneof.As[crossing.HomeIll](s.Ails[0].Cause).Home.Side != split.Green || len(b.e.Orders()) > 0 {
			t.Errorf("it is said as %+v", s.Ails)
		}
		if want := (Spare{Version: "4.2.0", Healthy: 1}); !v.Dead || v.Spare != want {
			t.Errorf("ready stands %+v", v.Spare)
		}
		b.stand(split.Green, "4.3.0", reading.Healthy)
		b.pass(wellFor - time.Second)
		if len(b.e.State().Ails) != 1 {
			t.Error("it is over at once")
		}
		b.pass(2 * time.Second)
		if s := b.e.State(); len(s.Ails) > 0 {
			t.Errorf("it is never over: %+v", s.Ails)
		}
	})
	t.Run("where nothing was ever crossed", func(t *testing.T) {
		b := newBench(t)
		b.stand(split.Green, "4.3.0", reading.Failing)
		b.sends(2000)
		b.pass(2 * time.Second)
		if o := b.order(crossing.TaskHome); o.Side != split.Blue {
			t.Errorf("it goes to %v", o.Side)
		}
	})
}

// A home that is dead is none, also where nobody serves anywhere; and after the start nothing is judged before both
// sides had their time.
func TestADeadHomeIsNone(t *testing.T) {
	b := newBench(t)
	b.shifts()
	s := b.e.State()
	for _, both := range []bool{false, true} {
		b := newBench(t)
		b.stand(split.Blue, "4.2.0", reading.Exited)
		b.stand(split.Green, "4.3.0", reading.Exited)
		b.sends(2000)
		b.e = New(b.e.plan, s, b.now, Memory{})
		b.pass(15 * time.Second)
		if now := b.e.State(); now.GoingBack || len(now.Freezes) != 1 { // found again
			t.Fatalf("before they had their time: %v", now)
		}
		if !both {
			b.stand(split.Blue, "4.2.0", reading.Healthy)
			b.pass(time.Second)
			b.order(crossing.TaskHome)
			continue
		}
		b.pass(10 * time.Second)
		_, nobody := crossing.FrozenBy[crossing.NobodyHome](b.e.State())
		_, ill := crossing.FrozenBy[crossing.HomeIll](b.e.State())
		if !nobody || !ill || b.e.State().GoingBack {
			t.Errorf("after it: %v", b.e.State())
		}
	}
}

// All members of the front count: where they differ nothing goes on, it is said which, and putting back sets them all.
func TestMembersThatDiffer(t *testing.T) {
	b := newBench(t)
	b.shifts()
	b.pass(10 * time.Second)
	b.moves(b.order(crossing.TaskMove))
	b.front.Apart = []reading.Apart{{Front: "pier", Share: 0}}
	b.pass(time.Second)
	if s := b.e.State(); s.Frozen() {
		t.Errorf("a change that is just reaching all is somebody's: %v", s)
	}
	if v := b.e.View(b.now); len(v.Lacks) != 1 || oneof.As[crossing.LackApart](v.Lacks[0]).Front != "pier" {
		t.Errorf("it lacks %+v", v.Lacks)
	}
	b.pass(25 * time.Second)
	s := b.e.State()
	f, foreign := crossing.FrozenBy[crossing.Foreign](s)
	if !foreign || len(f.Apart) != 1 || f.Apart[0].Front != "pier" || s.Stage != crossing.Shifting ||
		s.Sends(split.Blue) != split.Whole {
		t.Fatalf("it is %v, %+v", s, s.Freezes)
	}
	if err := b.command(crossing.PutBack{}); err != nil {
		t.Fatal(err)
	}
	o := b.order(crossing.TaskMove)
	if o.Share != split.Whole {
		t.Errorf("put back is %v", o.Share)
	}
	b.front.Apart = nil
	b.moves(o)
	b.pass(20 * time.Second)
	o = b.order(crossing.TaskRetire)
	// Before it is done, one of them sends requests there again.
	b.front.Apart = []reading.Apart{{Front: "pier", Share: 9000}}
	b.pass(time.Second)
	if list := b.e.Orders(); len(list) > 0 {
		t.Errorf("it is still retired: %v", list)
	}
	b.pass(2 * time.Second)
	if s := b.e.State(); s.Task.ID == o.ID || !oneof.IsA[crossing.TroubleOutsider](s.Trouble) {
		t.Errorf("it is still ordered: %v", s)
	}
	b.front.Apart, b.front.Unread = nil, []reading.Unread{{Front: "pier", Said: "no answer"}}
	b.pass(time.Second)
	b.refused(crossing.Retire{Typed: b.e.plan.Service}, crossing.NotWatched{})
	b.front.Unread = nil
	b.pass(4 * time.Second)
	if err := b.command(crossing.Retire{Typed: b.e.plan.Service}); err != nil {
		t.Error(err)
	}
	// What was ordered and waits can be called off.
	if err := b.command(crossing.Freeze{}); err != nil || b.e.State().Task.ID != 0 ||
		!oneof.IsA[crossing.TroubleHalted](b.e.State().Trouble) {
		t.Errorf("%v: %v", err, b.e.State())
	}
	b.refused(crossing.Raise{Side: split.Green, Choices: []raise.Choice{{Part: "web", Version: "4.3.1"}}},
		crossing.GetsRequests{})
}

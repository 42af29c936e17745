package guard

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// asks is guards on a figure that a source tells, which has a sample of each side every so many seconds.
type asks struct {
	*tells
	rule   plan.Guard
	tell   func(side split.Side, share float64) (bad, of float64) // of what comes in a second, or how a number stands
	counts [2][2]float64                                          // by side: what was counted until now
	every  int                                                    // seconds between samples
	said   [2]string                                              // by side: why there is no figure
	alerts []reading.Alert
	failed string
}

func newAsks(t *testing.T, rule plan.Guard, tell func(split.Side, float64) (float64, float64)) *asks {
	rule.Every, rule.Name = 5*time.Second, "asked"
	rule.Figure = plan.Figure{Name: "asked", From: plan.FromPrometheus, Query: plan.Query{Text: `b{side="{side}"}`}}
	return &asks{tells: newTells(t, rule, nil), rule: rule, tell: tell, every: 5}
}

// run lets seconds pass.
func (s *asks) run(seconds int) Status {
	s.t.Helper()
	for range seconds {
		share := [2]float64{1 - s.share.Fraction(), s.share.Fraction()}
		if s.since.IsZero() {
			share = [2]float64{1, 0}
		}
		s.pass(1, [2]answers{{all: int64(200 * share[0])}, {all: int64(200 * share[1])}})
		counted := s.rule.Watch == plan.Fewer || s.rule.Watch == plan.Rate
		for side := range s.counts {
			bad, of := s.tell(split.Side(side), share[side])
			if counted {
				bad, of = bad+s.counts[side][0], of+s.counts[side][1]
			}
			s.counts[side] = [2]float64{bad, of}
		}
		if int(s.now.Sub(start).Seconds())%s.every == 0 {
			r := reading.Figures{At: s.now, Guard: "asked", Alerts: s.alerts, Failed: s.failed}
			for side, c := range s.counts {
				told := reading.Told{Name: split.Side(side).String(), Side: split.Side(side), Said: s.said[side]}
				if told.Said == "" {
					told.Values, told.Of = map[string]float64{"asked": c[0]}, map[string]float64{"asked": c[1]}
				}
				r.Of = append(r.Of, told)
			}
			s.guards.TakeFigures(s.current(), r)
		}
		s.last = s.guards.Evaluate(s.current())
	}
	return s.last[0]
}

// move gives the target a share.
func (s *asks) move(share split.Share) {
	if s.share = share; s.since.IsZero() {
		s.begin()
	}
	moved := s.now
	s.facts = func(f *Facts) { f.Changed = moved }
}

// What is counted, in clumps of three as one customer's bookings are, alarms by itself in no more than is allowed, and
// trips when the new side comes to fewer, or to more that are bad.
func TestAskedCounts(t *testing.T) {
	tell := func(r *rand.Rand, less, worse float64) func(split.Side, float64) (float64, float64) {
		return func(side split.Side, share float64) (bad, of float64) {
			rate, fails := 4.0*share, 0.05
			if side == split.Green {
				rate, fails = rate*(1-less), fails+worse
			}
			for range 10 {
				if r.Float64() < rate/10 { // three at once, which fail together
					of += 3
					if r.Float64() < fails {
						bad += 3
					}
				}
			}
			return bad, of
		}
	}
	fewer := func(r *rand.Rand, less, _ float64) func(split.Side, float64) (float64, float64) {
		all := tell(r, less, 0)
		return func(side split.Side, share float64) (float64, float64) {
			_, of := all(side, share)
			return of, 0
		}
	}
	for name, c := range map[string]struct {
		rule plan.Guard
		tell func(*rand.Rand, float64, float64) func(split.Side, float64) (float64, float64)
	}{
		"fewer": {plan.Guard{Watch: plan.Fewer, Margin: 0.1, Then: plan.RollBack}, fewer},
		"rate":  {plan.Guard{Watch: plan.Rate, Margin: 0.01, Then: plan.RollBack}, tell},
	} {
		t.Run(name, func(t *testing.T) {
			alarms, found := 0, 0
			for seed := range uint64(40) {
				s := newAsks(t, c.rule, c.tell(rand.New(rand.NewPCG(seed, 7)), 0, 0))
				s.run(300)
				s.move(2500)
				if s.run(1200).State == Tripped {
					alarms++
				}
			}
			for seed := range uint64(10) {
				s := newAsks(t, c.rule, c.tell(rand.New(rand.NewPCG(seed, 8)), 0.5, 0.15))
				s.run(300)
				s.move(2500)
				if s.run(1200).State == Tripped {
					found++
				}
			}
			if alarms > 1 || found < 9 {
				t.Errorf("%d of 40 good releases alarmed, and %d of 10 bad ones were found", alarms, found)
			}
		})
	}
}

// A number that stands beyond its bound trips, on whichever side of it that is; one value beyond it does not.
func TestABound(t *testing.T) {
	for name, c := range map[string]struct {
		down  bool
		value float64
		trips bool
	}{
		"above": {false, 900, true}, "at rest": {false, 700, false}, "below": {true, 700, true},
		"high enough": {true, 900, false},
	} {
		t.Run(name, func(t *testing.T) {
			r := rand.New(rand.NewPCG(1, 2))
			spike := 0.0
			s := newAsks(t, plan.Guard{Watch: plan.Bound, Margin: 800, Down: c.down, Then: plan.RollBack},
				func(split.Side, float64) (float64, float64) { return c.value + 20*r.NormFloat64() + spike, 0 })
			s.run(30)
			s.move(2500)
			if spike = 400; c.down {
				spike = -400
			}
			if s.run(5).State == Tripped {
				t.Fatal("one value trips it")
			}
			spike = 0
			got := s.run(300)
			if (got.State == Tripped) != c.trips || got.Then != plan.RollBack || got.Bound != 800 {
				t.Errorf("it stands so: %+v", got)
			}
		})
	}
}

// A rate that is worse when nothing runs beside the target any more freezes, and does not roll back; what is lower by
// more than is allowed trips.
func TestAskedAlone(t *testing.T) {
	worse := 0.0
	s := newAsks(t, plan.Guard{Watch: plan.Rate, Margin: 0.01, Then: plan.RollBack},
		func(_ split.Side, share float64) (float64, float64) { return 20 * share * (0.05 + worse), 20 * share })
	s.run(120)
	s.move(5000)
	s.run(120)
	s.move(split.Whole)
	if got := s.run(120); got.State != Clear {
		t.Fatalf("before anything is wrong: %+v", got)
	}
	worse = 0.3
	if got := s.run(300); got.State != Tripped || got.Then != plan.Freeze {
		t.Errorf("when it is worse: %+v", got)
	}
	r := rand.New(rand.NewPCG(3, 4))
	s = newAsks(t, plan.Guard{Watch: plan.Lower, Margin: 5, Then: plan.RollBack},
		func(side split.Side, _ float64) (float64, float64) { return 40 - 12*float64(side) + r.NormFloat64(), 0 })
	s.run(30)
	s.move(2500)
	if got := s.run(200); got.State != Tripped || got.Difference < 10 || got.Difference > 14 {
		t.Errorf("what stands lower by 12: %+v", got)
	}
}

// A source that is silent, of one side or of both, is no good news, and what was gathered stays.
func TestASilentSource(t *testing.T) {
	s := newAsks(t, plan.Guard{Watch: plan.Rate, Margin: 0.01, Then: plan.RollBack},
		func(_ split.Side, share float64) (float64, float64) { return share, 20 * share })
	s.run(60)
	s.move(2500)
	before := s.run(120)
	s.said[split.Blue] = "its newest sample is 2m old"
	if got := s.run(60); got.State != Unknown || got.Gap != NoBaseline || got.Said != s.said[split.Blue] {
		t.Errorf("the live side's is not told: %+v", got)
	}
	s.said[split.Green] = "connection refused"
	if got := s.run(60); got.State != Unknown || got.Gap != NotTold {
		t.Errorf("nobody's is told: %+v", got)
	}
	s.said = [2]string{}
	if got := s.run(60); got.State == Unknown || got.Trial.Of < before.Trial.Of {
		t.Errorf("it is told again: %+v", got)
	}
	s.every = 1 << 20 // nobody is asked any more
	if got := s.run(60); got.State != Unknown || got.Gap != NotRead {
		t.Errorf("nobody was asked for a minute: %+v", got)
	}
}

// An alert that begins to fire after the last change of the share trips; one that fired before does not, unless it
// ended and fires again. What a person went on in spite of counts no more. All of it outlives the keeper.
func TestAlerts(t *testing.T) {
	fire := func(ids ...string) (list []reading.Alert) {
		for _, id := range ids {
			list = append(list, reading.Alert{ID: id, Name: "Alert" + id, Since: start})
		}
		return list
	}
	s := newAsks(t, plan.Guard{Watch: plan.Alert, Then: plan.RollBack}, func(split.Side, float64) (float64, float64) {
		return 0, 0
	})
	is := func(what string, state State, bad int64, old int) {
		t.Helper()
		if got := s.run(10); got.State != state || got.Trial.Bad != bad || got.Alerts.Old != old {
			t.Errorf("%s: %v, %d new and %d old ones", what, got.State, got.Trial.Bad, got.Alerts.Old)
		}
	}
	s.alerts = fire("1")
	is("before", Idle, 0, 0)
	s.move(500)
	is("one from before", Clear, 0, 1)
	s.alerts = fire("1", "2")
	is("another", Tripped, 1, 1)
	ruled := []crossing.Overruling{{Guard: "asked", Level: 1}}
	moved := s.now
	s.facts = func(f *Facts) { f.Overruled, f.Changed = ruled, moved.Add(-time.Minute) }
	is("a person goes on", Clear, 0, 2)
	s.alerts = fire("1", "2", "3")
	is("a third one", Tripped, 1, 2)
	if alarm, ok := Gravest(s.last, split.Green, ruled); !ok || alarm.Alert != "Alert3" {
		t.Errorf("the alarm is %+v", alarm)
	}
	s.alerts = fire("2", "3")
	s.run(10)
	s.alerts = fire("1", "2")
	is("one that ended fires again", Tripped, 1, 1)
	written, err := json.Marshal(s.guards.Hand())
	var m Memory
	if err != nil || json.Unmarshal(written, &m) != nil {
		t.Fatal(err)
	}
	s.guards = New([]plan.Guard{s.rule}, Terms{Alpha: 0.01, Seconds: 2000, Blocks: 2000})
	s.guards.Remember(m)
	is("for another keeper", Tripped, 1, 1)
	s.failed = "connection refused"
	s.run(60)
	if got := s.last[0]; got.State != Unknown || got.Gap != NotRead || got.Said != s.failed {
		t.Errorf("nobody tells of them: %+v", got)
	}
}

// A number that is a saw, on both sides and out of step, alarms nobody: neither that it is higher or lower on one side
// at a moment, nor that its crests are beyond a bound which it is below on average.
func TestAskedSaws(t *testing.T) {
	for name, rule := range map[string]plan.Guard{
		"higher": {Watch: plan.Higher, Margin: 20, Then: plan.RollBack},
		"lower":  {Watch: plan.Lower, Margin: 20, Then: plan.RollBack},
		"bound":  {Watch: plan.Bound, Margin: 70, Then: plan.RollBack},
	} {
		t.Run(name, func(t *testing.T) {
			alarms := 0
			for seed := range uint64(20) {
				r := rand.New(rand.NewPCG(seed, 9))
				phase, seconds := [2]float64{r.Float64(), r.Float64()}, 0.0
				s := newAsks(t, rule, nil)
				s.tell = func(side split.Side, _ float64) (float64, float64) {
					seconds += 0.5 // both sides are told of in each second
					_, at := math.Modf(seconds/150 + phase[side])
					return 100*at + r.NormFloat64(), 0
				}
				s.run(60)
				s.move(2500)
				if s.run(1200).State == Tripped {
					alarms++
				}
			}
			if alarms > 0 {
				t.Errorf("%d of 20 alarmed", alarms)
			}
		})
	}
}

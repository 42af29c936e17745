package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"reflect"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/words"
	"vaiven/internal/world/delivered"
	"vaiven/lab/testkit/judge"
)

// play runs a test on a keeper whose time passes at once.
func play(t *testing.T, do func(t *testing.T, r *rig), change ...func(*world)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, change...)
		defer r.end()
		do(t, r)
	})
}

func TestACrossingFromBeginningToEnd(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		events := r.keeper.Events(ctx, FromNow)
		r.onFirstLeg()
		if got := r.now(); got != 2000 {
			t.Errorf("on the first leg the front has %v", got)
		}
		r.yes(crossing.AskLeg{})
		s := r.stage(crossing.Settled)
		if r.now() != split.Whole || s.Live != split.Green {
			t.Errorf("settled, the front has %v, live is %v", r.now(), s.Live)
		}
		r.with(func() {
			if !reflect.DeepEqual(r.stopped, []split.Side{split.Blue}) || len(r.counts[split.Blue]) > 0 {
				t.Errorf("stopped %v, want blue and nothing else; the front has %v", r.stopped, r.counts[split.Blue])
			}
		})
		time.Sleep(time.Second)
		var recorded []crossing.Event
		r.with(func() { recorded = slices.Clone(r.events) })
		for n, want := range recorded {
			if got := <-events; got.What.Kind() != want.What.Kind() || got.Seq != want.Seq {
				t.Fatalf("event %d was told as %d %q and recorded as %q", n+1, got.Seq, got.What.Kind(),
					want.What.Kind())
			}
		}
		// The next one goes back to blue, with the roles swapped.
		r.do(Command{Act: crossing.Begin{Version: "4.2.0", Hold: true}})
		r.asked(crossing.AskStart{})
		v := r.last()
		if v.Crossing.Number != 2 || v.Crossing.Target != split.Blue || v.WayBack.State == wayback.Closed {
			t.Errorf("the second crossing is %d to %v, way back %+v", v.Crossing.Number, v.Crossing.Target, v.WayBack)
		}
		if got := r.now(); got != split.Whole {
			t.Errorf("before anybody said so, %v is on green", got)
		}
		r.do(Command{Act: crossing.Back{}})
		r.stage(crossing.CalledOff)
	})
}

func TestWhatABeginningNeeds(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.refused(Command{Act: crossing.Begin{}}, "needs a version")
		r.refused(Command{Act: crossing.Begin{Version: "9.9"}}, "no such version: 9.9")
		r.refused(Command{Act: crossing.Next{}}, "no crossing has begun")
		r.refused(Command{Act: crossing.Retire{Typed: "sailing"}}, `"sailings" has to be typed`)
		r.refused(Command{Act: crossing.Begin{Version: "9.9"}, Try: true}, "no such version: 9.9")
		r.refused(Command{Act: crossing.Retire{Typed: "sailing"}, Try: true}, `"sailings" has to be typed`)
		r.do(Command{Act: crossing.Begin{Version: "4.2.1"}, Try: true})
		if s := r.last().Crossing; s.Number != 0 || s.Seq != 0 {
			t.Errorf("only to say whether it would be refused it did something: %v", s)
		}
		r.do(Command{Act: crossing.Begin{Version: "4.2.1"}})
		q := r.asked(crossing.AskSameBuild{})
		r.refused(Command{Act: crossing.Begin{Version: "4.3.0"}}, `still at "raise"`)
		r.refused(Command{Act: crossing.Yes{Question: q.ID - 1}}, "something else is asked now")
		r.do(Command{Act: crossing.No{Question: q.ID}})
		r.stage(crossing.CalledOff)
		r.with(func() { r.put(judge.Outside, 3000) })
		r.refused(Command{Act: crossing.Begin{Version: "4.3.0"}}, "take them all to one side first")
		r.with(func() { r.put(judge.Outside, 0); r.apart = []reading.Apart{{Front: "quay", Share: 500}} })
		r.until("the front is read", func(s Snapshot) bool { return s.Crossing.Share == 0 })
		r.refused(Command{Act: crossing.Begin{Version: "4.3.0"}}, "quay sends 5 % of its requests to green")
		r.refused(Command{Act: crossing.Raise{Version: "4.3.0"}}, "quay sends 5 %")
	})
}

func TestARaiseThatComesToNothingNamesTheStuckInstance(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.do(Command{Act: crossing.Begin{Version: "4.3.0"}})
		s := r.stage(crossing.CalledOff)
		failed := oneof.As[crossing.TroubleRaise](oneof.As[crossing.NotRaised](s.Crossing.Why).Trouble)
		stuck := failed.Raise.Stuck
		if len(stuck) != 1 || stuck[0].Name != "green-2" || failed.Limit != 20*time.Second {
			t.Errorf("it ended because of %+v", s.Crossing.Why)
		}
	}, func(w *world) { w.health["green-2"] = reading.Answering })
}

func TestAProofThatFailsStopsBeforeTrafficMoves(t *testing.T) {
	failed := func(w *world) {
		w.findings = []proof.Result{{Check: "search", Instance: "green-1", Want: "status 200", Got: "status 503"}}
	}
	play(t, func(t *testing.T, r *rig) {
		r.do(Command{Act: crossing.Begin{Version: "4.3.0"}})
		s := r.stage(crossing.CalledOff)
		failed := oneof.As[crossing.NotRaised](s.Crossing.Why).Trouble
		if oneof.As[crossing.TroubleProof](failed).First.Got != "status 503" || r.revision > 9 {
			t.Errorf("it ended because of %+v, at revision %d", s.Crossing.Why, r.revision)
		}
	}, failed)
	play(t, func(t *testing.T, r *rig) { // with a person there it asks, and the answer is for this proof
		r.do(Command{Act: crossing.Begin{Version: "4.3.0", Hold: true}})
		q := r.asked(crossing.AskProof{})
		r.with(func() { r.findings = nil })
		r.do(Command{Act: crossing.Yes{Question: q.ID}})
		r.asked(crossing.AskStart{})
		r.refused(Command{Act: crossing.Yes{Question: q.ID}}, "something else is asked now")
	}, failed)
}

func TestFindingsAreAccepted(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.do(Command{Act: crossing.Begin{Version: "4.3.0"}})
		q := r.asked(crossing.AskFindings{})
		if len(q.Findings()) != 1 || q.Findings()[0].Check != "differences" {
			t.Errorf("it asks about %+v", q.Findings())
		}
		r.do(Command{Act: crossing.Yes{Question: q.ID}})
		r.until("it shifts", func(s Snapshot) bool { return s.Crossing.Stage == crossing.Shifting })
		r.do(Command{Act: crossing.Prove{}}) // the same is found again: nobody is asked again
		r.until("it is proven again", func(s Snapshot) bool { return s.Crossing.Task.ID == 0 && s.Crossing.Proven })
		if _, asked := crossing.FrozenBy[crossing.ByProof](r.last().Crossing); asked {
			t.Error("what was accepted is asked about again")
		}
	}, func(w *world) {
		w.findings = []proof.Result{{Part: "web", Kind: proof.KindDifference, Check: "differences", Instance: "green",
			Ask: true, Want: "none", Got: "1: environment REGION"}}
	})
}

func TestAGuardRollsBackByItself(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.with(func() { r.failing[split.Green] = 0.3 })
		s := r.stage(crossing.RolledBack)
		if r.now() != 0 || oneof.As[crossing.ByGuard](s.Crossing.Why).Alarm.Guard != "failing" ||
			oneof.As[crossing.ByGuard](s.Crossing.Why).Alarm.Level < 0.1 {
			t.Errorf("the front has %v, because %+v", r.now(), s.Crossing.Why)
		}
	})
}

// A guard on a figure is heard, and while no instance tells it the route does not go on.
func TestAGuardOnAFigure(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		time.Sleep(30 * time.Second)
		if s := r.stage(crossing.Shifting); s.Crossing.Frozen() ||
			r.last().Lacks != nil && r.last().Guards[3].State != guard.Clear {
			t.Errorf("it stands as %+v, %+v", s.Crossing, r.last().Guards[3])
		}
		begun := time.Now()
		r.with(func() { r.world.leak = func() float64 { return 50e6 * time.Since(begun).Minutes() } })
		s := r.stage(crossing.RolledBack)
		if a := oneof.As[crossing.ByGuard](s.Crossing.Why).Alarm; a.Guard != "memory grows" || a.Level < 10e6 ||
			a.Figure != "memory_bytes" {
			t.Errorf("it went back because %+v", a)
		}
	}, figures)
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.with(func() { r.world.silent = true })
		r.frozen(crossing.NotKnown{})
		if l := r.last().Lacks; len(l) == 0 || !strings.Contains(oneof.As[crossing.LackFigures](l[0]).Said, "503") {
			t.Errorf("it lacks %+v", l)
		}
	}, figures)
}

// figures has a plan's guards watch a figure.
func figures(w *world) {
	w.plan.Parts[0].Figures = plan.Page{Path: "/metrics", Every: time.Second}
	w.plan.Guards = append(w.plan.Guards,
		plan.Guard{Name: "memory grows", Watch: plan.Grows, Figure: plan.Figure{Name: "memory_bytes"}, Margin: 10e6,
			Settle: time.Second, Then: plan.RollBack})
	w.plan.Route[0].Dwell = 10 * time.Minute
	w.leak = func() float64 { return 0 }
	w.tells = func(i reading.Instance) reading.Told {
		v := 40e6 + float64(len(i.Name))
		if i.Side == split.Green {
			v += w.leak()
		}
		told := reading.Told{Name: i.Name, Side: i.Side, Started: i.Started,
			Values: map[string]float64{"memory_bytes": v}}
		if w.silent {
			told.Values, told.Said = nil, "status 503 at /metrics"
		}
		return told
	}
}

// A guard that freezes can be overruled, for the level that was seen and no more; and it
// mutes no other.
func TestAGuardThatFreezesCanBeOverruled(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.with(func() { r.failing[split.Green] = 0.1 })
		r.frozen(crossing.ByGuard{})
		time.Sleep(2 * time.Minute)
		r.refused(Command{Act: crossing.Next{Leg: 1}}, "frozen")
		r.do(Command{Act: crossing.Resume{}})
		if s := r.last(); s.Crossing.Frozen() || len(s.Crossing.Overruled) != 1 {
			t.Errorf("after going on: %v", s.Crossing)
		}
		time.Sleep(5 * time.Second)
		if r.last().Crossing.Frozen() {
			t.Error("it is frozen again by what was overruled")
		}
		r.with(func() { r.failing[split.Green] = 0.9 })
		r.frozen(crossing.ByGuard{})
		r.with(func() { r.health["green-1"] = reading.Failing })
		r.stage(crossing.RolledBack)
	}, func(w *world) { w.plan.Guards[0].Then = plan.Freeze })
}

// An automatic way back to a side where nobody serves becomes a freeze that calls a
// person; by hand it takes a second word.
func TestHomeIsAPlace(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.with(func() { r.health["blue-1"], r.health["blue-2"] = reading.Failing, reading.Failing })
		time.Sleep(2 * time.Second)
		r.with(func() { r.failing[split.Green] = 0.5 })
		s := r.frozen(crossing.NobodyHome{})
		if r.now() != 2000 || s.Crossing.GoingBack {
			t.Errorf("the front has %v: %v", r.now(), s.Crossing)
		}
		r.refused(Command{Act: crossing.Back{}}, "none of the 2 instances of blue is healthy")
		r.do(Command{Act: crossing.Back{Force: true}})
		r.stage(crossing.RolledBack)
	})
}

func TestAnUnhealthyInstanceIsTakenOut(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.with(func() { r.health["green-2"] = reading.Failing })
		r.frozen(crossing.ByGuard{})
		r.until("the front is told", func(Snapshot) bool { return r.counts[split.Green][1].Out })
		r.with(func() { delete(r.health, "green-2") })
		r.until("the front is told again", func(Snapshot) bool { return !r.counts[split.Green][1].Out })
	}, func(w *world) { w.plan.Guards[1].Then = plan.Freeze })
}

// A logbook that is full, or hangs, holds up everything but going home.
func TestGoingBackWithoutALogbook(t *testing.T) {
	full, hangs := troubled("book", 0, false, errors.New("no space left on device")),
		troubled("book", time.Hour, true, nil)
	for name, trouble := range map[string]func(string) (time.Duration, bool, error){"full": full, "hangs": hangs} {
		t.Run(name, func(t *testing.T) {
			play(t, func(t *testing.T, r *rig) {
				r.onFirstLeg()
				q := r.last().Crossing.Question.ID
				r.with(func() { r.trouble = trouble })
				r.refused(Command{Act: crossing.Yes{Question: q}}, "the logbook cannot be written, so nothing was done")
				if r.now() != 2000 {
					t.Fatalf("the front has %v", r.now())
				}
				begun := time.Now()
				r.do(Command{Act: crossing.Back{}, Why: "it looks wrong"})
				r.until("all is home", func(Snapshot) bool { return r.share == 0 })
				if took := time.Since(begun); took > 100*time.Millisecond {
					t.Errorf("going home took %v", took)
				}
				r.until("it says so", func(s Snapshot) bool { return strings.Contains(s.Trouble, "the logbook") })
				r.stage(crossing.RolledBack)
				if name == "hangs" {
					return
				}
				r.with(func() { r.trouble = nil })
				r.until("it is recorded after all", func(s Snapshot) bool { return s.Trouble == "" })
				if r.kinds()[crossing.Returned{}.Kind()] != 1 {
					t.Errorf("recorded %v", r.kinds())
				}
			})
		})
	}
}

// The program's own log on a disk that hangs holds up nothing, not even the end.
func TestALogThatHangs(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.onFirstLeg()
		r.with(func() {
			r.trouble = troubled("log", time.Hour, true, nil)
			for n := range r.counts[split.Green] {
				r.health[r.counts[split.Green][n].Name] = reading.Failing
			}
		})
		r.stage(crossing.RolledBack)
		if r.now() != 0 {
			t.Errorf("the front has %v on green", r.now())
		}
		begun := time.Now()
		r.stop()
		if took := time.Since(begun); took > time.Minute {
			t.Errorf("the keeper ended after %v", took)
		}
	})
}

// What is decided and cannot be recorded is not done.
func TestNothingIsDoneBeforeItIsRecorded(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.with(func() {
			r.trouble = troubled("book", time.Minute, true, nil)
		})
		time.Sleep(30 * time.Second)
		if r.now() != 2000 {
			t.Errorf("the front has %v", r.now())
		}
	}, func(w *world) { w.plan.Route = route.Route{{Part: 2000, Dwell: 5 * time.Second}, {Part: split.Whole}} })
}

// Going home overtakes a change that hangs, and what comes through after it is undone.
func TestGoingBackOvertakesAChangeThatHangs(t *testing.T) {
	for name, compares := range map[string]bool{"a front that compares": true, "one that does not": false} {
		t.Run(name, func(t *testing.T) {
			play(t, func(t *testing.T, r *rig) {
				r.onFirstLeg()
				r.with(func() {
					r.trouble = troubled("set", 3*time.Second, true, nil)
				})
				r.yes(crossing.AskLeg{})
				time.Sleep(200 * time.Millisecond)
				begun := time.Now()
				r.do(Command{Act: crossing.Back{}})
				r.until("all is home", func(Snapshot) bool { return r.share == 0 })
				if took := time.Since(begun); took > 100*time.Millisecond {
					t.Errorf("going home took %v", took)
				}
				time.Sleep(10 * time.Second)
				if r.now() != 0 || r.last().Crossing.Stage != crossing.RolledBack {
					t.Errorf("after a while the front has %v: %v", r.now(), r.last().Crossing)
				}
			}, func(w *world) { w.compares = compares })
		})
	}
}

// A process that was held up between its check and its command sends traffic out after
// everything went home, at a front that cannot compare: it is sent home again.
func TestHomeIsAssertedAgain(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.do(Command{Act: crossing.Back{}})
		r.stage(crossing.RolledBack)
		for range 2 {
			time.Sleep(2 * time.Second)
			r.with(func() { r.put(judge.Outside, 9000) })
			r.until("all is home again", func(Snapshot) bool { return r.share == 0 })
		}
		time.Sleep(10 * time.Second) // what comes later is somebody's will
		r.with(func() { r.put(judge.Outside, 9000) })
		time.Sleep(5 * time.Second)
		if r.now() != 9000 {
			t.Errorf("what somebody did long after was undone: %v", r.now())
		}
	}, func(w *world) { w.compares = false })
}

// It is tried until it works, and once is said.
func TestGoingBackIsTriedUntilTheFrontAnswers(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.with(func() {
			r.trouble = func(what string) (time.Duration, bool, error) {
				if what == "home" || what == "read" {
					return 0, false, errLost
				}
				return 0, false, nil
			}
		})
		r.do(Command{Act: crossing.Back{}})
		time.Sleep(2 * time.Minute)
		if s := r.last().Crossing; !s.GoingBack || !oneof.IsA[crossing.TroubleFront](s.Trouble) {
			t.Errorf("it is %v", s)
		}
		if n := r.kinds()[crossing.Failed{}.Kind()]; n != 1 {
			t.Errorf("%d tries were recorded", n)
		}
		r.with(func() { r.trouble = nil })
		r.until("all is home", func(Snapshot) bool { return r.share == 0 })
		r.stage(crossing.RolledBack)
	})
}

func TestSomebodyElseAtTheFront(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.with(func() { r.put(judge.Outside, 7000) })
		r.frozen(crossing.Foreign{})
		r.do(Command{Act: crossing.PutBack{}})
		r.until("ours is back", func(Snapshot) bool { return r.share == 2000 })
		r.with(func() { r.put(judge.Outside, 6000) })
		r.frozen(crossing.Foreign{})
		r.do(Command{Act: crossing.Resume{}})
		if s := r.last().Crossing; s.Foreign || s.Frozen() || r.now() != 6000 {
			t.Errorf("after taking theirs: %v", s)
		}
	})
}

// Somebody goes home past the keeper, by its order: also where the share says nothing.
func TestSomebodyElseGoesHome(t *testing.T) {
	elsewhere := func(r *rig) {
		_, err := worldFront{r.world}.Home(context.Background(),
			front.Homing{Side: split.Blue, By: "ada", Why: "the pier is closed"})
		if err != nil {
			r.t.Fatal(err)
		}
	}
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		elsewhere(r)
		s := r.stage(crossing.RolledBack)
		if w := oneof.As[crossing.ByOrder](s.Crossing.Why); w.Order.By != "ada" ||
			w.Order.Why != "the pier is closed" {
			t.Errorf("it ended because of %+v", w)
		}
	})
	play(t, func(t *testing.T, r *rig) {
		r.do(Command{Act: crossing.Begin{Version: "4.3.0", Hold: true}})
		r.asked(crossing.AskStart{})
		elsewhere(r)
		r.stage(crossing.CalledOff)
		if r.now() != 0 {
			t.Errorf("the first leg went out all the same: %v", r.now())
		}
	})
}

// A keeper that is started again knows what is unfinished, and leaves it to a person to go
// on; going home and retiring, which were begun, go on by themselves.
func TestStartedAgainInTheMiddle(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.stop()
		r.start()
		s := r.frozen(crossing.FoundAgain{})
		if f := oneof.As[crossing.FoundAgain](s.Crossing.Freezes[0].Cause).Found; f.Share != 2000 ||
			f.Running != [2]int{2, 2} || s.Crossing.Proven {
			t.Errorf("found %+v: %v", f, s.Crossing)
		}
		r.do(Command{Act: crossing.Resume{}})
		r.asked(crossing.AskLeg{})

		r.with(func() {
			r.trouble = troubled("home", 0, false, errLost)
		})
		r.do(Command{Act: crossing.Back{}})
		time.Sleep(time.Second)
		r.stop()
		r.with(func() { r.trouble = nil })
		r.start()
		r.stage(crossing.RolledBack)
		if r.now() != 0 {
			t.Errorf("the front has %v", r.now())
		}
	})
}

// Messages that wait for a side are done before it goes, however long that takes, and if nobody does them it stays.
func TestMessagesAreNotGivenUpWithASide(t *testing.T) {
	queued := func(w *world) { w.queued = true }
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.do(Command{Act: crossing.Back{}})
		r.stage(crossing.RolledBack)
		r.with(func() { r.lies[split.Green] = 3000 }) // both do 200 of them a second
		begun := time.Now()
		r.do(Command{Act: crossing.Retire{Typed: "sailings"}})
		r.until("it is retired", func(s Snapshot) bool { return len(r.sides[split.Green]) == 0 })
		if waited := time.Since(begun); waited < 14*time.Second {
			t.Errorf("they were waited for for %v", waited)
		}
		r.stop()
		for _, e := range r.events {
			if f, ok := e.What.(crossing.Stopping); ok && f.Cut > 0 {
				t.Errorf("%d were cut", f.Cut)
			}
		}
	}, queued)
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.do(Command{Act: crossing.Back{}})
		r.stage(crossing.RolledBack)
		r.with(func() {
			r.lies[split.Green] = 3
			for _, i := range r.sides[split.Green] {
				r.health[i.Name] = reading.Failing
			}
		})
		r.do(Command{Act: crossing.Retire{Typed: "sailings"}})
		time.Sleep(5*time.Minute - 10*time.Second)
		if !r.last().Crossing.Retiring() {
			t.Error("nobody waits any more")
		}
		said := "" // it is recorded after it has happened
		r.until("it is said why it is not retired", func(s Snapshot) bool {
			for _, e := range r.events {
				if f, ok := e.What.(crossing.Failed); ok {
					said = words.Trouble(f.Trouble)
				}
			}
			return !s.Crossing.Retiring() && said != ""
		})
		r.with(func() {
			if len(r.sides[split.Green]) != 2 || len(r.counts[split.Green]) != 2 {
				t.Errorf("of green there are %v, and at the front %v", r.sides[split.Green], r.counts[split.Green])
			}
			clear(r.health)
		})
		if !strings.Contains(said, "3 messages wait at green") {
			t.Errorf("it is said: %q", said)
		}
		r.do(Command{Act: crossing.Retire{Typed: "sailings"}})
		r.until("it is retired", func(s Snapshot) bool { return len(r.sides[split.Green]) == 0 })
	}, queued)
}

// Messages that instances have taken and hang with are given out again when those are stopped.
func TestMessagesThatInstancesHangWith(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.do(Command{Act: crossing.Back{}})
		r.stage(crossing.RolledBack)
		r.with(func() {
			r.lies[split.Green], r.hung[split.Green] = 158, true
			for _, i := range r.sides[split.Green] {
				r.health[i.Name] = reading.Failing
			}
		})
		r.do(Command{Act: crossing.Retire{Typed: "sailings"}})
		time.Sleep(5*time.Minute - 10*time.Second)
		if len(r.sides[split.Green]) != 2 {
			t.Error("they are not waited for")
		}
		r.until("it is retired", func(s Snapshot) bool {
			return len(r.sides[split.Green]) == 0 && !s.Crossing.Retiring()
		})
		r.with(func() {
			if r.lies[split.Green] > 0 {
				t.Errorf("%v messages are left behind", r.lies[split.Green])
			}
			for _, e := range r.events {
				if f, ok := e.What.(crossing.Failed); ok {
					t.Errorf("it came to nothing: %s", words.Trouble(f.Trouble))
				}
			}
		})
	}, func(w *world) { w.queued = true })
}

// A stop that has begun keeps its time whoever asked for it is gone, and is finished by the
// next keeper.
func TestRetiring(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.do(Command{Act: crossing.Back{}})
		r.stage(crossing.RolledBack)
		r.refused(Command{Act: crossing.Retire{Typed: "green"}}, "has to be typed")
		r.with(func() { r.open[split.Green] = 3 })
		begun := time.Now()
		r.do(Command{Act: crossing.Retire{Typed: "sailings"}})
		r.until("it is retired", func(s Snapshot) bool { return len(r.sides[split.Green]) == 0 })
		if waited := time.Since(begun); waited < 5*time.Second {
			t.Errorf("open requests were waited for for %v", waited)
		}
		time.Sleep(time.Second)
		r.stop()
		cut := int64(0)
		for _, e := range r.events {
			if f, ok := e.What.(crossing.Stopping); ok {
				cut = f.Cut
			}
		}
		if cut != 3 || r.deadline.Sub(begun) < 10*time.Second {
			t.Errorf("%d requests were cut; stopping had until %v", cut, r.deadline.Sub(begun))
		}
		if !reflect.DeepEqual(r.stopped, []split.Side{split.Green}) {
			t.Errorf("stopped %v", r.stopped)
		}
	})
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.do(Command{Act: crossing.Back{}})
		r.stage(crossing.RolledBack)
		r.with(func() {
			r.trouble = troubled("stop", 3*time.Second, false, nil)
		})
		r.do(Command{Act: crossing.Retire{Typed: "sailings"}})
		r.until("it is being stopped", func(Snapshot) bool { return r.counted()["stopping"] > 0 })
		time.Sleep(500 * time.Millisecond)
		r.stop()
		time.Sleep(5 * time.Second)
		r.with(func() {
			if n := len(r.sides[split.Green]); n != 1 {
				t.Errorf("%d instances are left: the one that was told to end has its grace, and the next is the "+
					"next keeper's", n)
			}
		})
		r.start()
		r.until("it is done", func(s Snapshot) bool {
			return r.counted()["retired"] > 0 && s.Crossing.Task.ID == 0 && len(r.sides[split.Green]) == 0
		})
	})
}

// Without a crossing, by hand.
func TestByHand(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.refused(Command{Act: crossing.Raise{Version: "4.2.1"}}, "nothing has changed")
		r.do(Command{Act: crossing.Raise{Version: "4.3.0"}})
		r.until("green is up", func(s Snapshot) bool {
			return s.Sides[split.Green].Healthy == 2 &&
				s.Crossing.Task.ID == 0
		})
		r.until("the front has it", func(Snapshot) bool { return len(r.counts[split.Green]) == 2 })
		r.refused(Command{Act: crossing.Shift{Share: 2500}}, "green is not proven")
		r.refused(Command{Act: crossing.Shift{Share: 2500, Unproven: true}}, "say why")
		r.do(Command{Act: crossing.Shift{Share: 2500, Unproven: true}, Why: "fares are wrong on blue"})
		r.until("it is in force", func(s Snapshot) bool { return r.share == 2500 && s.Crossing.Share == 2500 })
		r.refused(Command{Act: crossing.Raise{Version: "4.3.0"}}, "take them all to one side first")
		r.do(Command{Act: crossing.Shift{Share: 0}})
		r.until("it is in force", func(s Snapshot) bool { return r.share == 0 && s.Crossing.Share == 0 })
		r.do(Command{Act: crossing.Retire{Typed: "sailings"}})
		r.until("green is gone",
			func(s Snapshot) bool { return len(r.sides[split.Green]) == 0 && s.Crossing.Task.ID == 0 })
	})
}

// A front that forgot its instances is told them again.
func TestAFrontThatForgot(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.with(func() { r.counts = [2][]reading.Count{} })
		r.until("it is told again", func(Snapshot) bool { return len(r.counts[0]) == 2 && len(r.counts[1]) == 2 })
		if r.last().Crossing.Stage != crossing.Shifting {
			t.Errorf("it is %v", r.last().Crossing)
		}
	})
}

// Time counts while it is watched: nothing settles while the front cannot be read, nor while
// an hour passes that nobody saw.
func TestNothingGoesOnUnwatched(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.do(Command{Act: crossing.Begin{Version: "4.3.0"}})
		r.until("it is kept", func(s Snapshot) bool { return s.Crossing.Stage == crossing.Keeping })
		r.with(func() {
			r.trouble = troubled("read", 0, false, front.ErrUnreachable)
		})
		time.Sleep(10 * time.Minute)
		if s := r.last(); s.Crossing.Stage != crossing.Keeping || len(s.Lacks) == 0 {
			t.Errorf("it is %v, and lacks %v", s.Crossing, s.Lacks)
		}
		r.frozen(crossing.NotKnown{})
		r.with(func() { r.trouble = nil })
		time.Sleep(10 * time.Minute) // it is for a person to go on after such a hole
		r.frozen(crossing.NotKnown{})
		r.do(Command{Act: crossing.Resume{}})
		r.stage(crossing.Settled)
	}, func(w *world) { w.plan.Route = route.Route{{Part: split.Whole}} })
}

func TestABuildThatChangesUnderOurHands(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.do(Command{Act: crossing.Begin{Version: "4.2.1"}})
		q := r.asked(crossing.AskSameBuild{})
		r.with(func() { r.offers["4.2.1"] = "ffff" })
		r.do(Command{Act: crossing.Yes{Question: q.ID}})
		s := r.stage(crossing.CalledOff)
		if said := words.Cause(s.Crossing.Why, s.Crossing); !strings.Contains(said,
			"was build 7c1e when it was chosen, and is ffff now") {
			t.Errorf("it ended because of %+v", s.Crossing.Why)
		}
	})
}

// A list that fails hides no instance that answers.
func TestAListThatFailsHidesNoInstance(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		r.with(func() {
			r.trouble = troubled("list", 0, false, errors.New("host green.vessa does not answer"))
		})
		s := r.until("it says so",
			func(s Snapshot) bool { return strings.Contains(s.Sides[split.Green].Error, "host green.vessa") })
		if s.Sides[split.Green].Healthy != 2 {
			t.Errorf("green is %+v", s.Sides[split.Green])
		}
	})
}

func TestChecksAreMadeAgain(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.refused(Command{Act: crossing.Prove{}}, "green has no instances: raise it first")
		r.do(Command{Act: crossing.Raise{Version: "4.3.0"}})
		r.until("green is up", func(s Snapshot) bool {
			return s.Sides[split.Green].Healthy == 2 &&
				s.Crossing.Task.ID == 0
		})
		r.do(Command{Act: crossing.Prove{}})
		s := r.until("it is proven", func(s Snapshot) bool { return len(s.Proof.Results) == 1 && !s.Proving })
		if !s.Proof.Pass() || s.Crossing.Proven {
			t.Errorf("proof %+v, of no crossing: %v", s.Proof, s.Crossing.Proven)
		}
	})
}

func TestSnapshotsAndCommandsCanBeSerialised(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		r.onLeg()
		s := r.last()
		data, err := json.Marshal(s)
		if err != nil {
			t.Fatal(err)
		}
		var again Snapshot
		if err := json.Unmarshal(data, &again); err != nil {
			t.Fatal(err)
		}
		if second, err := json.Marshal(again); err != nil || string(second) != string(data) {
			t.Errorf("a snapshot changes on its way: %v\n%s\n%s", err, data, second)
		}
		c := Command{Act: crossing.Begin{Version: "4.3.0", Versions: map[string]string{"worker": "2"}, Hold: true},
			By: "marit", Seen: 7, Why: "the tide"}
		var got Command
		if data, err = json.Marshal(c); err != nil {
			t.Fatal(err)
		}
		if err := json.Unmarshal(data, &got); err != nil || !reflect.DeepEqual(got, c) {
			t.Errorf("%+v arrives as %+v, %v", c, got, err)
		}
	})
}

// A keeper ends in good time, whatever hangs.
func TestTheKeeperStopsCleanly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t)
		r.onLeg()
		ctx, cancel := context.WithCancel(t.Context())
		events, snapshots := r.keeper.Events(ctx, FromNow), r.keeper.Snapshots(ctx)
		r.with(func() {
			r.trouble = func(string) (time.Duration, bool, error) { return time.Minute, true, nil }
		})
		time.Sleep(5 * time.Second)
		begun := time.Now()
		r.stop()
		if took := time.Since(begun); took > 4*time.Second {
			t.Errorf("it took %v to end", took)
		}
		if _, err := r.keeper.Do(t.Context(), Command{Act: crossing.Freeze{}}); err == nil {
			t.Error("it takes commands after its end")
		}
		for range events {
		}
		for range snapshots {
		}
		cancel()
		time.Sleep(2 * time.Hour) // what was left behind ends
	})
}

func TestWhatThereIsToChoose(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		offers, err := r.keeper.Versions(t.Context())
		if err != nil || len(offers) != 1 || offers[0].Part != "web" || len(offers[0].Versions) != 3 {
			t.Errorf("offers %+v, %v", offers, err)
		}
		c, err := r.keeper.Foresee(t.Context(), 2500)
		if err != nil || c.Reached != 2500 {
			t.Errorf("it would do %+v, %v", c, err)
		}
		if s := r.last(); s.Typical != 2*time.Second {
			t.Errorf("a raise usually takes %v", s.Typical)
		}
		if !slices.Equal(r.stopped, nil) {
			t.Errorf("stopped %v", r.stopped)
		}
	})
}

// BenchmarkPublish is what a screen costs the keeper, ten times a second.
func BenchmarkPublish(b *testing.B) {
	w := newWorld()
	k, err := New(b.Context(),
		Config{Plan: w.plan, Front: worldFront{w}, Stacks: worldStacks{w}, Book: worldBook{w}, Prober: &worldProber{}})
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		k.publish(time.Now())
	}
}

// A keeper that goes on for another goes on where that was: nothing freezes, the leg's time goes
// on, guards have what was counted, and nobody calls it a time in which nobody watched. After one
// that was killed there is one.
func TestAnotherGoesOn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t)
		r.begin("4.3.0")
		before := r.until("the first leg runs", func(s Snapshot) bool {
			return s.Crossing.Stage == crossing.Shifting && s.Left < 8*time.Second && s.Left > 0
		})
		m, err := r.keeper.HandOver(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		// What is handed over travels.
		data, err := json.Marshal(m)
		if err == nil {
			err = json.Unmarshal(data, &r.memory)
		}
		if err != nil {
			t.Fatal(err)
		}
		r.stop()
		time.Sleep(300 * time.Millisecond)
		r.start()
		s := r.until("the next one is ready", func(s Snapshot) bool { return s.Ready && s.Left < before.Left })
		if s.Crossing.Frozen() || s.Crossing.Seq != before.Crossing.Seq || !s.Hole.To.IsZero() ||
			s.Left < before.Left-3*time.Second || len(s.Track) < len(before.Track) {
			t.Errorf("it goes on with %v, %v left of %v, hole %v, a track of %d points after %d", s.Crossing, s.Left,
				before.Left, s.Hole, len(s.Track), len(before.Track))
		}
		if g, was := s.Guards, before.Guards; len(g) == 0 || g[0].Trial.Of < was[0].Trial.Of {
			t.Errorf("its guards know %+v, and knew %+v", g, was)
		}
		if _, err := r.keeper.Do(t.Context(), Command{Act: crossing.Freeze{}, By: "marit"}); err != nil {
			t.Error(err)
		}
		r.stop()
		time.Sleep(time.Minute)
		r.start()
		s = r.until("one after a hole is ready", func(s Snapshot) bool { return s.Ready })
		if _, found := crossing.FrozenBy[crossing.FoundAgain](s.Crossing); !found ||
			s.Again.Sub(s.At) < 50*time.Second {
			t.Errorf("after a hole it is at %v, and nothing is retired before %v", s.Crossing, s.Again)
		}
		r.end()
	})
}

// While something is being done no other goes on.
func TestNobodyGoesOnHalfWay(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t)
		r.with(func() { r.trouble = troubled("raise", 5*time.Second, false, nil) })
		r.begin("4.3.0")
		r.until("it is being raised", func(s Snapshot) bool { return s.Crossing.Task.Do == crossing.TaskRaise })
		if _, err := r.keeper.HandOver(t.Context()); !errors.Is(err, crossing.ErrNotNow) {
			t.Errorf("handed over half way: %v", err)
		}
		r.end()
	})
}

// A way back that closes stops the route until a person goes on without it; it is said with its
// reason, and not again.
func TestTheWayBackCloses(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t)
		r.begin("4.3.0")
		r.until("the first leg runs",
			func(s Snapshot) bool { return s.Crossing.Stage == crossing.Shifting && s.Crossing.Task.ID == 0 })
		r.with(func() { r.narrows = true })
		s := r.until("it is narrow", func(s Snapshot) bool { return s.WayBack.State == wayback.Narrow })
		if !oneof.IsA[wayback.Same](s.WayBack.Worst) || s.Crossing.Frozen() {
			t.Errorf("narrow because of %+v, at %v", s.WayBack.Worst, s.Crossing)
		}
		r.with(func() { r.closes = true })
		s = r.until("it is closed", func(s Snapshot) bool { return s.Crossing.Frozen() })
		f, ok := crossing.FrozenBy[crossing.WayClosed](s.Crossing)
		if !ok || !oneof.IsA[wayback.Data](f.Way) || s.WayBack.State != wayback.Closed ||
			!strings.Contains(words.Frozen(s.Crossing), "there is no way back any more: blue data checks: fits: want 0, got "+
				"12") {
			t.Errorf("closed: %v, %+v", words.Frozen(s.Crossing), s.WayBack.Worst)
		}
		if _, err := r.keeper.Do(t.Context(), Command{Act: crossing.Resume{}, By: "marit"}); err != nil {
			t.Fatal(err)
		}
		time.Sleep(9 * time.Second)
		if s := r.last(); s.Crossing.Frozen() {
			t.Errorf("a person went on without it, and it froze again: %v", s.Crossing)
		}
		// Going home is never prevented by it.
		if _, err := r.keeper.Do(t.Context(), Command{Act: crossing.Back{}, By: "marit"}); err != nil {
			t.Fatal(err)
		}
		r.until("it is home", func(s Snapshot) bool { return s.Crossing.Stage == crossing.RolledBack })
		r.end()
	})
}

// What ends while it is wanted is started again, with pauses that grow; the release that had to be
// started again goes home, and what is not wanted is left alone.
func TestWhatEndsIsStartedAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, func(w *world) {
			for side := range w.plan.Parts[0].Stacks {
				w.plan.Parts[0].Stacks[side].Restart = true
			}
		})
		ends := func(side split.Side) {
			r.with(func() { r.sides[side][0].Running, r.sides[side][0].Exit = false, "exit status 3" })
		}
		var at []time.Time
		for n := range 4 {
			ends(split.Blue)
			r.until("it runs again", func(Snapshot) bool { return len(r.restarted) == n+1 })
			at = append(at, time.Now())
		}
		// The pauses are at least 1, 2 and 4 seconds; how much longer they are depends on when a side
		// is read, and when that was seen here.
		const seen = 600 * time.Millisecond
		for n := 1; n < len(at); n++ {
			if least := time.Second << (n - 1); at[n].Sub(at[n-1]) < least-seen {
				t.Errorf("started again at %v: the pauses do not grow", at)
			}
		}
		r.until("it is shown", func(s Snapshot) bool {
			l := s.Sides[split.Blue].Restarts
			return len(l) == 1 &&
				l[0].Count == 4
		})
		time.Sleep(time.Minute)
		r.begin("4.3.0")
		r.until("the first leg runs",
			func(s Snapshot) bool { return s.Crossing.Stage == crossing.Shifting && s.Crossing.Task.ID == 0 })
		ends(split.Green)
		s := r.until("it goes home",
			func(s Snapshot) bool { return s.Crossing.Stage == crossing.RolledBack && s.Crossing.Task.ID == 0 })
		if oneof.As[crossing.ByGuard](s.Crossing.Why).Alarm.Watch != plan.Unhealthy {
			t.Errorf("because of %v", s.Crossing.Why)
		}
		r.end()
	})
}

// What is started again is the build that ran: another one only where nobody of the side would serve otherwise, and
// that is said.
func TestStartedAgainOfTheSameBuild(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, func(w *world) {
			w.plan.Parts[0].Stacks[split.Blue].Restart = true
			w.differs[split.Blue] = "bin/sailings differs"
		})
		ends := func(n int) {
			r.with(func() { r.sides[split.Blue][n].Running, r.sides[split.Blue][n].Exit = false, "exit status 3" })
		}
		ends(0)
		r.until("it is refused", func(Snapshot) bool {
			return slices.ContainsFunc(r.events, func(e crossing.Event) bool {
				f, is := e.What.(crossing.Restarted)
				return is && f.Failed == delivered.ErrOther.Error()
			})
		})
		if len(r.restarted) > 0 {
			t.Error("another build is started while blue-2 serves")
		}
		ends(1)
		s := r.until("somebody serves", func(s Snapshot) bool {
			return slices.ContainsFunc(s.Sides[split.Blue].Instances,
				func(c reading.Condition) bool { return c.Other != "" && c.State == reading.Healthy })
		})
		now := situation.Of(s.View, situation.Seen{}, time.Now())
		if o, ok := now.Is.(situation.OtherBuild); now.Gravity != situation.Wrong || !ok ||
			o.What != "bin/sailings differs" {
			t.Errorf("it is said as %+v", now)
		}
		r.end()
	})
}

// b b after the end, while the old side stands, is a crossing of its own.
func TestBackAfterTheEnd(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, func(w *world) { w.plan.Then, w.plan.Route = plan.ThenLeave, route.Route{{Part: split.Whole}} })
		r.begin("4.3.0")
		first := r.until("it has settled",
			func(s Snapshot) bool { return s.Crossing.Stage == crossing.Settled && s.Crossing.Task.ID == 0 })
		if _, err := r.keeper.Do(t.Context(),
			Command{Act: crossing.Back{}, By: "marit", Why: "berths are sold twice"}); err != nil {
			t.Fatal(err)
		}
		s := r.until("it is home", func(s Snapshot) bool { return s.Crossing.Stage == crossing.RolledBack })
		if s.Crossing.Number != first.Crossing.Number+1 || s.Front.Split.Share != 0 ||
			oneof.As[crossing.ByHand](s.Crossing.Why).Why != "berths are sold twice" {
			t.Errorf("it is %v, number %d", s.Crossing, s.Crossing.Number)
		}
		r.end()
	})
}

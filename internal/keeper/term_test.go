package keeper

import (
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// A keeper is killed while its write is on its way, and another goes on: what arrives then changes nothing.
func TestALateWriteOfAKilledKeeper(t *testing.T) {
	for name, ended := range map[string]bool{"killed": false, "ended as it hung": true} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := newRig(t)
				defer r.end()
				var first atomic.Bool
				r.with(func() {
					r.trouble = func(what string) (time.Duration, bool, error) {
						if what == "set" && first.CompareAndSwap(false, true) {
							return 20 * time.Second, true, nil
						}
						return 0, false, nil
					}
				})
				r.do(Command{Act: crossing.Begin{Version: "4.3.0"}})
				r.until("it sets the first share", func(Snapshot) bool { return first.Load() })
				sent := time.Now()
				r.stop()
				r.memory.Ended = ended
				r.start()
				r.until("a term has begun", func(Snapshot) bool { return r.order.Term == 1 })
				time.Sleep(time.Until(sent.Add(19 * time.Second)))
				before := r.now()
				time.Sleep(2 * time.Second)
				if now := r.now(); now != before {
					t.Errorf("a write of the keeper before has moved %v to %v", before, now)
				}
				if before != 0 && before != 20*split.Percent {
					t.Errorf("%v are on green", before)
				}
				r.with(func() { r.trouble = nil })
				r.do(Command{Act: crossing.Back{}})
				r.until("home", func(Snapshot) bool { return r.share == 0 })
			})
		})
	}
}

// A keeper that another one has gone on for moves nothing any more, and ends; started again it does not begin, unless
// somebody says that it is to take over.
func TestAnotherTerm(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t)
		r.onFirstLeg()
		r.with(func() { r.order.Term = 5 })
		<-r.keeper.Done()
		if !r.keeper.TakenOver() {
			t.Error("it has ended, and does not say why")
		}
		r.stop()
		if r.now() != 20*split.Percent {
			t.Errorf("%v are on green", r.now())
		}
		if k, err := New(t.Context(), r.config()); !errors.Is(err, ErrTakenOver) {
			t.Fatalf("started again: %v, %v", k, err)
		}
		r.memory.Ended = true
		r.start()
		defer r.end()
		r.until("a term has begun", func(Snapshot) bool { return r.order.Term == 6 })
		r.do(Command{Act: crossing.Back{}})
		r.until("home", func(Snapshot) bool { return r.share == 0 })
	})
}

// A change that the front refuses because another keeper has taken over is the end of this one, also before it has read
// that.
func TestRefusedInAnEarlierTerm(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t)
		r.onFirstLeg()
		r.with(func() {
			r.trouble = func(what string) (time.Duration, bool, error) {
				if what == "set" {
					return 0, false, fmt.Errorf("%w: it is term 5", front.ErrTaken)
				}
				return 0, false, nil
			}
		})
		r.do(Command{Act: crossing.Yes{Question: r.last().Crossing.Question.ID}})
		<-r.keeper.Done()
		r.stop()
		if s, _, err := r.config().Book.Load(t.Context()); err != nil || !s.Term.Over || s.Frozen() {
			t.Errorf("it ended with %+v, frozen for %v, %v", s.Term, s.Freezes, err)
		}
	})
}

// A keeper that a standby follows knows when it is started again that it has been taken over from, and one that nobody
// followed takes the front's term for its own.
func TestTermsAreRemembered(t *testing.T) {
	for name, followed := range map[string]bool{"followed": true, "by itself": false} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := newRig(t)
				r.onFirstLeg()
				if followed {
					for range 2 {
						if _, err := r.keeper.Followed(t.Context(), "pier-2"); err != nil {
							t.Fatal(err)
						}
					}
				}
				r.stop()
				r.with(func() { r.order.Term = 5 })
				r.start()
				if followed {
					<-r.keeper.Done()
					r.stop()
				} else {
					defer r.end()
					r.until("it goes on", func(s Snapshot) bool { return s.Ready })
				}
				if r.keeper.TakenOver() != followed {
					t.Errorf("taken over: %v", r.keeper.TakenOver())
				}
			})
		})
	}
}

// A keeper that is killed while it begins a term begins another when it goes on: the front may have taken the first.
func TestKilledWhileATermBegins(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t)
		r.onFirstLeg()
		r.stop()
		r.memory.Ended = true
		r.with(func() {
			r.trouble = func(what string) (time.Duration, bool, error) {
				if what == "term" {
					return 20 * time.Second, true, nil // it is taken, and the answer is lost
				}
				return 0, false, nil
			}
		})
		r.start()
		r.until("a term begins", func(s Snapshot) bool { return s.Crossing.Term.Begins })
		r.stop()
		r.with(func() { r.trouble, r.order.Term = nil, r.order.Term+1 })
		r.memory.Ended = false
		r.start()
		defer r.end()
		r.until("another has begun", func(s Snapshot) bool { return s.Crossing.Term.Known && !s.Crossing.Term.Begins })
	})
}

// A keeper that was cut off while a guard had it go home does not do so when it sees the front again, if another one
// has taken over meanwhile; on a person's word it does.
func TestHomeAfterATakeOver(t *testing.T) {
	for name, byHand := range map[string]bool{"by a guard": false, "by hand": true} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := newRig(t)
				r.onLeg()
				cut := func(what ...string) {
					r.with(func() {
						r.trouble = func(is string) (time.Duration, bool, error) {
							if slices.Contains(what, is) {
								return 0, false, errLost
							}
							return 0, false, nil
						}
					})
				}
				cut("home")
				if byHand {
					r.do(Command{Act: crossing.Back{}})
				} else {
					r.with(func() { r.failing[split.Green] = 0.9 })
				}
				r.until("it goes back", func(s Snapshot) bool { return s.Crossing.GoingBack })
				cut("home", "read", "list")
				time.Sleep(10 * time.Second)
				r.with(func() { r.order.Term++ })
				time.Sleep(time.Minute)
				r.with(func() { r.trouble = nil })
				<-r.keeper.Done()
				r.stop()
				r.with(func() {
					if went := r.homes > 0; went && !byHand {
						t.Errorf("it went home %d times, by what it knew before it was taken over from", r.homes)
					}
				})
			})
		})
	}
}

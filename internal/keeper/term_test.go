package keeper

import (
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/split"
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

// A keeper that another one has gone on for moves nothing any more, and goes home all the same.
func TestAnotherTerm(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t)
		defer r.end()
		r.onFirstLeg()
		r.with(func() { r.order.Term = 5 })
		time.Sleep(2 * time.Second) // it reads that
		r.do(Command{Act: crossing.Yes{Question: r.last().Crossing.Question.ID}})
		s := r.until("it says who has taken over", func(s Snapshot) bool { return s.Crossing.Trouble.Is != nil })
		if r.now() != 20*split.Percent {
			t.Errorf("%v are on green; %+v", r.now(), s.Crossing.Trouble)
		}
		t.Log(s.Crossing.Trouble)
		r.do(Command{Act: crossing.Back{}})
		r.until("home", func(Snapshot) bool { return r.share == 0 })
	})
}

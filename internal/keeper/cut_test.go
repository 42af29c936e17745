package keeper

import (
	"testing"
	"testing/synctest"
	"time"

	"vaiven/internal/core/reading"
)

// A keeper that is cut off from the front and from all instances does not take that for a fault of the new side,
// neither while it lasts nor when it is over.
func TestCutOff(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t)
		defer r.end()
		r.onLeg()
		time.Sleep(5 * time.Second)
		r.with(func() {
			r.trouble = func(what string) (time.Duration, bool, error) {
				if what == "read" || what == "set" || what == "home" {
					return 0, false, errLost
				}
				return 0, false, nil
			}
		})
		time.Sleep(4 * time.Second) // checks fail a few times before they say so
		fails := func(names ...string) {
			r.with(func() {
				for _, name := range names {
					r.health[name] = reading.Failing
				}
			})
		}
		fails("green-1", "green-2")
		time.Sleep(time.Second)
		fails("blue-1", "blue-2")
		time.Sleep(15 * time.Second)
		r.with(func() { r.trouble = nil })
		time.Sleep(time.Second)
		r.with(func() { clear(r.health) })
		time.Sleep(time.Minute)
		if s := r.last().Crossing; s.GoingBack || !s.Stage.UnderWay() || r.counted()["rolls back"] > 0 {
			t.Errorf("it was rolled back: %s, %+v", s.Stage, s.Why)
		}
	})
}

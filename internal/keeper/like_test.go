package keeper

import (
	"testing"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
)

// A side that takes after the live one is raised with as many instances and with what those run with, also one that
// is started again; any other side takes over nothing.
func TestAsLive(t *testing.T) {
	for _, instances := range []int{plan.AsLive, 2} {
		play(t, func(t *testing.T, r *rig) {
			holds := func(when string) {
				t.Helper()
				r.with(func() {
					if got := r.like.Environment["REGION"] == "north"; got != (instances == plan.AsLive) {
						t.Errorf("%s with %d instances it takes over %v", when, instances, r.like.Environment)
					}
					r.like = stack.Settings{}
				})
			}
			r.do(Command{Act: crossing.Begin{Version: "4.3.0"}})
			r.until("it is asked", func(s Snapshot) bool { return oneof.IsA[crossing.AskLeg](s.Crossing.Question) })
			if n := len(r.sides[split.Green]); n != 2 {
				t.Errorf("%d instances stand", n)
			}
			holds("raised")
			r.with(func() { r.sides[split.Green][0].Running, r.sides[split.Green][0].Exit = false, "exit status 3" })
			r.until("it was started again", func(Snapshot) bool { return len(r.restarted) > 0 })
			holds("started again")
		}, func(w *world) {
			w.plan.Parts[0].Stacks[split.Green].Instances = instances
			w.plan.Parts[0].Stacks[split.Green].Restart = true
			w.plan.Guards = nil
		})
	}
}

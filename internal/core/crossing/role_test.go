package crossing

import (
	"testing"

	"vaiven/internal/core/split"
)

func TestRoles(t *testing.T) {
	const half = split.Whole / 2
	for _, c := range []struct {
		name        string
		state       State
		live        split.Side
		share       split.Share
		stands      [2]bool
		blue, green Role
	}{
		{"nothing was ever released", State{}, split.Blue, 0, [2]bool{}, RoleEmpty, RoleEmpty},
		{"first release, raising", State{Stage: Raising, Target: split.Green, First: true}, split.Blue, 0, [2]bool{},
			RoleEmpty, RoleNew},
		{"first release, all of it", State{Stage: Keeping, Target: split.Green, First: true}, split.Green, split.Whole,
			[2]bool{false, true}, RoleEmpty, RoleNew},
		{"at rest", State{}, split.Blue, 0, [2]bool{true, false}, RoleLive, RoleEmpty},
		{"called off, and left standing", State{Stage: CalledOff, Target: split.Green}, split.Blue, 0,
			[2]bool{true, true}, RoleLive, RoleSpare},
		{"raising", State{Stage: Raising, Target: split.Green}, split.Blue, 0, [2]bool{true, false}, RoleLive, RoleNew},
		{"half way", State{Stage: Shifting, Target: split.Green}, split.Blue, half, [2]bool{true, true}, RoleLive,
			RoleNew},
		{"half way to blue", State{Stage: Shifting, Target: split.Blue}, split.Green, half, [2]bool{true, true},
			RoleNew, RoleLive},
		{"live side dead under way", State{Stage: Shifting, Target: split.Green}, split.Blue, half,
			[2]bool{false, true}, RoleLive, RoleNew},
		{"kept", State{Stage: Keeping, Target: split.Green}, split.Blue, split.Whole, [2]bool{true, true}, RoleKept,
			RoleNew},
		{"kept, and back by a part", State{Stage: Keeping, Target: split.Green}, split.Blue, half, [2]bool{true, true},
			RoleLive, RoleNew},
		{"settled", State{Stage: Settled, Target: split.Green}, split.Green, split.Whole, [2]bool{false, true},
			RoleEmpty, RoleLive},
		{"settled, the old side left", State{Stage: Settled, Target: split.Green}, split.Green, split.Whole,
			[2]bool{true, true}, RoleSpare, RoleLive},
	} {
		for _, side := range split.Sides {
			want := c.blue
			if side == split.Green {
				want = c.green
			}
			if got := c.state.Role(side, c.live, c.share, c.stands[side]); got != want {
				t.Errorf("%s: %v is %q, want %q", c.name, side, got, want)
			}
		}
	}
}

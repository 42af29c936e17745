package keeper

import (
	"time"

	"golang.org/x/sys/unix"
)

// sleepLeast is how long a machine has to have stood still for it to be a hole.
const sleepLeast = 2 * time.Second

// sleep finds out for how long the machine stood still: one clock of it goes on meanwhile,
// and the other does not. Whatever people do to the clock on the wall changes neither.
type sleep struct{ apart time.Duration }

func newSleep() *sleep { return &sleep{apart()} }

// since is for how long the machine stood still since it was last asked.
func (s *sleep) since() time.Duration {
	now := apart()
	slept := now - s.apart
	s.apart = now
	return slept
}

// apart is by how much the clock that goes on is ahead of the one that does not.
func apart() time.Duration {
	var on, off unix.Timespec
	if unix.ClockGettime(unix.CLOCK_MONOTONIC, &off) != nil || unix.ClockGettime(unix.CLOCK_BOOTTIME, &on) != nil {
		return 0 // a system without them: its sleep is not noticed by this, but by what is old then
	}
	return time.Duration(on.Nano() - off.Nano())
}

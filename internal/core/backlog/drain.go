package backlog

import (
	"math"
	"time"
)

// Drain judges how long a side that is given up is waited for. Open requests get its grace time; messages are not given
// up with a side, and are waited for as long as they become fewer.
type Drain struct {
	grace time.Duration
	begun time.Time
	fewer time.Time // when there were last fewer messages than ever before,
	least int64     // and how many
}

// NewDrain begins to wait for a side with a grace time.
func NewDrain(grace time.Duration, now time.Time) *Drain {
	return &Drain{grace: grace, begun: now, fewer: now, least: math.MaxInt64}
}

// Drained is what is to be done about a side that is given up.
type Drained int

// What it can be.
const (
	Waits Drained = iota // look again
	Empty                // nothing is left
	Cut                  // its grace time is over, and requests are still open
	Stuck                // messages are there, and none fewer for long
)

// How often it is looked at, and how long without one message fewer anybody waits for them.
const (
	openEvery    = 50 * time.Millisecond // while requests are open
	waitingEvery = time.Second           // while messages wait

	// StuckFor is how long at the least messages are waited for without one fewer.
	StuckFor = 5 * time.Minute
)

// Patience is how long messages are waited for without one fewer.
func (d *Drain) Patience() time.Duration { return max(d.grace, StuckFor) }

// Look takes in what is left, and says what is to be done and after how long it is looked at again.
func (d *Drain) Look(now time.Time, open, waiting int64) (Drained, time.Duration) {
	if waiting < d.least {
		d.fewer, d.least = now, waiting
	}
	switch {
	case open == 0 && waiting == 0:
		return Empty, 0
	case waiting > 0 && now.Sub(d.fewer) > d.Patience():
		return Stuck, 0
	case waiting > 0:
		return Waits, waitingEvery
	case now.Sub(d.begun) > d.grace:
		return Cut, 0
	}
	return Waits, openEvery
}

package embedded

import (
	"sync/atomic"
	"time"

	"vaiven/internal/core/reading"
)

// waits counts the requests that wait for an instance's answer, by when they began to: a
// request costs two additions, and whoever reads adds up. One that has waited for longer than
// the whole of it, which is minutes, is counted as a younger one. The zero value is ready.
type waits [waitSlots]atomic.Int64

const (
	waitStep  = 50 * time.Millisecond
	waitSlots = 8192
)

// waitsBegan is what the steps are counted from, by a clock that nobody sets.
var waitsBegan = time.Now()

func waitStepAt(now time.Time) int64 { return int64(now.Sub(waitsBegan) / waitStep) }

// begin counts a request from now on, and returns where.
func (w *waits) begin(now time.Time) (slot int64) {
	slot = waitStepAt(now) % waitSlots
	w[slot].Add(1)
	return slot
}

// end counts it no more.
func (w *waits) end(slot int64) { w[slot].Add(-1) }

// longer is how many have waited for longer than each of [reading.Waits].
func (w *waits) longer(now time.Time) []int64 {
	list := make([]int64, len(reading.Waits))
	at := waitStepAt(now)
	for back := range min(int64(waitSlots), at+1) {
		n := w[(at-back)%waitSlots].Load()
		if n <= 0 {
			continue
		}
		waited := time.Duration(back-1) * waitStep // at least
		for k, wait := range reading.Waits {
			if waited >= wait {
				list[k] += n
			}
		}
	}
	return list
}

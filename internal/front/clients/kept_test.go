package clients

import (
	"testing"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// A session counts on its side until it was not used for a while, or the side is released.
func TestSessionsAreCounted(t *testing.T) {
	var k Kept
	at := time.Date(2026, 11, 29, 8, 0, 0, 0, time.UTC)
	for n := range uint64(5) {
		k.Came(split.Blue, n, at.Add(time.Duration(n)*time.Minute))
		k.Came(split.Blue, n, at.Add(time.Duration(n)*time.Minute))
	}
	k.Came(split.Green, 1, at)
	want := func(side split.Side, now time.Time, want int64) {
		t.Helper()
		if is := k.Count(side, now); is != want {
			t.Errorf("%d sessions on %v, want %d", is, side, want)
		}
	}
	want(split.Blue, at.Add(4*time.Minute), 5)
	want(split.Blue, at.Add(2*time.Minute+reading.KeptFor), 3)
	want(split.Green, at, 1)
	k.Release(split.Blue)
	want(split.Blue, at.Add(4*time.Minute), 0)
	want(split.Green, at, 1)
}

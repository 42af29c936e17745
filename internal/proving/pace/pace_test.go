package pace

import (
	"context"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

// What is late is not caught up with, no more are under way than have room, and all that have begun are waited for.
func TestEach(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		room := make(chan struct{}, 2)
		var under, most, done atomic.Int32
		begun := time.Now()
		Each(t.Context(), 6, time.Second, func(int) chan struct{} { return room }, func(k int) {
			most.Store(max(most.Load(), under.Add(1)))
			if k < 2 { // both hold the third up
				time.Sleep(10 * time.Second)
			}
			under.Add(-1)
			done.Add(1)
		})
		if most.Load() != 2 || done.Load() != 6 {
			t.Errorf("%d were done, and at most %d at once", done.Load(), most.Load())
		}
		// The third begins when the first has ended; the next one is due by then, and the others follow a second apart.
		if took := time.Since(begun); took != 12*time.Second {
			t.Errorf("it took %v", took)
		}
	})
}

func TestItEndsWithTheContext(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithTimeout(t.Context(), 90*time.Second)
		defer cancel()
		var n atomic.Int32
		Each(ctx, 1000, time.Minute, func(int) chan struct{} { return make(chan struct{}, 1) }, func(int) { n.Add(1) })
		if n.Load() != 2 {
			t.Errorf("%d were done", n.Load())
		}
	})
}

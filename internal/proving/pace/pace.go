package pace

import (
	"context"
	"sync"
	"time"
)

// Each does something n times, with so long between the beginnings of two, until the context ends, and waits for
// those that have begun. room says where the kth has to find room first: as many are under way at once as fit into
// that. What is late is not caught up with.
func Each(ctx context.Context, n int, every time.Duration, room func(k int) chan struct{}, do func(k int)) {
	var wait sync.WaitGroup
	defer wait.Wait()
	next := time.Now()
	timer := time.NewTimer(0)
	defer timer.Stop()
	for k := range n {
		timer.Reset(time.Until(next))
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		}
		place := room(k)
		select {
		case <-ctx.Done():
			return
		case place <- struct{}{}:
		}
		wait.Go(func() {
			defer func() { <-place }()
			do(k)
		})
		if next = next.Add(every); time.Since(next) > 0 {
			next = time.Now()
		}
	}
}

package haproxy

import (
	"context"
	"fmt"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"
)

// The services of one process that are behind one HAProxy take turns at its socket, as where a side is evacuated: it
// takes ten connections at once unless told otherwise.
const (
	atOnce    = 4
	turnLimit = 250 * time.Millisecond // for a turn to come: what hangs holds up nobody
	mostPause = 16 * time.Millisecond  // before a socket whose queue is full is tried again
)

var turns sync.Map // of *semaphore.Weighted, by socket

// turn waits until few of this process ask at a socket, but not for long.
func (d *Driver) turn(ctx context.Context, address string) (done func()) {
	found, _ := turns.LoadOrStore(fmt.Sprintf("%v %s", d.on, address), semaphore.NewWeighted(atOnce))
	at := found.(*semaphore.Weighted)
	ctx, cancel := context.WithTimeout(ctx, turnLimit)
	defer cancel()
	if at.Acquire(ctx, 1) != nil {
		return func() {}
	}
	return func() { at.Release(1) }
}

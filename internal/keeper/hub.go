package keeper

import (
	"context"
	"sync"

	"vaiven/internal/core/crossing"
)

// hub hands snapshots and events to those who watch. A slow receiver gets fewer
// snapshots, but every event. The zero value is ready.
type hub struct {
	mu     sync.Mutex // protects what follows
	views  map[chan Snapshot]struct{}
	queues map[*queue]struct{}
	last   *Snapshot
	closed bool
}

// queue holds events that a receiver has not taken yet.
type queue struct {
	more   chan struct{} // has a token when there may be something new
	events []crossing.Event
}

func (h *hub) publish(s Snapshot) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.last = &s
	for c := range h.views {
		offer(c, s)
	}
}

// offer puts a snapshot in place of one that has not been taken.
func offer(c chan Snapshot, s Snapshot) {
	select {
	case <-c:
	default:
	}
	c <- s // has room: only the hub sends, with its mutex held
}

func (h *hub) send(e crossing.Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for q := range h.queues {
		q.events = append(q.events, e)
		q.wake()
	}
}

func (q *queue) wake() {
	select {
	case q.more <- struct{}{}:
	default:
	}
}

// close ends all channels, after the events that are still queued.
func (h *hub) close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
	for c := range h.views {
		close(c)
	}
	h.views = nil
	for q := range h.queues {
		q.wake()
	}
}

// Snapshots sends the newest snapshot. See [Client].
func (k *Keeper) Snapshots(ctx context.Context) <-chan Snapshot {
	h := &k.hub
	h.mu.Lock()
	defer h.mu.Unlock()
	c := make(chan Snapshot, 1)
	if h.last != nil {
		c <- *h.last
	}
	if h.closed {
		close(c)
		return c
	}
	if h.views == nil {
		h.views = map[chan Snapshot]struct{}{}
	}
	h.views[c] = struct{}{}
	context.AfterFunc(ctx, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if _, ok := h.views[c]; ok {
			delete(h.views, c)
			close(c)
		}
	})
	return c
}

// Events sends every event. See [Client].
func (k *Keeper) Events(ctx context.Context) <-chan crossing.Event {
	h := &k.hub
	q := &queue{more: make(chan struct{}, 1)}
	h.mu.Lock()
	if h.queues == nil {
		h.queues = map[*queue]struct{}{}
	}
	h.queues[q] = struct{}{}
	h.mu.Unlock()
	c := make(chan crossing.Event)
	go func() {
		defer close(c)
		defer func() {
			h.mu.Lock()
			defer h.mu.Unlock()
			delete(h.queues, q)
		}()
		for {
			h.mu.Lock()
			events, closed := q.events, h.closed
			q.events = nil
			h.mu.Unlock()
			for _, e := range events {
				select {
				case c <- e:
				case <-ctx.Done():
					return
				}
			}
			if closed && len(events) == 0 {
				return
			}
			if closed {
				continue
			}
			select {
			case <-q.more:
			case <-ctx.Done():
				return
			}
		}
	}()
	return c
}

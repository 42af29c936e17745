package keeper

import (
	"context"
	"slices"
	"sync"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
)

// hub hands snapshots and events to those who watch. A slow receiver gets fewer
// snapshots, but every event. The zero value is ready.
type hub struct {
	mu     sync.Mutex // protects what follows
	views  map[chan Snapshot]struct{}
	queues map[*queue]struct{}
	last   *Snapshot
	recent []crossing.Event // the newest, without a gap up to seq
	seq    uint64           // of the newest
	closed bool
}

// recentMost is how many events are at hand; older ones are in the logbook.
const recentMost = 1000

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
	if h.seq = e.Seq; len(h.recent) >= 2*recentMost {
		h.recent = append([]crossing.Event(nil), h.recent[recentMost:]...)
	}
	h.recent = append(h.recent, e)
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

// Events sends every event after one. See [Client].
func (k *Keeper) Events(ctx context.Context, since uint64) <-chan crossing.Event {
	events, _ := k.EventsFrom(ctx, since)
	return events
}

// EventsFrom is what Events is, with the sequence number after which they begin.
func (k *Keeper) EventsFrom(ctx context.Context, since uint64) (<-chan crossing.Event, uint64) {
	h := &k.hub
	q := &queue{more: make(chan struct{}, 1)}
	h.mu.Lock()
	if h.queues == nil {
		h.queues = map[*queue]struct{}{}
	}
	h.queues[q] = struct{}{}
	since = min(since, h.seq)
	upTo := h.seq // of those before the ones at hand
	for _, e := range h.recent {
		upTo = min(upTo, e.Seq-1)
		if e.Seq > since {
			q.events = append(q.events, e)
		}
	}
	q.wake()
	h.mu.Unlock()
	c := make(chan crossing.Event)
	go func() {
		defer close(c)
		defer func() {
			h.mu.Lock()
			defer h.mu.Unlock()
			delete(h.queues, q)
		}()
		if k.replay(ctx, since, upTo, c) {
			k.pass(ctx, q, c)
		}
	}()
	return c, since
}

// replay sends what only the logbook has: the events after one, up to another. It is false
// if they cannot all be sent.
func (k *Keeper) replay(ctx context.Context, since, upTo uint64, c chan<- crossing.Event) bool {
	for since < upTo {
		limited, cancel := context.WithTimeout(ctx, bookLimit)
		list, err := k.Book.Since(limited, since, recentMost)
		cancel()
		if err != nil || len(list) == 0 {
			k.log.warn("older events cannot be told", "since", since, "err", err)
			return false
		}
		for _, e := range list {
			if e.Seq > upTo {
				return true
			}
			select {
			case c <- e:
				since = e.Seq
			case <-ctx.Done():
				return false
			}
		}
	}
	return true
}

// pass sends what comes into a queue.
func (k *Keeper) pass(ctx context.Context, q *queue, c chan<- crossing.Event) {
	h := &k.hub
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
		switch {
		case closed && len(events) == 0:
			return
		case closed:
			continue
		}
		select {
		case <-q.more:
		case <-ctx.Done():
			return
		}
	}
}

// Track is the track after a time, oldest first, for at most [TrackMost].
func (w *watcher) Track(after time.Time) []engine.Point {
	points := w.latest.Load().Track
	n, _ := slices.BinarySearchFunc(points, after, func(p engine.Point, t time.Time) int {
		if p.At.After(t) {
			return 1
		}
		return -1
	})
	return points[max(n, len(points)-TrackMost):]
}

// TrackMost is how many points of the track are told at once: an hour of them.
const TrackMost = 3600

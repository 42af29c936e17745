package keeper

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"vaiven/internal/core/crossing"
)

// recorder writes events into the logbook, in their order, beside the loop: a disk that
// hangs or is full holds nothing up. Whoever acts because of an event waits until it is
// kept; going home does not.
type recorder struct {
	book Book
	turn chan struct{} // held by the one who writes

	mu      sync.Mutex // protects what follows
	waiting []entry
	written uint64        // sequence number of the last event that is on disk
	changed chan struct{} // closed when written or failed changes
	failed  error         // why the last try failed, nil if it did not
	since   time.Time     // when the oldest that waits was added
	wake    chan struct{}
}

// entry is events that have to be written together, with the state that they led to.
type entry struct {
	state  crossing.State
	events []crossing.Event
}

// retryEvery is how often the logbook is tried that did not take an entry.
const retryEvery = 500 * time.Millisecond

func newRecorder(b Book, written uint64) *recorder {
	return &recorder{book: b, turn: make(chan struct{}, 1), written: written, changed: make(chan struct{}),
		wake: make(chan struct{}, 1)}
}

// add has events written.
func (r *recorder) add(s crossing.State, events []crossing.Event) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.waiting) == 0 {
		r.since = events[0].At
	}
	r.waiting = append(r.waiting, entry{s, events})
	r.awake()
}

func (r *recorder) awake() {
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// run writes until the context ends.
func (r *recorder) run(ctx context.Context) {
	retry := time.NewTimer(retryEvery)
	defer retry.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-r.wake:
		case <-retry.C:
		}
		r.flush()
		retry.Reset(retryEvery)
	}
}

// flush writes what waits, as far as it goes.
func (r *recorder) flush() {
	r.turn <- struct{}{}
	defer func() { <-r.turn }()
	for {
		r.mu.Lock()
		if len(r.waiting) == 0 {
			r.mu.Unlock()
			return
		}
		e := r.waiting[0]
		r.mu.Unlock()
		ctx, cancel := context.WithTimeout(context.Background(), bookLimit)
		err := r.book.Append(ctx, e.state, e.events)
		cancel()
		r.mu.Lock()
		r.failed = err
		if err == nil {
			r.waiting = r.waiting[1:]
			r.written = e.events[len(e.events)-1].Seq
			r.since = time.Now()
		}
		close(r.changed)
		r.changed = make(chan struct{})
		r.mu.Unlock()
		if err != nil {
			return
		}
	}
}

// kept waits until an event is on disk. It does not wait long: what is to be done because
// of the event is then not done at all.
func (r *recorder) kept(ctx context.Context, seq uint64) error {
	ctx, cancel := context.WithTimeout(ctx, bookLimit)
	defer cancel()
	for {
		r.mu.Lock()
		written, failed, changed := r.written, r.failed, r.changed
		r.mu.Unlock()
		switch {
		case written >= seq:
			return nil
		case failed != nil:
			return failed
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return errNotTaken
		}
	}
}

// errNotTaken is a logbook that does not answer.
var errNotTaken = fmt.Errorf("it has not taken the entry within %v", bookLimit)

// ready is an error if nothing could be recorded now: what waits is written, and the disk
// is tried.
func (r *recorder) ready(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, bookLimit)
	defer cancel()
	r.awake()
	r.mu.Lock()
	last := r.written
	if n := len(r.waiting); n > 0 {
		events := r.waiting[n-1].events
		last = events[len(events)-1].Seq
	}
	r.mu.Unlock()
	if err := r.kept(ctx, last); err != nil {
		return err
	}
	checked := make(chan error, 1)
	go func() { checked <- r.book.Check(ctx) }()
	select {
	case err := <-checked:
		if errors.Is(err, context.DeadlineExceeded) {
			err = errNotTaken
		}
		return err
	case <-ctx.Done():
		return errNotTaken
	}
}

// trouble is what keeps events from being recorded, "" if nothing does.
func (r *recorder) trouble(now time.Time) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch {
	case len(r.waiting) == 0:
		return ""
	case r.failed != nil:
		return fmt.Sprintf("the logbook cannot be written (%v): only rolling back and freezing work", r.failed)
	case now.Sub(r.since) > bookLimit:
		return fmt.Sprintf("the logbook has not answered for %v: only rolling back and freezing work",
			now.Sub(r.since).Round(time.Second))
	}
	return ""
}

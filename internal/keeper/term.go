package keeper

import (
	"context"
	"errors"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"

	"vaiven/internal/core/crossing"
	"vaiven/internal/front"
)

// ErrTakenOver is wrapped when another keeper works in a later term of the front: this one has nothing to say any more.
var ErrTakenOver = errors.New("another keeper has taken over")

// term is the front's term that this keeper works in, for as long as it runs: changes of an earlier one are refused
// there.
type term struct {
	turn   *semaphore.Weighted // held while a term begins, which may take as long as the front does
	begins bool                // one has to begin before anything is changed: the keeper before did not hand over
	known  bool
	number uint64      // while it is not known, of the term that one has to come after
	over   atomic.Bool // another keeper has taken over since this one began
}

// beginEvery is how often a term is tried to begin that the front did not take.
const beginEvery = time.Second

// beginTerm begins a term if one has to, until the front has taken it. Nothing waits for that but changes that move
// traffic.
func (w *watcher) beginTerm(ctx context.Context) {
	for w.term.begins {
		limited, cancel := context.WithTimeout(ctx, setLimit)
		_, err := w.inTerm(limited)
		cancel()
		if err == nil {
			return
		}
		w.log.warn("begin a term", "err", err)
		select {
		case <-ctx.Done():
			return
		case <-time.After(beginEvery):
		}
	}
}

// inTerm is the term that a change is made in. It is the one that the front was in when this keeper read it first, or
// the one that this keeper has begun. That it is about to be begun is on record first: whoever goes on for this keeper
// would take it for another's.
func (w *watcher) inTerm(ctx context.Context) (uint64, error) {
	if err := w.term.turn.Acquire(ctx, 1); err != nil {
		return 0, err
	}
	defer w.term.turn.Release(1)
	if !w.term.begins || w.term.known {
		return w.term.number, nil
	}
	if err := w.noted(ctx, crossing.TermBegins{}); err != nil {
		return 0, err
	}
	number, err := w.Front.NewTerm(ctx, w.term.number)
	if err != nil {
		return 0, err
	}
	w.term.known, w.term.number = true, number
	w.note(ctx, crossing.TermBegan{Number: number, Folder: w.Folder})
	w.log.info("a term has begun", "term", number)
	return number, nil
}

// seenWithin is how long ago the front may have been read for a keeper to know whether it was taken over from, and
// seeLimit how long it is asked before a going home: one that does not answer is sent home all the same.
const (
	seenWithin = 2 * time.Second
	seeLimit   = time.Second
)

// overtaken reads the front, and reports whether another keeper has taken over.
func (w *watcher) overtaken(ctx context.Context) bool {
	limited, cancel := context.WithTimeout(ctx, seeLimit)
	defer cancel()
	r, err := w.Front.Read(limited)
	return err == nil && w.readTerm(ctx, r.Order.Term)
}

// readTerm takes in a term that was read. The first one is ours, where none is on record; a later one is that of
// another keeper, which it reports, and the end of this one.
func (w *watcher) readTerm(ctx context.Context, number uint64) (later bool) {
	if !w.term.turn.TryAcquire(1) { // who has the turn sees to it, or the next reading
		return false
	}
	defer w.term.turn.Release(1)
	switch {
	case w.term.known && number > w.term.number:
		w.takenOver(ctx, number)
		return true
	case !w.term.begins && !w.term.known:
		w.term.known, w.term.number = true, number
	}
	return false
}

// takenOver has the keeper end: another one works in a later term, which is 0 if it is not known.
func (w *watcher) takenOver(ctx context.Context, number uint64) {
	w.post(ctx, func(now time.Time) {
		w.notes(now, crossing.TakenOver{Term: number})
		w.term.over.Store(true)
	})
}

// refused reports whether the front refuses a change because another keeper has taken over, which is this one's end.
func (w *watcher) refused(ctx context.Context, err error) bool {
	if errors.Is(err, front.ErrTaken) {
		w.takenOver(ctx, 0)
		return true
	}
	return false
}

// note has a fact of the keeper's own recorded, once in a row.
func (w *watcher) note(ctx context.Context, f crossing.Fact) {
	w.post(ctx, func(now time.Time) { w.notes(now, f) })
}

// noted is note, and waits until it is on record.
func (w *watcher) noted(ctx context.Context, f crossing.Fact) error {
	at := make(chan uint64, 1)
	w.post(ctx, func(now time.Time) {
		w.notes(now, f)
		at <- w.engine.State().Seq
	})
	select {
	case seq := <-at:
		return w.book.kept(ctx, seq)
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-w.done:
		return errStopped
	}
}

// notes records a fact of the keeper's own, if it says anything new. It belongs to the loop.
func (w *watcher) notes(now time.Time, f crossing.Fact) {
	before := w.engine.State()
	after := crossing.Apply(before, crossing.Event{Seq: before.Seq, What: f})
	if after.Term == before.Term {
		return
	}
	w.happened(w.engine.Tell(now, f))
	w.publish(now)
}

// Followed says that a standby at a place follows this keeper, until leave is called. It is on record in which term, so
// that this one, started again, knows when it has been taken over. Many goroutines may call it.
func (k *Keeper) Followed(ctx context.Context, from string) (leave func(), err error) {
	if err := k.term.turn.Acquire(ctx, 1); err != nil {
		return nil, err
	}
	known, number := k.term.known, k.term.number
	k.term.turn.Release(1)
	if !known {
		return nil, errors.New("its front has not been read yet")
	}
	if err := k.noted(ctx, crossing.Followed{From: from, Term: number}); err != nil {
		return nil, err
	}
	return k.guests.follows(from), nil
}

// Kept waits until an event is on record, or cannot be.
func (k *Keeper) Kept(ctx context.Context, seq uint64) error { return k.book.kept(ctx, seq) }

// TakenOver reports whether another keeper has taken over, which is why this one has ended.
func (k *Keeper) TakenOver() bool { return k.term.over.Load() }

// Done is closed when the keeper has ended.
func (k *Keeper) Done() <-chan struct{} { return k.done }

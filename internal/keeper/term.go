package keeper

import (
	"context"
	"time"

	"golang.org/x/sync/semaphore"
)

// term is the front's term that this keeper works in, for as long as it runs: changes of an earlier one are refused
// there.
type term struct {
	turn   *semaphore.Weighted // held while a term begins, which may take as long as the front does
	begins bool                // one has to begin before anything is changed: the keeper before did not hand over
	known  bool
	number uint64
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
// the one that this keeper has begun.
func (w *watcher) inTerm(ctx context.Context) (uint64, error) {
	if err := w.term.turn.Acquire(ctx, 1); err != nil {
		return 0, err
	}
	defer w.term.turn.Release(1)
	if !w.term.begins || w.term.known {
		return w.term.number, nil
	}
	number, err := w.Front.NewTerm(ctx)
	if err != nil {
		return 0, err
	}
	w.term.known, w.term.number = true, number
	w.log.info("a term has begun", "term", number)
	return number, nil
}

// readTerm takes in a term that was read: the first one is ours.
func (w *watcher) readTerm(number uint64) {
	if w.term.begins || !w.term.turn.TryAcquire(1) { // who has the turn sees to it, or the next reading
		return
	}
	defer w.term.turn.Release(1)
	if !w.term.known {
		w.term.known, w.term.number = true, number
	}
}

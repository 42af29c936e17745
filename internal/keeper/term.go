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
func (k *Keeper) beginTerm(ctx context.Context) {
	for k.term.begins {
		limited, cancel := context.WithTimeout(ctx, setLimit)
		_, err := k.inTerm(limited)
		cancel()
		if err == nil {
			return
		}
		k.log.warn("begin a term", "err", err)
		select {
		case <-ctx.Done():
			return
		case <-time.After(beginEvery):
		}
	}
}

// inTerm is the term that a change is made in. It is the one that the front was in when this keeper read it first, or
// the one that this keeper has begun.
func (k *Keeper) inTerm(ctx context.Context) (uint64, error) {
	if err := k.term.turn.Acquire(ctx, 1); err != nil {
		return 0, err
	}
	defer k.term.turn.Release(1)
	if !k.term.begins || k.term.known {
		return k.term.number, nil
	}
	number, err := k.Front.NewTerm(ctx)
	if err != nil {
		return 0, err
	}
	k.term.known, k.term.number = true, number
	k.log.info("a term has begun", "term", number)
	return number, nil
}

// readTerm takes in a term that was read: the first one is ours.
func (k *Keeper) readTerm(number uint64) {
	if k.term.begins || !k.term.turn.TryAcquire(1) { // who has the turn sees to it, or the next reading
		return
	}
	defer k.term.turn.Release(1)
	if !k.term.known {
		k.term.known, k.term.number = true, number
	}
}

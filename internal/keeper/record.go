package keeper

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"time"

	"vaiven/internal/core/crossing"
)

// entry is what the logbook still has to take.
type entry struct {
	state   crossing.State
	event   crossing.Event
	effects []crossing.Effect
}

// report steps on what an effect came to. If the logbook does not take it, it
// waits.
func (k *Keeper) report(ctx context.Context, e crossing.Event) {
	if s, ok := e.What.(instancesStarted); ok {
		if s.effect == k.raising.effect {
			k.raising.started = true
			k.clearing[k.raising.side] = false
			k.forget(k.raising.side, e.At)
		}
		return
	}
	if p, ok := e.What.(proofSoFar); ok {
		k.proofTold(p)
		return
	}
	k.note(e)
	k.queue = append(k.queue, e)
	k.work(ctx)
	k.publish(time.Now())
}

// proofTold shows how far a proof is, unless nobody waits for it any more.
func (k *Keeper) proofTold(p proofSoFar) {
	if !k.view.Proving || p.number != k.proofs {
		return
	}
	k.view.Proof = p.proof
	if p.about != nil {
		k.view.About = *p.about
	}
	k.view.Proving = !p.done
}

// work takes what waits for the logbook, in order, as far as it goes.
func (k *Keeper) work(ctx context.Context) {
	for len(k.queue) > 0 {
		if err := k.take(ctx, k.queue[0]); errors.Is(err, errNotRecorded) {
			return
		}
		k.queue = k.queue[1:]
	}
}

// errNotRecorded is wrapped when the logbook did not take an event, which was
// therefore not acted on.
var errNotRecorded = errors.New("the logbook cannot be written, so nothing was done")

// take steps on an event, records it and performs what follows. Going back is done
// first and recorded after, because it must not depend on a disk. What asks for no
// effect is recorded after as well: nothing is done because of it, and whatever
// does follow later waits for both entries.
func (k *Keeper) take(ctx context.Context, e crossing.Event) error {
	before := k.state
	if _, ok := e.What.(crossing.Begun); ok {
		before = crossing.State{}
	}
	next, effects, err := crossing.Step(before, e)
	if err != nil {
		return err
	}
	if len(effects) == 0 && reflect.DeepEqual(next, before) {
		return nil
	}
	if len(effects) == 0 || goesHome(effects) {
		k.enter(ctx, e, next, effects)
		k.owed = append(k.owed, entry{next, e, effects})
		k.settleDebts(ctx)
		return nil
	}
	if err := k.settleDebts(ctx); err != nil {
		return err
	}
	if err := k.record(ctx, entry{next, e, effects}); err != nil {
		return err
	}
	k.enter(ctx, e, next, effects)
	return nil
}

func goesHome(effects []crossing.Effect) bool { return len(effects) > 0 && effects[0].Home }

// settleDebts records what was done before it was recorded.
func (k *Keeper) settleDebts(ctx context.Context) error {
	for len(k.owed) > 0 {
		if err := k.record(ctx, k.owed[0]); err != nil {
			return err
		}
		k.owed = k.owed[1:]
	}
	return nil
}

func (k *Keeper) record(ctx context.Context, e entry) error {
	ctx, cancel := context.WithTimeout(ctx, bookLimit)
	defer cancel()
	if err := k.Book.Append(ctx, e.state, e.event, e.effects); err != nil {
		k.view.Trouble = fmt.Sprintf("the logbook cannot be written (%v): only going back and freezing work", err)
		return fmt.Errorf("%w: %w", errNotRecorded, err)
	}
	k.view.Trouble = ""
	return nil
}

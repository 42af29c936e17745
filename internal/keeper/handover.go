package keeper

import (
	"context"
	"time"

	"vaiven/internal/core/crossing"
)

// HandOver ends Run for another keeper to go on, and gives what that needs to know. It is
// refused while something is being done: that is not left half way.
func (k *Keeper) HandOver(ctx context.Context) (Memory, error) {
	type answer struct {
		memory Memory
		err    error
	}
	reply := make(chan answer, 1)
	k.post(ctx, func(now time.Time) {
		s := k.engine.State()
		switch {
		case s.Task.ID != 0:
			reply <- answer{err: refused{crossing.Refuse(crossing.IsBusy{Task: s.Task})}}
		case k.proving:
			reply <- answer{err: refused{crossing.Refuse(crossing.IsProving{})}}
		default:
			k.handed = true
			reply <- answer{memory: Memory{Engine: k.engine.Hand(now), Proof: k.proof, About: k.about}}
		}
	})
	select {
	case a := <-reply:
		return a.memory, a.err
	case <-k.done: // because of this, it may be
		select {
		case a := <-reply:
			return a.memory, a.err
		default:
			return Memory{}, errStopped
		}
	case <-ctx.Done():
		return Memory{}, ctx.Err()
	}
}

// Busy reports whether something is crossing, kept or being done.
func (k *Keeper) Busy() bool {
	s := k.latest.Load().Crossing
	return s.Stage.UnderWay() || s.Task.ID != 0
}

// Crossing is where the service stands just now.
func (l *loop) Crossing() crossing.State { return l.latest.Load().Crossing }

// Needed reports whether it is busy, has a version that waits, or keeps instances alive.
func (k *Keeper) Needed() bool {
	return k.Busy() || k.Crossing().Waiting.Any() || len(k.latest.Load().Keeps) > 0
}

// Alive reports whether the keeper's loop goes round, by having it do so once.
func (k *Keeper) Alive(ctx context.Context) bool {
	round := make(chan struct{}, 1)
	k.post(ctx, func(time.Time) { round <- struct{}{} })
	select {
	case <-round:
		return true
	case <-k.done:
	case <-ctx.Done():
	}
	return false
}

package queue

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/broker"
)

// held are the acts by which messages lead nowhere, so that they are held: from the end of the chain on, so that the
// last of them is what counts.
func (d *Driver) held(s state, by string) ([]broker.Act, error) {
	share, err := d.share(s)
	if err != nil {
		return nil, err
	}
	if s.paused != nil {
		share = s.paused.Share
	}
	acts, err := d.note(s, pausedNote, paused{Share: share, By: by, At: time.Now().UTC()})
	if err != nil {
		return nil, err
	}
	for _, side := range []split.Side{split.Green, split.Blue} {
		for _, key := range s.weights[side] {
			acts = append(acts, broker.Unbind(d.weighed(side, key)))
		}
	}
	return append(acts, broker.Unbind(d.whole(split.Green)), broker.Unbind(d.whole(split.Blue))), nil
}

// Pause holds all messages: what comes waits, and what was there is done. It is in force at once.
func (d *Driver) Pause(ctx context.Context, by string) error {
	changing, through, err := d.steering.Change(ctx)
	if err != nil {
		return err
	}
	defer through()
	s, err := d.seen(changing)
	if err != nil || s.paused != nil {
		return err
	}
	acts, err := d.held(s, by)
	if err != nil {
		return err
	}
	return front.Because(changing, translated(d.broker.Do(changing, acts...)))
}

// Resume lets messages go on as before they were held, and returns when none of them waits any more. Where one side
// gets everything they go first, and what comes meanwhile waits behind them: only what comes within the last
// transaction, a third of a second or so, may be done before the last of them.
func (d *Driver) Resume(ctx context.Context) error {
	s, err := d.seen(ctx)
	if err != nil {
		return err
	}
	if s.paused != nil {
		if side, whole := s.paused.Share.Alone(); whole {
			return d.ahead(ctx, side, func() error { return d.resumed(ctx) })
		}
		if err := d.resumed(ctx); err != nil {
			return err
		}
	}
	return d.emptied(ctx)
}

// emptied carries what is held, or waits until somebody else has.
func (d *Driver) emptied(ctx context.Context) error {
	for {
		err := translated(d.release.Empty(ctx))
		if !errors.Is(err, front.ErrRefused) {
			return err
		}
		if left, _, errNow := d.broker.Now(ctx, d.names.held); errNow != nil || left == 0 {
			return translated(errNow)
		}
		select {
		case <-ctx.Done():
			return errors.Join(err, context.Cause(ctx))
		case <-time.After(doneAgain):
		}
	}
}

func (d *Driver) resumed(ctx context.Context) error {
	changing, through, err := d.steering.Change(ctx)
	if err != nil {
		return err
	}
	defer through()
	s, err := d.seen(changing)
	if err != nil || s.paused == nil {
		return err
	}
	return front.Because(changing, d.goOn(changing, s, s.paused.Share))
}

// goOn puts a share in force, and notes that nothing is held any more.
func (d *Driver) goOn(ctx context.Context, s state, share split.Share) error {
	off, err := d.note(s, pausedNote, nil)
	if err != nil {
		return err
	}
	acts, _, _ := d.toward(s, share)
	return translated(d.broker.Do(ctx, append(acts, off...)...))
}

// ahead carries what is held to a side's queue, while what comes goes on being held, and has it go there by itself
// when nothing is left.
func (d *Driver) ahead(ctx context.Context, side split.Side, over func() error) error {
	carrier, begun := d.broker.Carrier(d.names.held, d.at[side], d.names.to[side]), false
	for end := time.Now().Add(goneLimit); ; {
		err := translated(carrier.Hand(ctx, func() error {
			begun = true
			return over()
		}))
		if begun || !errors.Is(err, front.ErrRefused) || time.Now().After(end) {
			return err
		}
		select { // somebody else carries still, who sees soon that messages are held
		case <-ctx.Done():
			return errors.Join(err, context.Cause(ctx))
		case <-time.After(doneAgain):
		}
	}
}

// goneLimit is how long whoever carries has to see that messages are held.
const goneLimit = 10 * time.Second

// elsewhere reports whether messages go, or went before they were held, to another side than one.
func (d *Driver) elsewhere(s state, to split.Side) bool {
	share, err := d.share(s)
	return err == nil && share.Of(to) < split.Whole
}

// inOrder leads everything to a side in the order in which it came, but for what comes within one last transaction:
// what comes is held, what the other side has it does, what was held goes first, and then the rest. Where the other
// side does not come to an end in time, everything goes on as it was.
func (d *Driver) inOrder(ctx context.Context, s state, to split.Side) error {
	acts, err := d.held(s, "a change in order")
	if err != nil {
		return err
	}
	if err := d.broker.Do(ctx, acts...); err != nil {
		return translated(err)
	}
	if err := d.done(ctx, to.Other()); err != nil {
		undoing, cancel := context.WithTimeout(context.WithoutCancel(ctx), front.QuietLimit+time.Second)
		defer cancel()
		_ = d.letGo(undoing, s, to.Other()) // whoever asked reads what is in force
		return err
	}
	return d.ahead(ctx, to, func() error { return d.letGo(ctx, s, to) })
}

// letGo leads everything that is held since a state to a side, unless somebody went home meanwhile.
func (d *Driver) letGo(ctx context.Context, since state, to split.Side) error {
	now, err := d.look(ctx)
	if err != nil || now.order.Generation != since.order.Generation {
		return err
	}
	return d.goOn(ctx, now, split.Toward(to, split.Whole))
}

// doneLimit is how long a side has to do what it has, within [front.ChangeLimit].
const (
	doneLimit = 20 * time.Second
	doneAgain = 200 * time.Millisecond
)

// done waits until a side has nothing left to do.
func (d *Driver) done(ctx context.Context, side split.Side) error {
	limited, cancel := context.WithTimeout(ctx, doneLimit)
	defer cancel()
	var r rest
	for {
		left := int64(-1)
		ready, _, err := d.at[side].Now(limited, d.config.Queues[side])
		if err == nil {
			q, errQueue := d.at[side].Queue(limited, d.config.Queues[side])
			if err = errQueue; err == nil {
				left = ready + q.Unacked
				if r.left(asRead(q, ready), time.Now(), d.config.Lag) == 0 {
					return nil
				}
			}
		}
		select {
		case <-limited.Done():
			if ctx.Err() != nil {
				return front.Because(ctx, context.Cause(ctx))
			}
			return fmt.Errorf("%w: order is to be held, and %s is not done with what it has: %d are left, or nobody "+
				"knows", front.ErrRefused, d.config.Queues[side], left)
		case <-time.After(doneAgain):
		}
	}
}

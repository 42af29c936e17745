package told

import (
	"context"
	"fmt"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// Steering puts shares in force at a proxy whose state is read as an S. It is not safe
// for concurrent use: who has one holds a lock from reading to confirming.
type Steering[S any] struct {
	Look  func(context.Context) (S, error)
	Share func(S) (split.Share, error) // on green; it wraps [front.ErrRefused] if nobody gets anything
	Print func(S) string               // the same text as long as the same is in force
	// Work is what puts a share in force, coming from a state. Going home also ends
	// sessions that would stay.
	Work func(s S, share split.Share, home bool) (Work, error)
	Most int // the largest weight of an instance

	revisions front.Revisions
	rest      string // the print of a state in which nobody gets anything because nobody has asked for it yet
}

// Work is a change that can be made.
type Work struct {
	Steps   []string // in words
	Weights split.Weights
	Do      func(context.Context) error // it changes all, or puts back what it changed
}

// Split is what is in force in a state, with its revision.
func (t *Steering[S]) Split(s S) (reading.Split, error) {
	share, err := t.share(s)
	return t.revisions.Split(share, t.Print(s)), err
}

// InForce is what a reading says. Who was told of no instances yet takes a state in which
// nobody gets anything for one in which nobody has asked for anything.
func (t *Steering[S]) InForce(s S, known front.Known) (reading.Split, error) {
	now, err := t.Split(s)
	if err != nil && known[split.Blue] == nil {
		t.rest = t.Print(s)
		return t.Split(s)
	}
	return now, err
}

// share is on green. At rest all are on blue, which has nobody yet.
func (t *Steering[S]) share(s S) (split.Share, error) {
	if t.rest != "" && t.rest == t.Print(s) {
		return 0, nil
	}
	return t.Share(s)
}

// Plan completes what is said of a change with what Set would do.
func (t *Steering[S]) Plan(ctx context.Context, share split.Share, c front.Change) (front.Change, error) {
	s, err := t.Look(ctx)
	if err != nil {
		return front.Change{}, err
	}
	c.Wanted = share
	if c.From, err = t.share(s); err != nil {
		return c, err
	}
	w, err := t.Work(s, share, false)
	if err != nil {
		return c, err
	}
	c.Steps, c.Reached = w.Steps, w.Weights.Reached[split.Green]
	if n := w.Weights.Unused; n > 0 {
		c.Notes = append(c.Notes, fmt.Sprintf("%d instances get no requests: weights from 1 to %d are too coarse for %v", n, t.Most, share))
	}
	return c, nil
}

// Set puts a share in force if the split still has the revision.
func (t *Steering[S]) Set(ctx context.Context, share split.Share, revision uint64) (reading.Split, error) {
	s, err := t.Look(ctx)
	if err != nil {
		return reading.Split{}, err
	}
	now, err := t.Split(s)
	if err != nil {
		return now, err
	}
	if now.Revision != revision {
		return now, fmt.Errorf("%w: it has %v on green", front.ErrChanged, now.Share)
	}
	return t.put(ctx, s, share, false)
}

// Home puts a share in force whatever the split is.
func (t *Steering[S]) Home(ctx context.Context, share split.Share) (reading.Split, error) {
	s, err := t.Look(ctx)
	if err != nil {
		return reading.Split{}, err
	}
	return t.put(ctx, s, share, true)
}

func (t *Steering[S]) put(ctx context.Context, s S, share split.Share, home bool) (reading.Split, error) {
	if !share.Valid() {
		return reading.Split{}, fmt.Errorf("%w: %v is not between 0 %% and 100 %%", front.ErrRefused, share)
	}
	w, err := t.Work(s, share, home)
	if err != nil {
		return reading.Split{}, err
	}
	if err := w.Do(ctx); err != nil {
		return reading.Split{}, err
	}
	after, err := t.Look(ctx)
	if err != nil {
		return reading.Split{}, fmt.Errorf("the share was told but could not be read back: %w", err)
	}
	now, err := t.Split(after)
	if err == nil && now.Share != w.Weights.Reached[split.Green] {
		err = fmt.Errorf("%w: it has %v on green after %v was told", front.ErrChanged, now.Share, share)
	}
	now.Did = w.Steps
	return now, err
}

// Wanted is how a side's new instances are to be weighed.
type Wanted struct {
	Share split.Share
	// Rest says that nobody got anything, and that these are to wait until a share is
	// set: they are weighed, and get nothing.
	Rest bool
	kept bool // the share was in force
}

// ForInstances says how a side's new instances are to be weighed.
func (t *Steering[S]) ForInstances(s S, side split.Side, wanted []reading.Server) (Wanted, error) {
	share, err := t.Share(s)
	w := Wanted{Share: share, kept: err == nil}
	if !w.kept { // nobody gets anything; home is where it begins
		w.Share, w.Rest = split.Toward(side, split.Whole), side != split.Blue
		if len(wanted) == 0 {
			w.Share = split.Toward(side, 0)
		}
	}
	if of := w.Share.Of(side); of > 0 && len(wanted) == 0 {
		return w, fmt.Errorf("%w: %v gets %v of the requests and would have no instance", front.ErrRefused, side, of)
	}
	return w, nil
}

// Told takes in that a side has other instances than in a state from before, as wanted.
func (t *Steering[S]) Told(ctx context.Context, before S, w Wanted) error {
	switch {
	case w.kept:
		return t.Ours(ctx, before)
	case !w.Rest:
		return nil
	}
	after, err := t.Look(ctx)
	if err == nil {
		t.rest = t.Print(after)
	}
	return err
}

// Quiet is an error if a side gets requests in a state.
func (t *Steering[S]) Quiet(s S, side split.Side) error {
	share, err := t.share(s)
	if of := share.Of(side); err == nil && of > 0 {
		err = fmt.Errorf("%w: %v gets %v of the requests", front.ErrRefused, side, of)
	}
	return err
}

// Ours takes what changed since a state for no new split, such as other instances.
func (t *Steering[S]) Ours(ctx context.Context, before S) error {
	after, err := t.Look(ctx)
	if err != nil {
		return err
	}
	t.revisions.Of(t.Print(before))
	t.revisions.Keep(t.Print(after))
	return nil
}

package told

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/world/permit"
)

// Remote puts shares in force at a proxy whose state is read as an S. It is safe for
// concurrent use: one change is made at a time, and going home waits for none.
type Remote[S any] struct {
	Look  func(context.Context) (S, error)
	Share func(S) (split.Share, error) // on green; it wraps [front.ErrRefused] if nobody gets anything
	Print func(S) string               // the same text as long as the same is in force
	Most  int                          // the largest weight of an instance
	// Has is how many instances of a side the proxy could send requests to.
	Has func(S, split.Side) int
	// Work is what puts a share in force, coming from a state. Going home also ends
	// sessions that would stay, and carries its order where the proxy holds that itself.
	Work func(s S, share split.Share, home *reading.Order) (Work, error)
	// Blind is the work of going home where nothing has to be read for it: what is told refuses a
	// side with nobody itself. nil where that cannot be.
	Blind func(front.Homing) Work
	// Order is the last going home, where the proxy holds it itself; a change is then
	// refused by the proxy if another has come meanwhile. Otherwise Mark holds it.
	Order func(S) reading.Order
	// Renew writes down that another term has begun, with what else the last order says, coming from a state: it is
	// refused by a proxy that can compare if it has another one meanwhile. It goes with Order.
	Renew func(context.Context, S, reading.Order) error
	Mark  *front.OrderFile
	// Lock keeps other processes from changing the proxy, where it has a lock of its own; otherwise Mark does, if
	// there is one.
	Lock func(context.Context) (unlock func(), err error)
	// Try is an error if the proxy would not do what it is told, found out without telling it to
	// change anything; nil where that cannot be.
	Try func(context.Context) error

	gate front.Gate

	mu        sync.Mutex // protects what follows
	instances front.Known
	revisions front.Revisions
	rest      string // the print of a state in which nobody gets anything because nobody has asked for it yet
	last      inForce
	// while a side is given other instances: the share that was in force before, and is to be after
	during *split.Share
}

// inForce is a share that was in force, after a going home.
type inForce struct {
	known      bool
	share      split.Share
	generation uint64
}

// Work is a change that can be made.
type Work struct {
	Steps   []string // in words
	Notes   []string // what else to know
	Weights split.Weights
	Do      func(context.Context) error
	Wait    func(context.Context) error // until what was done is in force; nil where it is at once
}

// make does it, and waits until it is in force.
func (w Work) make(ctx context.Context) error {
	err := w.Do(ctx)
	if err == nil {
		err = w.wait(ctx)
	}
	return err
}

func (w Work) wait(ctx context.Context) error {
	if w.Wait == nil {
		return nil
	}
	return w.Wait(ctx)
}

// homeTries is how often going home tells the proxy again what was undone meanwhile.
const homeTries = 3

// ChangeMark is to be had before a state is looked at that [Remote.Known] is asked about.
func (t *Remote[S]) ChangeMark() front.ChangeMark {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.revisions.Mark()
}

// Known tells how a state that was looked at since a glance is read: its split with the revision, and the last going
// home. Who was told of no instances yet takes a state in which nobody gets anything for one in which nobody has
// asked for anything.
func (t *Remote[S]) Known(g front.ChangeMark, s S) (reading.Split, reading.Order, error) {
	now, err := t.split(g, s)
	if err != nil && t.Instances()[split.Blue] == nil {
		t.mu.Lock()
		t.rest = t.Print(s)
		t.mu.Unlock()
		now, err = t.split(g, s)
	}
	o := t.order(s)
	t.mu.Lock()
	switch past := t.revisions.Past(g) && o.Generation <= t.last.generation; {
	case past && t.during != nil:
		now.Share, err = *t.during, nil // what is read is on its way from that to that
	case past && t.last.known:
		now.Share, err = t.last.share, nil // and here it may have been, and is no more
	}
	t.mu.Unlock()
	if err == nil {
		t.saw(now.Share, o)
	}
	return now, o, err
}

// steadyFor is how long it is waited for a word on a change that nobody has explained.
const steadyFor = 200 * time.Millisecond

// Steady is a state to read by: where another share is in force than this process knows of, and no going home says why,
// it looks again a moment later. Somebody may be in the middle of it.
func (t *Remote[S]) Steady(ctx context.Context, s S) (S, error) {
	t.mu.Lock()
	last, changing := t.last, t.during != nil
	t.mu.Unlock()
	share, err := t.share(s)
	if err != nil || !last.known || changing || share == last.share || t.order(s).Generation > last.generation {
		return s, nil
	}
	select {
	case <-ctx.Done():
		return s, context.Cause(ctx)
	case <-time.After(steadyFor):
		return t.Look(ctx)
	}
}

// Instances is what was told of both sides' instances. It is not changed any more.
func (t *Remote[S]) Instances() front.Known {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.instances
}

func (t *Remote[S]) saw(share split.Share, o reading.Order) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.last = inForce{true, share, o.Generation}
}

// Last is the share that was in force when this process last saw one, for a front that has
// forgotten it: whoever went home since then has the last word. It is false if none was seen.
func (t *Remote[S]) Last(s S) (split.Share, bool) {
	o := t.order(s)
	t.mu.Lock()
	defer t.mu.Unlock()
	if o.Generation > t.last.generation {
		return split.Toward(o.Side, split.Whole), true
	}
	return t.last.share, t.last.known
}

// split is what is in force in a state, with its revision.
func (t *Remote[S]) split(g front.ChangeMark, s S) (reading.Split, error) {
	share, err := t.share(s)
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.revisions.Split(g, share, t.Print(s)), err
}

// share is on green. Before the first share was asked for, all are on blue, which has
// nobody yet.
func (t *Remote[S]) share(s S) (split.Share, error) {
	t.mu.Lock()
	rest := t.rest
	t.mu.Unlock()
	if rest != "" && rest == t.Print(s) {
		return 0, nil
	}
	return t.Share(s)
}

// order is the last going home. A mark that cannot be read is as this process knows it.
func (t *Remote[S]) order(s S) reading.Order {
	if t.Order != nil {
		return t.Order(s)
	}
	return t.Mark.Known()
}

// Foresee completes what is said of a change with what Set would do.
func (t *Remote[S]) Foresee(ctx context.Context, share split.Share, c front.Change) (front.Change, error) {
	s, err := t.Look(ctx)
	if err != nil {
		return front.Change{}, err
	}
	c.Wanted = share
	if c.From, err = t.share(s); err != nil {
		return c, err
	}
	w, err := t.Work(s, share, nil)
	if err != nil {
		return c, err
	}
	c.Steps, c.Reached = w.Steps, w.Weights.Reached[split.Green]
	c.Notes = append(c.Notes, w.Notes...)
	if n := w.Weights.Unused; n > 0 {
		c.Notes = append(c.Notes, fmt.Sprintf("%d instances get no requests: weights from 1 to %d are too coarse for "+
			"%v", n, t.Most, share))
	}
	return c, nil
}

// Set puts a share in force if the front still is as expected.
func (t *Remote[S]) Set(ctx context.Context, share split.Share, e front.Expect) (front.Done, error) {
	if !share.Valid() {
		return front.Done{}, fmt.Errorf("%w: %v is not between 0 %% and 100 %%", front.ErrRefused, share)
	}
	changing, through, err := t.Change(ctx)
	if err != nil {
		return front.Done{}, err
	}
	defer through()
	s, err := t.Look(changing)
	if err != nil {
		return front.Done{}, front.Because(changing, err)
	}
	now, err := t.split(t.ChangeMark(), s)
	if err != nil {
		return front.Done{}, err
	}
	if t.Order == nil {
		if _, err := t.Mark.Read(changing); err != nil { // somebody may have gone home
			return front.Done{}, fmt.Errorf("%w: %w", front.ErrRefused, err)
		}
	}
	if err := e.Allows(share, t.order(s)); err != nil {
		return front.Done{}, err
	}
	if now.Revision != e.Revision {
		return front.Done{Split: now}, fmt.Errorf("%w: it has %v on green", front.ErrChanged, now.Share)
	}
	w, err := t.Work(s, share, nil)
	if err != nil {
		return front.Done{}, err
	}
	if err := permit.Ask(changing); err != nil {
		return front.Done{}, front.Because(changing, err)
	}
	errDo := w.Do(changing)
	open := w.open(errDo)
	if errDo == nil {
		errDo = w.wait(changing)
	}
	// What was told is there, whatever came meanwhile. If somebody went home, that has the
	// last word, over this change too.
	looking, cancel := context.WithTimeout(context.WithoutCancel(ctx), front.QuietLimit+2*time.Second)
	defer cancel()
	after, err := t.Look(looking)
	if err == nil {
		o := t.order(after)
		switch err := e.Allows(share, o); {
		case errors.Is(err, front.ErrNewer):
			return front.Done{}, errors.Join(err, t.again(looking, after, o))
		case err != nil:
			return front.Done{}, err
		}
	}
	switch {
	case open && err != nil:
		return front.Done{}, front.Because(changing, fmt.Errorf("%w: whether the share is in force is not known, as it "+
			"cannot be read either (%w)", errDo, err))
	case open: // the answer was lost, and what it was to say is read
		if d, err := t.confirmed(after, w); err == nil {
			return d, nil
		}
		return front.Done{}, front.Because(changing, errDo)
	case errDo != nil:
		return front.Done{}, front.Because(changing, errDo)
	case err != nil:
		return front.Done{}, fmt.Errorf("the share was told but could not be read back: %w", err)
	}
	return t.confirmed(after, w)
}

// lost reports whether an error leaves open what has become of a change: no answer has come.
func lost(err error) bool { return errors.Is(err, front.ErrUnreachable) }

// open reports whether what is in force can say what has become of work whose answer was lost. Where it is not in force
// at once it cannot.
func (w Work) open(err error) bool { return w.Wait == nil && lost(err) }

// lookBack is how long it is looked whether a going home is in force whose answer was lost.
const lookBack = time.Second

// home reports whether a going home is in force whose answer was lost.
func (t *Remote[S]) home(ctx context.Context, w Work) bool {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), lookBack)
	defer cancel()
	s, err := t.Look(ctx)
	if err != nil {
		return false
	}
	share, err := t.share(s)
	return err == nil && share == w.Weights.Reached[split.Green]
}

// again takes home once more what a change of ours took away from there.
func (t *Remote[S]) again(ctx context.Context, s S, o reading.Order) error {
	share := split.Toward(o.Side, split.Whole)
	if now, err := t.share(s); err == nil && now == share {
		return nil
	}
	w, err := t.Work(s, share, &o)
	if err == nil {
		err = w.make(ctx)
	}
	return err
}

// confirmed is what is in force after a change.
func (t *Remote[S]) confirmed(after S, w Work) (front.Done, error) {
	now, err := t.split(t.ChangeMark(), after)
	d := front.Done{Split: now, Nearest: w.Weights.Reached[split.Green], Order: t.order(after), Did: w.Steps}
	if err == nil {
		t.saw(now.Share, d.Order)
	}
	if err == nil && now.Share != d.Nearest {
		err = fmt.Errorf("%w: it has %v on green after %v was told", front.ErrChanged, now.Share, d.Nearest)
	}
	return d, err
}

// Home sends all requests to a side. It acts at once, and writes its order down meanwhile, so that who reads the proxy
// in the middle of it knows why; then it waits for what others may have sent off before, as long as that takes no
// longer than the limit, and acts again where they came after it.
func (t *Remote[S]) Home(ctx context.Context, h front.Homing) (front.Done, error) {
	t.gate.Home()
	t.released()
	at := time.Now()
	w, err := t.homeward(ctx, h, at)
	if err != nil {
		return front.Done{}, err
	}
	var errClosed error
	raised := make(chan struct{})
	go func() {
		defer close(raised)
		if t.Order == nil { // it holds in this process at least; the file is for the others
			_, errClosed = t.Mark.Raise(h, at)
		}
	}()
	err = w.Do(ctx)
	if <-raised; errors.Is(errClosed, front.ErrClosed) { // the file could not be read in time
		return front.Done{}, errors.Join(errClosed, t.undone(ctx, w, t.Mark.Held()))
	}
	if err != nil && !(w.open(err) && t.home(ctx, w)) {
		return front.Done{}, err // it is an order all the same: nothing goes on that was decided before
	}
	if err := w.wait(ctx); err != nil {
		return front.Done{}, err
	}
	quiet, cancel := context.WithTimeout(ctx, front.QuietLimit)
	defer cancel()
	t.gate.Quiet(quiet)
	if unlock, err := t.lock(quiet); err == nil {
		defer unlock()
	}
	for n := 0; ; n++ {
		after, err := t.Look(ctx)
		if err != nil {
			return front.Done{}, fmt.Errorf("all was sent home, but could not be read back: %w", err)
		}
		d, err := t.confirmed(after, w)
		if err == nil || n == homeTries {
			return d, err
		}
		o, errNext := t.next(after, h, at)
		if errNext != nil { // somebody else left that side meanwhile
			return d, errors.Join(err, errNext)
		}
		if err := t.again(ctx, after, o); err != nil {
			return d, err
		}
	}
}

// undone takes back a going home to a side that was found to be closed when it had been told. That is told at once,
// whatever a reading shows: readings may be late. Then both are waited for.
func (t *Remote[S]) undone(ctx context.Context, gone Work, o reading.Order) error {
	s, err := t.Look(ctx)
	if err != nil {
		return err
	}
	w, err := t.Work(s, split.Toward(o.Side, split.Whole), &o)
	if err == nil {
		err = w.Do(ctx)
	}
	if err != nil {
		return err
	}
	seen, cancel := context.WithTimeout(ctx, front.QuietLimit)
	defer cancel()
	_ = gone.wait(seen) // it may have been undone before anybody saw it
	return w.wait(ctx)
}

// homeward is the work of going home.
func (t *Remote[S]) homeward(ctx context.Context, h front.Homing, at time.Time) (Work, error) {
	if t.Blind != nil {
		return t.Blind(h), nil
	}
	s, err := t.ahead(ctx)
	if err != nil {
		return Work{}, err
	}
	if t.Has(s, h.Side) == 0 && t.Has(s, h.Side.Other()) > 0 && !h.Force {
		return Work{}, fmt.Errorf("%w: %v has no instances at the front, and %v has", front.ErrNobody, h.Side,
			h.Side.Other())
	}
	o, err := t.next(s, h, at)
	if err != nil {
		return Work{}, err
	}
	w, err := t.Work(s, split.Toward(h.Side, split.Whole), &o)
	if err != nil && t.Has(s, h.Side) == 0 { // nor has the other one: it has forgotten them
		err = fmt.Errorf("%w: %v has no instances at the front: %w", front.ErrNobody, h.Side, err)
	}
	return w, err
}

// ahead looks at the proxy, and beside that at the file with the order, where that has it.
func (t *Remote[S]) ahead(ctx context.Context) (S, error) {
	if t.Order != nil {
		return t.Look(ctx)
	}
	begun, wait := time.Now(), t.Mark.Ahead(ctx)
	s, err := t.Look(ctx)
	if err == nil {
		wait(time.Since(begun))
	}
	return s, err
}

// Rehearse does everything of going home to a side but telling the proxy.
func (t *Remote[S]) Rehearse(ctx context.Context, side split.Side) ([]wayback.Step, error) {
	var steps front.Steps
	var s S
	err := steps.Do("read what is in force", func() (err error) {
		s, err = t.ahead(ctx)
		return err
	})
	if err == nil && t.Has(s, side) == 0 {
		err = front.Nobody(side)
	}
	if err == nil {
		err = steps.Do("make the change up", func() error {
			o, err := t.next(s, front.Homing{Side: side}, time.Now())
			if err == nil {
				_, err = t.Work(s, split.Toward(side, split.Whole), &o)
			}
			return err
		})
	}
	if err == nil && t.Try != nil {
		err = steps.Do("see whether it may be told", func() error { return t.Try(ctx) })
	}
	if err == nil && (t.Mark != nil || t.Lock != nil) {
		_ = steps.Do("take the lock", func() error { // home does without it
			quiet, cancel := context.WithTimeout(ctx, front.QuietLimit)
			defer cancel()
			unlock, err := t.lock(quiet)
			if err == nil {
				unlock()
			}
			return err
		})
	}
	return steps, err
}

// next is the order that a going home is under.
func (t *Remote[S]) next(s S, h front.Homing, at time.Time) (reading.Order, error) {
	if t.Order != nil {
		return h.Next(t.Order(s), at)
	}
	return h.Next(t.Mark.Held(), at)
}

// NewTerm begins another term.
func (t *Remote[S]) NewTerm(ctx context.Context, after uint64) (uint64, error) {
	changing, through, err := t.Change(ctx)
	if err != nil {
		return 0, err
	}
	defer through()
	if t.Order == nil {
		return t.Mark.NewTerm(changing, after)
	}
	s, err := t.Look(changing)
	if err != nil {
		return 0, front.Because(changing, err)
	}
	o := t.order(s)
	o.Term = max(o.Term, after) + 1
	errDo := t.Renew(changing, s, o)
	if errDo != nil && !lost(errDo) {
		return 0, front.Because(changing, errDo)
	}
	now, err := t.Look(changing)
	if err == nil && errDo != nil && t.order(now).Term != o.Term {
		return 0, front.Because(changing, errDo)
	}
	if err != nil {
		return 0, fmt.Errorf("the term was told but could not be read back: %w", err)
	}
	if got := t.order(now).Term; got < o.Term {
		return 0, fmt.Errorf("%w: it is in term %d after %d was told", front.ErrChanged, got, o.Term)
	}
	return o.Term, nil
}

// lock keeps other processes from changing the front, where it does not see to that itself.
func (t *Remote[S]) lock(ctx context.Context) (func(), error) {
	switch {
	case t.Lock != nil:
		return t.Lock(ctx)
	case t.Mark != nil:
		return t.Mark.Lock(ctx)
	}
	return func() {}, nil
}

// Change waits for its turn to change the front, here and among processes. Somebody who goes
// home ends the context that it returns.
func (t *Remote[S]) Change(ctx context.Context) (changing context.Context, through func(), err error) {
	changing, leave, err := t.gate.Change(ctx)
	if err != nil {
		return nil, nil, err
	}
	unlock, err := t.lock(changing)
	if err != nil {
		leave()
		if !front.Unreachable(err) {
			err = fmt.Errorf("%w: %w", front.ErrRefused, err)
		}
		return nil, nil, front.Because(changing, err)
	}
	return changing, func() {
		unlock()
		leave()
	}, nil
}

// Wanted is how a side's new instances are to be weighed.
type Wanted struct {
	Share split.Share
	// Rest says that nobody got anything, and that these are to wait until a share is
	// set: they are weighed, and get nothing.
	Rest bool
	kept bool // the share was in force
}

// AsItWas says that the share was in force and stays.
var AsItWas = Wanted{kept: true}

// SetInstances gives a side other instances. give tells the proxy, coming from a state: with those that are
// known then, weighed as it is said.
func (t *Remote[S]) SetInstances(ctx context.Context, side split.Side, wanted []reading.Server,
	give func(changing context.Context, s S, known front.Known, as Wanted) error) error {
	changing, through, err := t.Change(ctx)
	if err != nil {
		return err
	}
	defer through()
	s, err := t.Look(changing)
	if err != nil {
		return err
	}
	as, err := t.forInstances(s, side, wanted)
	if err != nil {
		return err
	}
	known := t.Instances()
	known[side] = slices.Clone(wanted)
	if as.kept {
		t.mu.Lock()
		t.revisions.Of(t.Print(s))
		t.revisions.Hold() // who reads in between sees no other split
		t.during = &as.Share
		t.mu.Unlock()
		defer t.released()
	}
	if err := give(changing, s, known, as); err != nil {
		return err
	}
	t.mu.Lock()
	t.instances[side] = known[side]
	t.mu.Unlock()
	return t.Told(ctx, s, as)
}

// released ends a hold of the revision.
func (t *Remote[S]) released() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.revisions.Release()
	t.during = nil
}

// forInstances says how a side's new instances are to be weighed.
func (t *Remote[S]) forInstances(s S, side split.Side, wanted []reading.Server) (Wanted, error) {
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
// Where somebody went home meanwhile, that has the last word.
func (t *Remote[S]) Told(ctx context.Context, before S, w Wanted) error {
	after, err := t.Look(ctx)
	if err != nil {
		return err
	}
	if was, now := t.order(before), t.order(after); now.Generation > was.Generation {
		return t.again(ctx, after, now)
	}
	_, err = t.Share(after) // not under the lock: it may ask who is there
	t.mu.Lock()
	defer t.mu.Unlock()
	switch {
	case w.kept:
		t.revisions.Of(t.Print(before))
		t.revisions.Keep(t.Print(after))
	case w.Rest && err != nil: // nobody gets anything indeed
		t.rest = t.Print(after)
	}
	return nil
}

// Quiet is an error if a side gets requests in a state.
func (t *Remote[S]) Quiet(s S, side split.Side) error {
	share, err := t.share(s)
	if err != nil {
		return err
	}
	return front.Quiet(side, share.Of(side))
}

package several

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
)

// Member is one of the fronts.
type Member struct {
	Name   string
	Driver front.Driver
}

// Front is all members as one. It is safe for concurrent use.
type Front struct {
	members []Member
	gate    front.Gate

	mu        sync.Mutex // protects what follows
	revisions front.Revisions
	last      []*reading.Front // by member: what it was read to have last
	hung      []bool           // by member: it did not answer in time when it was asked last
}

// New makes one front of several.
func New(members []Member) *Front {
	return &Front{members: members, last: make([]*reading.Front, len(members)), hung: make([]bool, len(members))}
}

// each does something with all members at once.
func (f *Front) each(do func(n int, m Member) error) []error {
	failed := make([]error, len(f.members))
	var wait sync.WaitGroup
	for n, m := range f.members {
		wait.Go(func() {
			if err := do(n, m); err != nil {
				failed[n] = fmt.Errorf("%s: %w", m.Name, err)
			}
		})
	}
	wait.Wait()
	return failed
}

// HomeWays are those of all members.
func (f *Front) HomeWays() (all front.HomeWays, err error) {
	for _, m := range f.members {
		s, ok := front.Can[front.Shareable](m.Driver)
		if !ok {
			return all, fmt.Errorf("%s is steered by the keeper's own user alone", m.Name)
		}
		ways, err := s.HomeWays()
		if err != nil {
			return all, fmt.Errorf("%s: %w", m.Name, err)
		}
		all.Sockets, all.Files = append(all.Sockets, ways.Sockets...), append(all.Files, ways.Files...)
	}
	return all, nil
}

func (f *Front) readings(ctx context.Context) ([]reading.Front, error) {
	list := make([]reading.Front, len(f.members))
	failed := f.each(func(n int, m Member) (err error) {
		list[n], err = m.Driver.Read(ctx)
		return err
	})
	return list, errors.Join(failed...)
}

// known are the readings of all members. One that cannot be read now stands as it was read last, and is named; one that
// has hung does not hold up the others for all of the time that there is.
func (f *Front) known(ctx context.Context) ([]reading.Front, []reading.Unread, error) {
	list := make([]reading.Front, len(f.members))
	failed := f.each(func(n int, m Member) (err error) {
		asking := ctx
		f.mu.Lock()
		hung := f.hung[n]
		f.mu.Unlock()
		if end, bounded := ctx.Deadline(); hung && bounded {
			limited, cancel := context.WithTimeout(ctx, time.Until(end)/2)
			defer cancel()
			asking = limited
		}
		list[n], err = m.Driver.Read(asking)
		f.mu.Lock()
		defer f.mu.Unlock()
		if f.hung[n] = err != nil && asking.Err() != nil; err == nil {
			f.last[n] = &list[n]
		}
		return err
	})
	f.mu.Lock()
	defer f.mu.Unlock()
	var unread []reading.Unread
	for n, err := range failed {
		if err == nil {
			continue
		}
		if f.last[n] == nil {
			return nil, nil, errors.Join(failed...)
		}
		list[n] = *f.last[n]
		unread = append(unread, reading.Unread{Front: f.members[n].Name, Said: errors.Unwrap(err).Error()})
	}
	if len(unread) == len(list) {
		return nil, nil, errors.Join(failed...)
	}
	return list, unread, nil
}

// print is all members' revisions as a text.
func print(list []reading.Front) string {
	var b strings.Builder
	for _, r := range list {
		fmt.Fprintln(&b, r.Split.Revision)
	}
	return b.String()
}

// as is the revision of all members' revisions.
func (f *Front) as(list []reading.Front) uint64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.revisions.Of(print(list))
}

// Read is what the first has in force, and what all have counted. Those that have another share are named, and those
// that cannot be read; it is an error if none can, or one of them never could.
func (f *Front) Read(ctx context.Context) (reading.Front, error) {
	list, unread, err := f.known(ctx)
	if err != nil {
		return reading.Front{}, err
	}
	r := f.merge(list)
	if r.Unread = unread; len(unread) > 0 {
		r.Notice = r.Whole().Error()
	}
	return r, nil
}

// order is the last going home of all: its generation is the sum of theirs, which grows
// with every going home at any of them, and its term the latest of theirs.
func order(list []reading.Front) reading.Order {
	var o reading.Order
	sum, term := uint64(0), uint64(0)
	for _, r := range list {
		sum += r.Order.Generation
		term = max(term, r.Order.Term)
		if r.Order.Generation > 0 && !r.Order.At.Before(o.At) {
			o = r.Order
		}
	}
	o.Generation, o.Term = sum, term
	for _, r := range list { // of one that could not be reached when the side was left, the last order may be another
		o.Closed = o.Closed || r.Order.Closes(o.Side.Other())
	}
	return o
}

func (f *Front) merge(list []reading.Front) reading.Front {
	r := list[0]
	r.Order = order(list)
	r.Logs = nil
	for n, other := range list {
		m := f.members[n]
		for _, l := range other.Logs {
			l.Front = m.Name
			r.Logs = append(r.Logs, l)
		}
		switch {
		// each is as near to what was asked as it can
		case !other.Split.Share.Near(r.Split.Share) || !r.Split.Share.Near(other.Split.Share):
			r.Apart = append(r.Apart, reading.Apart{Front: m.Name, Share: other.Split.Share})
			r.Notice = fmt.Sprintf("%s has %v on green, %s has %v", m.Name, other.Split.Share, f.members[0].Name,
				r.Split.Share)
		case r.Notice == "" && other.Notice != "":
			r.Notice = m.Name + ": " + other.Notice
		}
		if other.Blind != "" && (n == 0 || r.Blind == "") {
			r.Blind = m.Name + ": " + other.Blind
		}
		if other.Split.Since.After(r.Split.Since) {
			r.Split.Since = other.Split.Since
		}
		r.Remembers = max(r.Remembers, other.Remembers)
		if other.Everywhere.After(r.Everywhere) {
			r.Everywhere = other.Everywhere
		}
		if other.Eased.After(r.Eased) {
			r.Eased = other.Eased
		}
		if n == 0 {
			continue
		}
		r.Sessions = r.Sessions || other.Sessions
		r.Forgot = r.Forgot || other.Forgot
		r.Own += other.Own
		r.Tells = r.Tells.And(other.Tells)
		r.Tells.Clients = false // one that comes to several of them would count as several
		for _, side := range split.Sides {
			r.Sides[side] = sum(r.Sides[side], other.Sides[side])
		}
	}
	r.Split.Revision = f.as(list)
	return r
}

// sum adds one front's figures of a side to another's.
func sum(a, b reading.Side) reading.Side {
	s := reading.Side{Open: a.Open + b.Open, Lost: a.Lost + b.Lost, Kept: a.Kept + b.Kept,
		Instances: append([]reading.Count{}, a.Instances...)}
	for _, c := range b.Instances {
		found := false
		for n := range s.Instances {
			i := &s.Instances[n]
			if i.Address != c.Address {
				continue
			}
			found = true
			i.Untold = i.Untold || c.Untold
			i.Open, i.Requests, i.Failures = i.Open+c.Open, i.Requests+c.Requests, i.Failures+c.Failures
			i.Left, i.Waiting = i.Left+c.Left, added(i.Waiting, c.Waiting)
			i.Cut, i.Probes, i.Took = i.Cut+c.Cut, i.Probes+c.Probes, i.Took+c.Took
			for class := range i.Status {
				i.Status[class] += c.Status[class]
			}
			i.Latency = merged(*i, c)
			break
		}
		if !found {
			s.Instances = append(s.Instances, c)
		}
	}
	return s
}

// added are the waiting requests of both, as far as they are told.
func added(a, b []int64) []int64 {
	sum := slices.Clone(a)
	for n, waiting := range b {
		if n < len(sum) {
			sum[n] += waiting
		} else {
			sum = append(sum, waiting)
		}
	}
	return sum
}

// merged are the latencies of both; one that cannot be read is left out.
func merged(a, b reading.Count) []byte {
	x, errX := a.Histogram()
	y, errY := b.Histogram()
	if errX != nil || errY != nil || x.TotalCount()+y.TotalCount() == 0 {
		return a.Latency
	}
	x.Merge(y)
	return reading.Encode(x)
}

// Doors are the spare side's own doors of all.
func (f *Front) Doors(ctx context.Context) ([]front.Spare, error) {
	doors := make([]front.Spare, len(f.members))
	failed := f.each(func(n int, m Member) error {
		of, err := front.Doors(ctx, m.Driver)
		if len(of) > 0 {
			doors[n] = of[0]
		}
		return err
	})
	return doors, errors.Join(failed...)
}

// Reach is whether all reach an address.
func (f *Front) Reach(ctx context.Context, address string) error {
	return errors.Join(f.each(func(_ int, m Member) error { return front.Reach(ctx, m.Driver, address) })...)
}

// Foresee is what all would do, in order.
func (f *Front) Foresee(ctx context.Context, share split.Share) (front.Change, error) {
	var all front.Change
	for n, m := range f.members {
		c, err := m.Driver.Foresee(ctx, share)
		if err != nil {
			return all, fmt.Errorf("%s: %w", m.Name, err)
		}
		if n == 0 {
			all = front.Change{From: c.From, Wanted: share, Reached: c.Reached}
		}
		if d := (front.Change{Wanted: share, Reached: c.Reached}); d.Error() > all.Error() {
			all.Reached = c.Reached
		}
		all.Usually += c.Usually
		for _, step := range c.Steps {
			all.Steps = append(all.Steps, m.Name+": "+step)
		}
		for _, note := range c.Notes {
			all.Notes = append(all.Notes, m.Name+": "+note)
		}
		if !strings.Contains(all.Connections, c.Connections) {
			all.Connections = strings.TrimPrefix(all.Connections+"; "+m.Name+": "+c.Connections, "; ")
		}
	}
	return all, nil
}

// Set sets all in order, or puts those back that were set: then the error names the one
// that did not follow. Where somebody has gone home meanwhile, at any of them, all go home.
func (f *Front) Set(ctx context.Context, share split.Share, e front.Expect) (front.Done, error) {
	changing, through, err := f.gate.Change(ctx)
	if err != nil {
		return front.Done{}, err
	}
	defer through()
	before, err := f.readings(changing)
	if err != nil {
		return front.Done{}, front.Because(changing, err)
	}
	if err := e.Allows(share, order(before)); err != nil {
		return front.Done{}, err
	}
	if now := f.as(before); now != e.Revision {
		return front.Done{Split: reading.Split{Revision: now, Share: before[0].Split.Share}},
			fmt.Errorf("%w: %s has %v on green", front.ErrChanged, f.members[0].Name, before[0].Split.Share)
	}
	var done []front.Done
	for n, m := range f.members {
		d, err := m.Driver.Set(changing, share, front.AsRead(before[n]))
		if err == nil {
			done = append(done, d)
			continue
		}
		err = fmt.Errorf("%s did not follow: %w", m.Name, front.Because(changing, err))
		back, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		if errors.Is(err, front.ErrNewer) {
			return front.Done{}, errors.Join(err, f.follow(back))
		}
		for k := n - 1; k >= 0; k-- {
			e := front.AsRead(before[k])
			e.Revision = done[k].Revision
			if _, errBack := f.members[k].Driver.Set(back, before[k].Split.Share, e); errBack != nil {
				err = errors.Join(err, fmt.Errorf("and %s could not be put back to %v: %w", f.members[k].Name,
					before[k].Split.Share, errBack))
			}
		}
		return front.Done{}, err
	}
	looking, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	d, err := f.confirmed(looking, done)
	if err == nil {
		err = e.Allows(share, d.Order)
	}
	if errors.Is(err, front.ErrNewer) {
		return front.Done{}, errors.Join(err, f.follow(looking))
	}
	if err == nil && len(d.apart) > 0 {
		err = fmt.Errorf("%w: %s has %v on green after %v was told", front.ErrChanged, d.apart[0].Front,
			d.apart[0].Share, share)
	}
	if err == nil && d.Share != d.Nearest {
		err = fmt.Errorf("%w: %s has %v on green after %v was told", front.ErrChanged, f.members[0].Name, d.Share,
			share)
	}
	return d.Done, err
}

// NewTerm begins another term at all.
func (f *Front) NewTerm(ctx context.Context, after uint64) (uint64, error) {
	terms := make([]uint64, len(f.members))
	failed := f.each(func(n int, m Member) (err error) {
		terms[n], err = m.Driver.NewTerm(ctx, after)
		return err
	})
	return slices.Max(terms), errors.Join(failed...)
}

// follow takes all members home to where somebody went at one of them.
func (f *Front) follow(ctx context.Context) error {
	list, err := f.readings(ctx)
	if err != nil {
		return err
	}
	o := order(list)
	failed := f.each(func(n int, m Member) error {
		if list[n].Split.Share == split.Toward(o.Side, split.Whole) {
			return nil
		}
		_, err := m.Driver.Home(ctx, front.Homing{Side: o.Side, By: o.By, Why: o.Why, Close: o.Closed})
		return err
	})
	return errors.Join(failed...)
}

// confirmed is what all have now.
type confirmed struct {
	front.Done
	apart []reading.Apart
}

func (f *Front) confirmed(ctx context.Context, done []front.Done) (confirmed, error) {
	after, err := f.readings(ctx)
	if err != nil {
		return confirmed{}, err
	}
	r := f.merge(after)
	c := confirmed{Done: front.Done{Split: r.Split, Nearest: done[0].Nearest, Order: r.Order}}
	for n, d := range done {
		if after[n].Split.Share != d.Nearest {
			c.apart = append(c.apart, reading.Apart{Front: f.members[n].Name, Share: after[n].Split.Share})
		}
		if d.Everywhere.After(c.Everywhere) {
			c.Everywhere = d.Everywhere
		}
		for _, step := range d.Did {
			c.Did = append(c.Did, f.members[n].Name+": "+step)
		}
	}
	return c, nil
}

// Home takes all home at the same time: one that does not answer holds up no other. It is
// done when every member is, as read back.
func (f *Front) Home(ctx context.Context, h front.Homing) (front.Done, error) {
	f.gate.Home()
	done := make([]front.Done, len(f.members))
	failed := f.each(func(n int, m Member) (err error) {
		done[n], err = m.Driver.Home(ctx, h)
		return err
	})
	if err := errors.Join(failed...); err != nil {
		return front.Done{}, err
	}
	// A change of this process that was under way may have reached a member after.
	quiet, cancel := context.WithTimeout(ctx, front.QuietLimit)
	defer cancel()
	f.gate.Quiet(quiet)
	c, err := f.confirmed(ctx, done)
	if err == nil && len(c.apart) > 0 {
		err = fmt.Errorf("%w: %s has %v on green after going home", front.ErrChanged, c.apart[0].Front,
			c.apart[0].Share)
	}
	return c.Done, err
}

// Rehearse rehearses all at the same time. One that would not go home outweighs those that were
// not reached.
func (f *Front) Rehearse(ctx context.Context, side split.Side) ([]wayback.Step, error) {
	steps := make([][]wayback.Step, len(f.members))
	failed := f.each(func(n int, m Member) (err error) {
		steps[n], err = m.Driver.Rehearse(ctx, side)
		for i := range steps[n] {
			steps[n][i].Front = m.Name
		}
		return err
	})
	refused := slices.DeleteFunc(slices.Clone(failed),
		func(err error) bool { return front.Unreachable(err) })
	if err := errors.Join(refused...); err != nil {
		failed = refused
	}
	return slices.Concat(steps...), errors.Join(failed...)
}

// SetInstances gives all the same instances.
func (f *Front) SetInstances(ctx context.Context, side split.Side, wanted []reading.Server) error {
	changing, through, err := f.gate.Change(ctx)
	if err != nil {
		return err
	}
	defer through()
	before, errBefore := f.readings(changing)
	failed := f.each(func(_ int, m Member) error { return m.Driver.SetInstances(changing, side, wanted) })
	if errBefore == nil {
		f.as(before)
		after, err := f.readings(changing)
		same := err == nil
		for n := range after {
			same = same && after[n].Split.Share == before[n].Split.Share
		}
		if same {
			f.mu.Lock()
			f.revisions.Keep(print(after))
			f.mu.Unlock()
		}
	}
	return errors.Join(failed...)
}

// Drain gives a side up at all, and adds up what they still answer.
func (f *Front) Drain(ctx context.Context, side split.Side) (front.Left, error) {
	left := make([]front.Left, len(f.members))
	failed := f.each(func(n int, m Member) (err error) {
		left[n], err = front.Drain(ctx, m.Driver, side)
		return err
	})
	var total front.Left
	for _, l := range left {
		total.Open += l.Open
		total.Waits += l.Waits
		total.Taken += l.Taken
		if l.Until.After(total.Until) {
			total.Until = l.Until
		}
	}
	return total, errors.Join(failed...)
}

// Run does what the members have to do.
func (f *Front) Run(ctx context.Context) {
	_ = f.each(func(_ int, m Member) error {
		front.Run(ctx, m.Driver)
		return nil
	})
}

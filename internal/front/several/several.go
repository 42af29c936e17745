package several

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
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

	mu        sync.Mutex // held while members are changed, and protects revisions
	revisions front.Revisions
}

// New makes one front of several.
func New(members []Member) *Front { return &Front{members: members} }

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

func (f *Front) readings(ctx context.Context) ([]reading.Front, error) {
	list := make([]reading.Front, len(f.members))
	failed := f.each(func(n int, m Member) (err error) {
		list[n], err = m.Driver.Read(ctx)
		return err
	})
	return list, errors.Join(failed...)
}

// as is the revision of all members' revisions.
func (f *Front) as(list []reading.Front) uint64 {
	var b strings.Builder
	for _, r := range list {
		fmt.Fprintln(&b, r.Split.Revision)
	}
	return f.revisions.Of(b.String())
}

// Read is what the first has in force, and what all have counted. Where they differ,
// the notice names the one that does.
func (f *Front) Read(ctx context.Context) (reading.Front, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	list, err := f.readings(ctx)
	if err != nil {
		return reading.Front{}, err
	}
	return f.merge(list), nil
}

func (f *Front) merge(list []reading.Front) reading.Front {
	r := list[0]
	for n, other := range list {
		m := f.members[n]
		switch {
		case other.Split.Share != r.Split.Share:
			r.Notice = fmt.Sprintf("%s has %v on green, %s has %v", m.Name, other.Split.Share, f.members[0].Name, r.Split.Share)
		case r.Notice == "" && other.Notice != "":
			r.Notice = m.Name + ": " + other.Notice
		}
		if other.Split.Since.After(r.Split.Since) {
			r.Split.Since = other.Split.Since
		}
		if n == 0 {
			continue
		}
		for _, side := range split.Sides {
			r.Sides[side] = sum(r.Sides[side], other.Sides[side])
		}
	}
	r.Split.Revision = f.as(list)
	return r
}

// sum adds one front's figures of a side to another's.
func sum(a, b reading.Side) reading.Side {
	s := reading.Side{Draining: a.Draining && b.Draining, Open: a.Open + b.Open, Lost: a.Lost + b.Lost, Instances: append([]reading.Count{}, a.Instances...)}
	for _, c := range b.Instances {
		found := false
		for n := range s.Instances {
			i := &s.Instances[n]
			if i.Address != c.Address {
				continue
			}
			found = true
			i.Open, i.Requests, i.Failures = i.Open+c.Open, i.Requests+c.Requests, i.Failures+c.Failures
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

// Plan is what all would do, in order.
func (f *Front) Plan(ctx context.Context, share split.Share) (front.Change, error) {
	var all front.Change
	for n, m := range f.members {
		c, err := m.Driver.Plan(ctx, share)
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
// that did not follow.
func (f *Front) Set(ctx context.Context, share split.Share, revision uint64) (reading.Split, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	before, err := f.readings(ctx)
	if err != nil {
		return reading.Split{}, err
	}
	if now := f.as(before); now != revision {
		return reading.Split{Revision: now, Share: before[0].Split.Share}, fmt.Errorf("%w: %s has %v on green", front.ErrChanged, f.members[0].Name, before[0].Split.Share)
	}
	var done []reading.Split
	for n, m := range f.members {
		s, err := m.Driver.Set(ctx, share, before[n].Split.Revision)
		if err == nil {
			done = append(done, s)
			continue
		}
		err = fmt.Errorf("%s did not follow: %w", m.Name, err)
		back, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		for k := n - 1; k >= 0; k-- {
			if _, errBack := f.members[k].Driver.Set(back, before[k].Split.Share, done[k].Revision); errBack != nil {
				err = errors.Join(err, fmt.Errorf("and %s could not be put back to %v: %w", f.members[k].Name, before[k].Split.Share, errBack))
			}
		}
		return reading.Split{}, err
	}
	return f.confirmed(ctx, done)
}

// confirmed is the split that all have now.
func (f *Front) confirmed(ctx context.Context, done []reading.Split) (reading.Split, error) {
	after, err := f.readings(ctx)
	if err != nil {
		return reading.Split{}, err
	}
	r := f.merge(after)
	for n, s := range done {
		for _, step := range s.Did {
			r.Split.Did = append(r.Split.Did, f.members[n].Name+": "+step)
		}
	}
	return r.Split, nil
}

// Home takes all home at once. Those that answer are home even if another is not.
func (f *Front) Home(ctx context.Context, share split.Share) (reading.Split, error) {
	done := make([]reading.Split, len(f.members))
	failed := f.each(func(n int, m Member) (err error) {
		done[n], err = m.Driver.Home(ctx, share)
		return err
	})
	if err := errors.Join(failed...); err != nil {
		return reading.Split{}, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	s, err := f.confirmed(ctx, done)
	if err != nil { // they said so themselves
		s = reading.Split{Share: done[0].Share, Since: done[0].Since}
	}
	return s, nil
}

// SetInstances gives all the same instances.
func (f *Front) SetInstances(ctx context.Context, side split.Side, wanted []reading.Server) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	before, errBefore := f.readings(ctx)
	failed := f.each(func(_ int, m Member) error { return m.Driver.SetInstances(ctx, side, wanted) })
	if errBefore == nil {
		f.as(before)
		if after, err := f.readings(ctx); err == nil {
			same := true
			for n := range after {
				same = same && after[n].Split.Share == before[n].Split.Share
			}
			if same {
				var b strings.Builder
				for _, r := range after {
					fmt.Fprintln(&b, r.Split.Revision)
				}
				f.revisions.Keep(b.String())
			}
		}
	}
	return errors.Join(failed...)
}

// Drain gives a side up at all, and adds up what they still answer.
func (f *Front) Drain(ctx context.Context, side split.Side) (int64, error) {
	open := make([]int64, len(f.members))
	failed := f.each(func(n int, m Member) (err error) {
		open[n], err = m.Driver.Drain(ctx, side)
		return err
	})
	total := int64(0)
	for _, n := range open {
		total += n
	}
	return total, errors.Join(failed...)
}

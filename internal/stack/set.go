package stack

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
)

// Set is all parts of a service: for each part, the driver of each side, in the
// order of the plan.
type Set struct {
	plan    *plan.Plan
	secrets secret.Values
	drivers [][2]Driver
	outputs [2]outputs
}

// outputs is what instances of a side had printed when they were last listed, and what is shown of it: most print
// nothing in a second, and to look for secrets in it again is the most of what a keeper has to do at rest.
type outputs struct {
	mu    sync.Mutex // protects what follows
	shown map[string][]string
}

// NewSet puts drivers together, one pair for each part of the plan. Secrets are taken
// out of what instances print.
func NewSet(p *plan.Plan, secrets secret.Values, drivers [][2]Driver) *Set {
	return &Set{plan: p, secrets: secrets, drivers: drivers}
}

// Raise raises every part of a side, each from its build.
func (s *Set) Raise(ctx context.Context, side split.Side, builds map[string]Build) error {
	_, err := each(ctx, s, side, func(ctx context.Context, n int, d Driver) (struct{}, error) {
		b, ok := builds[s.plan.Parts[n].Name]
		if !ok {
			return struct{}{}, errors.New("no version was chosen")
		}
		return struct{}{}, d.Raise(ctx, side, b)
	})
	return err
}

// List is every instance of a side, part by part. What could be read in time is there
// beside an error.
func (s *Set) List(ctx context.Context, side split.Side) ([]reading.Instance, error) {
	lists, err := each(ctx, s, side, func(ctx context.Context, _ int, d Driver) ([]reading.Instance, error) {
		return d.List(ctx, side)
	})
	all := slices.Concat(lists...)
	o := &s.outputs[side]
	o.mu.Lock()
	defer o.mu.Unlock()
	shown := make(map[string][]string, len(all))
	for n := range all {
		all[n].Exit = s.secrets.Hide(all[n].Exit)
		text := strings.Join(all[n].Output, "\n")
		lines, known := o.shown[text]
		if !known {
			lines = s.said(text)
		}
		shown[text], all[n].Output = lines, slices.Clone(lines)
	}
	o.shown = shown
	return all, err
}

// outputLines is how many of the last lines of its output an instance carries.
const outputLines = 12

// said is the end of an instance's output without secrets, which may go over several lines
// and be cut at the beginning.
func (s *Set) said(output string) []string {
	hidden := Lines([]byte(s.secrets.HideCut(output)))
	return hidden[max(0, len(hidden)-outputLines):]
}

// Stop stops every part of a side.
func (s *Set) Stop(ctx context.Context, side split.Side) error {
	_, err := each(ctx, s, side, func(ctx context.Context, _ int, d Driver) (struct{}, error) {
		return struct{}{}, d.Stop(ctx, side)
	})
	return err
}

// Restart starts an instance again that has ended; see [Restarter].
func (s *Set) Restart(ctx context.Context, i reading.Instance, a Again) (Restarted, error) {
	d, err := s.of(i)
	if err != nil {
		return Restarted{}, err
	}
	r, ok := d.(Restarter)
	if !ok {
		return Restarted{}, fmt.Errorf("%w: %s", ErrNoRestart, i.Name)
	}
	changed, err := inTime(ctx, func(ctx context.Context) (Restarted, error) { return r.Restart(ctx, i, a) })
	return changed, s.secrets.Error(err)
}

// Rotate puts output of a side aside that has become too large.
func (s *Set) Rotate(ctx context.Context, side split.Side) error {
	_, err := each(ctx, s, side, func(ctx context.Context, _ int, d Driver) (struct{}, error) {
		if r, ok := d.(Rotator); ok {
			return struct{}{}, r.Rotate(ctx, side)
		}
		return struct{}{}, nil
	})
	return err
}

// each does something for all parts at once, for as long as the context lasts, and names
// those that failed.
func each[T any](ctx context.Context, s *Set, side split.Side,
	do func(ctx context.Context, n int, d Driver) (T, error)) ([]T, error) {
	values := make([]T, len(s.drivers))
	failed := make([]error, len(s.drivers))
	var wait sync.WaitGroup
	for n, pair := range s.drivers {
		wait.Go(func() {
			var err error
			values[n], err = inTime(ctx, func(ctx context.Context) (T, error) { return do(ctx, n, pair[side]) })
			if err != nil && len(s.drivers) > 1 {
				err = fmt.Errorf("%s: %w", s.plan.Parts[n].Name, err)
			}
			failed[n] = s.secrets.Error(err)
		})
	}
	wait.Wait()
	return values, errors.Join(failed...)
}

// Place is where an instance stands.
func (s *Set) Place(ctx context.Context, i reading.Instance) (place.Place, error) {
	d, err := s.of(i)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, PlaceLimit)
	defer cancel()
	return inTime(ctx, func(ctx context.Context) (place.Place, error) { return d.Place(ctx, i) })
}

// From is where connections to an instance are made from: this machine, if its driver knows of nothing else.
func (s *Set) From(i reading.Instance) place.Place {
	if d, err := s.of(i); err == nil {
		if r, ok := d.(Reacher); ok {
			return r.From(i.Side)
		}
	}
	return place.Local{}
}

// Describe says what an instance runs with.
func (s *Set) Describe(ctx context.Context, i reading.Instance) (Description, error) {
	d, err := s.of(i)
	if err != nil {
		return Description{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, 2*ReadLimit)
	defer cancel()
	return inTime(ctx, func(ctx context.Context) (Description, error) { return d.Describe(ctx, i) })
}

func (s *Set) of(i reading.Instance) (Driver, error) {
	for n, part := range s.plan.Parts {
		if part.Name == i.Part {
			return s.drivers[n][i.Side], nil
		}
	}
	return nil, fmt.Errorf("the plan has no part %q", i.Part)
}

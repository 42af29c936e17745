package stack

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/place"
	"vaiven/internal/plan"
	"vaiven/internal/secret"
)

// Set is all parts of a service: for each part, the driver of each side, in the
// order of the plan.
type Set struct {
	plan    *plan.Plan
	secrets secret.Values
	drivers [][2]Driver
}

// NewSet puts drivers together, one pair for each part of the plan. Secrets are taken
// out of what instances print.
func NewSet(p *plan.Plan, secrets secret.Values, drivers [][2]Driver) *Set {
	return &Set{plan: p, secrets: secrets, drivers: drivers}
}

// Raise raises every part of a side, each from its build.
func (s *Set) Raise(ctx context.Context, side split.Side, builds map[string]Build) error {
	return s.each(side, func(n int, d Driver) error {
		b, ok := builds[s.plan.Parts[n].Name]
		if !ok {
			return errors.New("no version was chosen")
		}
		return d.Raise(ctx, side, b)
	})
}

// List is every instance of a side, part by part.
func (s *Set) List(ctx context.Context, side split.Side) ([]reading.Instance, error) {
	lists := make([][]reading.Instance, len(s.drivers))
	err := s.each(side, func(n int, d Driver) (err error) {
		lists[n], err = d.List(ctx, side)
		return err
	})
	all := slices.Concat(lists...)
	for n := range all {
		all[n].Exit = s.secrets.Hide(all[n].Exit)
		for k, line := range all[n].Output {
			all[n].Output[k] = s.secrets.Hide(line)
		}
	}
	return all, err
}

// Stop stops every part of a side.
func (s *Set) Stop(ctx context.Context, side split.Side) error {
	return s.each(side, func(_ int, d Driver) error { return d.Stop(ctx, side) })
}

// each does something for all parts at once and names those that failed.
func (s *Set) each(side split.Side, do func(n int, d Driver) error) error {
	failed := make([]error, len(s.drivers))
	var wait sync.WaitGroup
	for n, pair := range s.drivers {
		wait.Go(func() {
			if err := do(n, pair[side]); err != nil {
				failed[n] = err
				if len(s.drivers) > 1 {
					failed[n] = fmt.Errorf("%s: %w", s.plan.Parts[n].Name, err)
				}
			}
		})
	}
	wait.Wait()
	return errors.Join(failed...)
}

// Place is where an instance stands.
func (s *Set) Place(ctx context.Context, i reading.Instance) (place.Place, error) {
	d, err := s.of(i)
	if err != nil {
		return nil, err
	}
	return d.Place(ctx, i)
}

// Describe says what an instance runs with.
func (s *Set) Describe(ctx context.Context, i reading.Instance) (Description, error) {
	d, err := s.of(i)
	if err != nil {
		return Description{}, err
	}
	return d.Describe(ctx, i)
}

func (s *Set) of(i reading.Instance) (Driver, error) {
	for n, part := range s.plan.Parts {
		if part.Name == i.Part {
			return s.drivers[n][i.Side], nil
		}
	}
	return nil, fmt.Errorf("the plan has no part %q", i.Part)
}

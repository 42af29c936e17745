package headless

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vaiven/internal/check"
	"vaiven/internal/core/crossing"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/plan"
	"vaiven/internal/prove"
	"vaiven/internal/secret"
	"vaiven/internal/versions"
)

// Spare is the spare side of a service, for what is done to it outside of a
// crossing.
type Spare struct {
	Plan    *plan.Plan
	Secrets secret.Values
	Front   keeper.Front
	Stacks  keeper.Stacks
	Sources map[string]versions.Source
}

// Side is which side is the spare one now, as the front says.
func (s Spare) Side(ctx context.Context) (split.Side, error) {
	r, err := s.Front.Read(ctx)
	if err != nil {
		return 0, err
	}
	live, err := keeper.Live(r.Split.Share)
	return live.Other(), err
}

// Free reports, as an error, that a crossing is under way and the spare side is
// part of it.
func Free(ctx context.Context, book keeper.Book) error {
	number, err := book.Last(ctx)
	if err != nil || number == 0 {
		return err
	}
	state, err := book.Replay(ctx, number)
	if err != nil {
		return err
	}
	if state.Stage.UnderWay() {
		return fmt.Errorf("%w: crossing %d is at %q, and both sides are part of it", crossing.ErrNotNow, number, state.Stage)
	}
	return nil
}

// Raising is what Raise is asked for.
type Raising struct {
	Version   string
	Versions  map[string]string // of other parts than the first
	SameBuild bool              // also what the live side runs already
}

// ErrNotHealthy is wrapped when a side was raised and is not up.
var ErrNotHealthy = errors.New("not healthy")

// Raise stands the spare side up at a version and waits until every instance is
// healthy. What failed is left standing to be looked at; a second Raise completes or
// replaces it. told is given the instances as they are, again and again.
func (s Spare) Raise(ctx context.Context, r Raising, told func([]reading.Condition)) (split.Side, []crossing.Choice, error) {
	side, err := s.Side(ctx)
	if err != nil {
		return 0, nil, err
	}
	choices, err := keeper.Choose(ctx, s.Plan, s.Sources, r.Version, r.Versions)
	if err != nil {
		return side, nil, err
	}
	live, err := s.Stacks.List(ctx, side.Other())
	if err != nil {
		return side, nil, err
	}
	if nothingNew(choices, live) && !r.SameBuild {
		return side, nil, fmt.Errorf("%w: %s has the same build as %v now (%s): nothing has changed (--same-build raises it all the same)",
			crossing.ErrNotNow, r.Version, side.Other(), versions.Short(choices[0].Build))
	}
	limited, cancel := context.WithTimeout(ctx, s.Plan.RaiseLimit(side))
	defer cancel()
	if err := s.Stacks.Raise(limited, side, keeper.Builds(choices)); err != nil {
		return side, choices, fmt.Errorf("%w: %w", ErrNotHealthy, err)
	}
	return side, choices, s.await(ctx, limited, side, choices, told)
}

// await reads the side's health until it is up or is not going to be.
func (s Spare) await(ctx, limited context.Context, side split.Side, choices []crossing.Choice, told func([]reading.Condition)) error {
	monitor := check.NewMonitor(s.Plan, s.Secrets)
	for {
		instances, err := s.Stacks.List(ctx, side)
		if err != nil {
			return err
		}
		conditions := monitor.Round(ctx, instances)
		told(conditions)
		v := keeper.Judge(s.Plan, side, keeper.Builds(choices), conditions)
		switch {
		case v.Healthy():
			return nil
		case v.Exited:
			return fmt.Errorf("%w: %s", ErrNotHealthy, v.Stuck())
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-limited.Done():
			return fmt.Errorf("%w within %v: %s", ErrNotHealthy, s.Plan.RaiseLimit(side), v.Stuck())
		case <-time.After(s.Plan.HealthEvery()):
		}
	}
}

func nothingNew(choices []crossing.Choice, live []reading.Instance) bool {
	known := false
	for _, c := range choices {
		for _, i := range live {
			if i.Part != c.Part || !i.Running {
				continue
			}
			if i.Build != c.Build || c.Build == "" {
				return false
			}
			known = true
		}
	}
	return known
}

// Question is what a proof of the spare side as it stands is made of.
func (s Spare) Question(ctx context.Context) (prove.Question, error) {
	side, err := s.Side(ctx)
	if err != nil {
		return prove.Question{}, err
	}
	q := prove.Question{Plan: s.Plan, Secrets: s.Secrets, Standing: s.Stacks, Target: side, Raised: map[string]prove.Raised{}}
	for _, side := range split.Sides {
		if q.Sides[side], err = s.Stacks.List(ctx, side); err != nil {
			return q, err
		}
	}
	if len(q.Sides[side]) == 0 {
		return q, fmt.Errorf("%w: %v has no instances: raise it first", crossing.ErrNotNow, side)
	}
	for _, i := range q.Sides[side] {
		r := prove.Raised{Version: i.Version, Build: i.Build}
		if source, ok := s.Sources[i.Part]; ok {
			if v, err := versions.Find(ctx, source, i.Version); err == nil {
				r.Built = v.At
			}
		}
		q.Raised[i.Part] = r
	}
	return q, nil
}

// Prove makes the proof of the spare side as it stands.
func (s Spare) Prove(ctx context.Context, told func(proof.Proof)) (proof.Proof, prove.About, error) {
	q, err := s.Question(ctx)
	if err != nil {
		return proof.Proof{}, prove.About{}, err
	}
	q.Told = told
	p, about := prove.Prove(ctx, q)
	return p, about, ctx.Err()
}

// Differ compares the sides as they stand.
func (s Spare) Differ(ctx context.Context) (prove.About, error) {
	q, err := s.Question(ctx)
	if err != nil {
		return prove.About{}, err
	}
	var about prove.About
	for _, kind := range []proof.Kind{proof.KindDifference, proof.KindPairs} {
		prove.Again(ctx, q, proof.Result{Kind: kind}, &about)
	}
	return about, ctx.Err()
}

// Retire drains and removes the spare side. The front refuses the live one.
func (s Spare) Retire(ctx context.Context) (split.Side, error) {
	side, err := s.Side(ctx)
	if err != nil {
		return side, err
	}
	return side, keeper.ClearAway(ctx, s.Plan, s.Front, s.Stacks, side)
}

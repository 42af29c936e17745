package headless

import (
	"context"
	"fmt"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/proving/prove"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/versions"
)

// Looking is what looking at the spare side of a service takes. Nothing is changed.
type Looking struct {
	Plan    *plan.Plan
	Secrets secret.Values
	Front   keeper.Front
	Stacks  keeper.Stacks
	Sources map[string]versions.Source
}

// question is what a proof of the spare side as it stands is made of.
func (l Looking) question(ctx context.Context) (prove.Question, error) {
	r, err := l.Front.Read(ctx)
	if err != nil {
		return prove.Question{}, err
	}
	live, err := keeper.Live(r.Split.Share)
	if err != nil {
		return prove.Question{}, err
	}
	q := prove.Question{Plan: l.Plan, Secrets: l.Secrets, Standing: l.Stacks, Target: live.Other(),
		Raised: map[string]prove.Raised{}}
	for _, side := range split.Sides {
		if q.Sides[side], err = l.Stacks.List(ctx, side); err != nil {
			return q, err
		}
	}
	if len(q.Sides[q.Target]) == 0 {
		return q, fmt.Errorf("%w: %v has no instances: raise it first", crossing.ErrNotNow, q.Target)
	}
	for _, i := range q.Sides[q.Target] {
		raised := prove.Raised{Version: i.Version, Build: i.Build}
		if source, ok := l.Sources[i.Part]; ok {
			if v, err := source.Find(ctx, i.Version); err == nil {
				raised.Built = v.At
			}
		}
		q.Raised[i.Part] = raised
	}
	return q, nil
}

// Differ compares the sides as they stand.
func (l Looking) Differ(ctx context.Context) (prove.About, error) {
	q, err := l.question(ctx)
	if err != nil {
		return prove.About{}, err
	}
	var about prove.About
	for _, kind := range []proof.Kind{proof.KindDifference, proof.KindPairs} {
		prove.Again(ctx, q, proof.Result{Kind: kind}, &about)
	}
	return about, ctx.Err()
}

package keeper

import (
	"context"
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/proving/differ"
	"vaiven/internal/proving/prove"
)

// noProof is a proof that has just begun.
var noProof = proof.Proof{}

// check makes the proof that a crossing waits for, and tells how far it is.
func (k *performer) check(ctx context.Context, o engine.Order, number int, raised map[string]prove.Raised) {
	q, err := k.question(ctx, o.Side, raised)
	if err != nil {
		r := proof.Result{
			Part: k.Plan.Main().Name, Kind: proof.KindInstances, Check: "instances", Instance: o.Side.String(),
			Want: "a list", Got: k.said(err), At: time.Now(),
		}
		k.report(crossing.Proved{Task: o.ID, Proof: proof.Proof{Results: []proof.Result{r}}})
		return
	}
	q.Told = func(p proof.Proof) { k.show(ctx, number, p, nil, false) }
	was := make(chan wayback.Record, 1)
	go func() {
		r, _ := differ.Record(ctx,
			differ.Question{Plan: k.Plan, Secrets: k.Secrets, Standing: k.Stacks, Sides: q.Sides}, o.Side.Other(),
			k.Key)
		was <- r
	}()
	p, about := k.Prove(ctx, q)
	r := <-was
	if ctx.Err() != nil {
		return // nobody waits for it any more
	}
	k.show(ctx, number, p, &about, true)
	k.post(ctx, func(now time.Time) { k.happened(k.engine.Remember(now, o.ID, r)) })
	k.report(crossing.Proved{Task: o.ID, Proof: p})
}

// question is what a proof is made of: both sides as they stand.
func (w *watcher) question(ctx context.Context, target split.Side, raised map[string]prove.Raised) (prove.Question,
	error) {
	q := prove.Question{
		Plan: w.Plan, Secrets: w.Secrets, Standing: w.Stacks, Target: target, Raised: raised,
		Reach: func(ctx context.Context, address string) error { return front.Reach(ctx, w.Front, address) },
		Doors: func(ctx context.Context) ([]front.Spare, error) { return front.Doors(ctx, w.Front) },
	}
	var err error
	for _, side := range split.Sides {
		limited, cancel := context.WithTimeout(ctx, listLimit)
		var errList error
		if q.Sides[side], errList = w.Stacks.List(limited, side); side == target {
			err = errList // the live side only serves to compare
		}
		cancel()
	}
	s := w.latest.Load().Crossing
	for side, list := range q.Sides {
		for _, i := range list {
			if s.OfControl(i) {
				q.Control = append(q.Control, i)
			}
		}
		q.Sides[side] = slices.DeleteFunc(list, s.OfControl)
	}
	return q, err
}

// show shows how far a proof is, unless another has begun meanwhile.
func (k *performer) show(ctx context.Context, number int, p proof.Proof, about *prove.About, done bool) {
	k.post(ctx, func(now time.Time) {
		if !k.proving || number != k.proofs {
			return
		}
		k.proof = p
		if about != nil {
			k.about = *about
		}
		k.proving = !done
		k.publish(now)
	})
}

// lookLimit bounds a proof or a check that was asked for beside a crossing.
const lookLimit = 5 * time.Minute

// look makes a proof, or one check of it, that no crossing waits for.
func (k *Keeper) look(ctx context.Context, check proof.Result) error {
	reply := make(chan error, 1)
	k.post(ctx, func(now time.Time) {
		s := k.engine.State()
		target := k.latest.Load().Live.Other()
		raised := map[string]prove.Raised{}
		if s.Stage.UnderWay() {
			target, raised = s.Target, raisedFrom(s.Choices)
		} else {
			for _, i := range k.engine.Running(target) { // held to what it was started from
				raised[i.Part] = prove.Raised{Version: i.Version, Build: i.Build, Built: k.built(i)}
			}
		}
		last := k.latest.Load()
		switch {
		case !last.Ready:
			reply <- refused{crossing.Refuse(crossing.NotRead{Said: last.Front.Error})}
			return
		case k.proving:
			reply <- refused{crossing.Refuse(crossing.IsProving{})}
			return
		case len(k.engine.Running(target)) == 0:
			reply <- refused{crossing.Refuse(crossing.NotThere{Side: target})}
			return
		}
		k.proving = true
		k.proofs++
		number, before, about := k.proofs, k.proof, k.about
		k.looks = append(k.looks, func(ctx context.Context) {
			limited, cancel := context.WithTimeout(ctx, lookLimit)
			defer cancel()
			k.lookAt(limited, check, target, raised, number, before, about)
		})
		k.publish(now)
		reply <- nil
	})
	select {
	case err := <-reply:
		return err
	case <-k.done:
		return errStopped
	case <-ctx.Done():
		return ctx.Err()
	}
}

// built is when the build of an instance was made, if an earlier choice says so.
func (k *performer) built(i reading.Instance) time.Time {
	for _, c := range k.engine.State().Choices {
		if c.Part == i.Part && c.Build == i.Build {
			return c.Built
		}
	}
	return time.Time{}
}

func (k *performer) lookAt(ctx context.Context, check proof.Result, target split.Side, raised map[string]prove.Raised,
	number int, before proof.Proof, about prove.About) {
	q, err := k.question(ctx, target, raised)
	if err != nil {
		k.log.warn("look", "err", err)
		k.show(ctx, number, before, nil, true)
		return
	}
	if check.Check == "" {
		q.Told = func(p proof.Proof) { k.show(ctx, number, p, nil, false) }
		p, about := k.Prove(ctx, q)
		k.show(ctx, number, p, &about, true)
		k.post(ctx, func(time.Time) { k.engine.Proved(target, p, q.Sides[target]) })
		return
	}
	p := proof.Proof{Results: slices.Clone(before.Results)}
	if r, ok := prove.Again(ctx, q, check, &about); ok {
		if n := slices.IndexFunc(p.Results, r.SameCell); n >= 0 {
			p.Results[n] = r
		} else {
			p.Results = append(p.Results, r)
		}
	}
	k.show(ctx, number, p, &about, true)
}

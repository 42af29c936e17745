package keeper

import (
	"context"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/world/check"
	"vaiven/internal/world/source"
)

// Tell asks instances for the figures that the plan's guards are on.
type Tell func(context.Context, []reading.Instance) []reading.Told

// Ask asks a source for what a guard is on, about several sides at one moment.
type Ask func(context.Context, plan.Guard, []source.Subject) reading.Figures

// askFigures asks the sources of the plan while a crossing is under way, each guard for itself: one that hangs holds up
// no other.
func (w *watcher) askFigures(ctx context.Context) {
	var all sync.WaitGroup
	for _, rule := range w.Plan.Guards {
		if !rule.Asked() || rule.Off {
			continue
		}
		all.Go(func() {
			every(ctx, rule.Every, func() {
				s := w.latest.Load()
				if !s.Crossing.Stage.UnderWay() {
					return
				}
				r := w.Ask(ctx, rule, w.subjects(rule, s))
				if ctx.Err() == nil {
					w.post(ctx, func(now time.Time) { w.happened(w.engine.FiguresRead(now, r)) })
				}
			})
		})
	}
	all.Wait()
}

// subjects are whom a guard's question is about: the new side and, where it compares them, the live one. That is its
// control group where there is one, and the question can tell it from the others.
func (w *watcher) subjects(rule plan.Guard, s *Snapshot) []source.Subject {
	target := s.Crossing.Target
	sides := []split.Side{target}
	if rule.Watch.Beside() {
		sides = append(sides, target.Other())
	}
	var list []source.Subject
	for _, side := range sides {
		of := source.Subject{Side: side, Version: s.Sides[side].Version}
		of.Control = side != target && s.Crossing.Beside() && rule.Figure.Query.Apart()
		for _, c := range s.Sides[side].Instances {
			if c.Part != w.Plan.Main().Name || !c.Running || of.Control && !s.Crossing.OfControl(c.Instance) {
				continue
			}
			of.Instances = append(of.Instances, c.Address)
			if c.Started.After(of.Started) {
				of.Started = c.Started
			}
		}
		list = append(list, of)
	}
	return list
}

// watchFigures asks the instances of both sides for their figures while a crossing is under way, all at the
// same time: what hits both sides is to cancel out.
func (w *watcher) watchFigures(ctx context.Context) {
	main := w.Plan.Main()
	if !main.Figures.On() || len(w.Plan.Told()) == 0 {
		return
	}
	every(ctx, main.Figures.Every, func() {
		s := w.latest.Load()
		if !s.Crossing.Stage.UnderWay() {
			return
		}
		var list []reading.Instance
		for _, side := range split.Sides {
			for _, c := range s.Sides[side].Instances {
				if c.Part == main.Name && c.Running {
					list = append(list, c.Instance)
				}
			}
		}
		r := reading.Figures{At: time.Now()}
		if r.Of = w.Tell(ctx, list); ctx.Err() != nil {
			return
		}
		w.post(ctx, func(now time.Time) { w.happened(w.engine.FiguresRead(now, r)) })
	})
}

// tellLimit is how long an instance has for its page.
const tellLimit = 2 * time.Second

// tellFigures asks instances at their own addresses.
func (w *watcher) tellFigures(ctx context.Context, list []reading.Instance) []reading.Told {
	page, wanted := w.Plan.Main().Figures, w.Plan.Told()
	told := make([]reading.Told, len(list))
	var asked errgroup.Group
	asked.SetLimit(figuresAtOnce)
	for n, i := range list {
		asked.Go(func() error {
			t := check.Target{From: w.Stacks.From(i), Values: i.Values(w.Plan.Service), Secrets: w.Secrets}
			told[n] = reading.Told{Name: i.Name, Side: i.Side, Started: i.Started}
			var err error
			if told[n].Values, err = t.Figures(ctx, page, wanted, tellLimit); err != nil {
				told[n].Said = w.said(err)
			}
			return nil
		})
	}
	_ = asked.Wait()
	return told
}

// figuresAtOnce bounds how many instances are asked at the same time, as each page may be large.
const figuresAtOnce = 16

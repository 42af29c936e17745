package keeper

import (
	"context"
	"time"

	"golang.org/x/sync/errgroup"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/world/check"
)

// Tell asks instances for the figures that the plan's guards are on.
type Tell func(context.Context, []reading.Instance) []reading.Told

// watchFigures asks the instances of both sides for their figures while a crossing is under way, all at the
// same time: what hits both sides is to cancel out.
func (w *watcher) watchFigures(ctx context.Context) {
	main := w.Plan.Main()
	if !main.Figures.On() || len(w.Plan.Figures()) == 0 {
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
	page, wanted := w.Plan.Main().Figures, w.Plan.Figures()
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

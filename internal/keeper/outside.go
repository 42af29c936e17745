package keeper

import (
	"context"
	"time"

	"vaiven/internal/core/calendar"
	"vaiven/internal/core/engine"
	"vaiven/internal/world/outside"
)

const (
	embargoEvery = 5 * time.Second
	closedEvery  = 5 * time.Minute
	// closedFor is how long the days that are closed are good for, where they cannot be read again.
	closedFor = 24 * time.Hour
)

// watchOutside reads what others say of when traffic may leave home. Nothing of going home waits for it.
func (w *watcher) watchOutside(ctx context.Context) {
	if w.Plan.Embargo == "" && w.Plan.Closed == "" {
		return
	}
	var closed []calendar.Closed
	var read, tried time.Time // the days that are closed
	said := ""
	every(ctx, embargoEvery, func() {
		now := time.Now()
		o := engine.Outside{}
		if w.Plan.Embargo != "" {
			var err error
			if o.Embargo, err = outside.Embargo(ctx, w.Plan.Embargo); err != nil {
				o.EmbargoSaid = w.Secrets.Hide(err.Error())
			}
		}
		if w.Plan.Closed != "" && now.Sub(tried) >= closedEvery || said != "" {
			tried = now
			list, err := outside.Closed(ctx, w.Plan.Closed, w.Plan.Hours.Zone, now)
			if said = ""; err == nil {
				closed, read = list, now
			} else if now.Sub(read) > closedFor {
				said = w.Secrets.Hide(err.Error())
			} else {
				w.log.warn("the closed days cannot be read again", "err", err)
			}
		}
		o.Closed, o.ClosedSaid = closed, said
		if ctx.Err() != nil {
			return
		}
		w.tell(func(now time.Time) {
			w.happened(w.engine.Outside(now, o))
			w.publish(now)
		})
	})
}

package keeper

import (
	"context"
	"time"
)

// trailEvery is how often the track is kept.
const trailEvery = 2 * time.Second

// leaveTrail keeps the track as it grows, so that whoever comes after sees where nobody
// watched.
func (w *watcher) leaveTrail(ctx context.Context) {
	if w.Trail == nil {
		return
	}
	last := w.latest.Load().Drawn
	every(ctx, trailEvery, func() {
		points := w.Track(last)
		if len(points) == 0 {
			return
		}
		if err := w.Trail.Append(points); err != nil {
			w.log.warn("keep the track", "err", err) // nothing depends on it
		}
		last = points[len(points)-1].At
	})
}

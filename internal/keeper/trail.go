package keeper

import (
	"context"
	"time"
)

// trailEvery is how often the track is kept.
const trailEvery = 2 * time.Second

// leaveTrail keeps the track as it grows, so that whoever comes after sees where nobody
// watched.
func (k *Keeper) leaveTrail(ctx context.Context) {
	if k.Trail == nil {
		return
	}
	last := k.latest.Load().Drawn
	every(ctx, trailEvery, func() {
		points := k.Track(last)
		if len(points) == 0 {
			return
		}
		if err := k.Trail.Append(points); err != nil {
			k.log.warn("keep the track", "err", err) // nothing depends on it
		}
		last = points[len(points)-1].At
	})
}

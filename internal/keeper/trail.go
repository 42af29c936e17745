package keeper

import (
	"context"
	"encoding/json"
	"time"
)

// trailEvery is how often the track is kept, and keptEvery how often the evidence is.
const (
	trailEvery = 2 * time.Second
	keptEvery  = 10 * time.Second
)

// keepEvidence keeps what the guards have gathered while a crossing is under way, so that a keeper that is killed
// leaves it to the next one.
func (k *Keeper) keepEvidence(ctx context.Context) {
	if k.Trail == nil {
		return
	}
	every(ctx, keptEvery, func() {
		written := make(chan []byte, 1)
		k.post(ctx, func(time.Time) {
			var data []byte
			if g := k.engine.Gathered(); g.Crossing > 0 {
				var err error
				if data, err = json.Marshal(g); err != nil {
					k.log.warn("write the evidence", "err", err)
				}
			}
			written <- data
		})
		select {
		case data := <-written:
			if len(data) == 0 {
				return
			}
			if err := k.Trail.Keep(data); err != nil {
				k.log.warn("keep the evidence", "err", err) // guards would begin anew
			}
		case <-k.done:
		case <-ctx.Done():
		}
	})
}

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

package keeper

import (
	"context"
	"encoding/json"
	"time"
)

// recordEvery is how often a moment is recorded, and keptEvery how often the evidence is kept.
const (
	recordEvery = time.Second
	keptEvery   = 10 * time.Second
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

// record records what is seen, so that whoever comes after sees it as it was, and where nobody watched.
func (w *watcher) record(ctx context.Context) {
	if w.Recording == nil {
		return
	}
	defer w.Recording.Close()
	last := w.latest.Load().Drawn
	take := func() {
		s := w.latest.Load()
		points := w.Track(last)
		if len(points) > 0 {
			last = points[len(points)-1].At
		}
		w.Recording.Take(*s, points)
	}
	every(ctx, recordEvery, take)
	take()
}

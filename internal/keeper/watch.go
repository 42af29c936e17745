package keeper

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/proving/prove"
	"vaiven/internal/world/peer"
)

// every calls at once and then at the interval until the context ends.
func every(ctx context.Context, interval time.Duration, do func()) {
	ticker := time.NewTicker(interval)
	defer ticker.Stop()
	for {
		do()
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// asksFront is what is known as the front is asked.
func (w *watcher) asksFront() engine.Asked {
	return engine.Asked{At: time.Now(), Changes: w.latest.Load().Front.Changes}
}

// How often the front, the lists of instances and their health are read while nothing moves and nobody looks.
// The readings stay fresh.
const (
	restFront  = 2 * engine.FrontEvery
	restList   = 2 * time.Second
	restHealth = 2 * time.Second
)

// resting reports whether a reading is not due yet, because nobody needs it to be.
func (w *watcher) resting(last time.Time, every time.Duration) bool {
	const early = 50 * time.Millisecond
	return w.rests.Load() && time.Since(last) < every-early
}

// watchFront reads the front again and again.
func (w *watcher) watchFront(ctx context.Context) {
	var last time.Time
	every(ctx, engine.FrontEvery, func() {
		if w.resting(last, restFront) {
			return
		}
		last = time.Now()
		limited, cancel := context.WithTimeout(ctx, frontLimit)
		defer cancel()
		asked := w.asksFront()
		r, err := w.Front.Read(limited)
		if err == nil {
			w.read.Store(&r)
			w.saw.Store(new(time.Now()))
			w.readTerm(ctx, r.Order.Term)
		}
		w.post(ctx, func(now time.Time) {
			if err != nil {
				w.happened(w.engine.FrontFailed(now, w.said(err)))
				return
			}
			w.happened(w.engine.FrontRead(now, asked, r))
		})
	})
}

// Now is the newest snapshot.
func (l *loop) Now() Snapshot { return *l.latest.Load() }

// seen is when the front was read last, by this machine's clock; zero if it was not.
func (w *watcher) seen() time.Time {
	if at := w.saw.Load(); at != nil {
		return *at
	}
	return time.Time{}
}

// FrontRead is the last reading of the front; its time is zero if there was none.
func (w *watcher) FrontRead() reading.Front {
	if r := w.read.Load(); r != nil {
		return *r
	}
	return reading.Front{}
}

// Outcomes is how many crossings of the logbook have ended how.
func (l *loop) Outcomes(ctx context.Context) (map[crossing.Stage]int, error) {
	past, err := l.Book.Past(ctx)
	if err != nil {
		return nil, err
	}
	list := map[crossing.Stage]int{}
	for _, p := range past {
		if p.Stage.Over() {
			list[p.Stage]++
		}
	}
	return list, nil
}

// rehearseEvery is how often a front is asked whether it would take a change.
const rehearseEvery = 15 * time.Second

// rehearse rehearses going home again and again, as long as there is a way back: what is in
// the way is known before it is needed.
func (w *watcher) rehearse(ctx context.Context) {
	every(ctx, rehearseEvery, func() {
		// else there is nowhere to go back to
		if s := w.latest.Load(); s.WayBack.State != "" && len(s.Sides[s.Crossing.Target.Other()].Instances) > 0 {
			_, _ = w.rehearsed(ctx)
		}
	})
}

// Evidence is what the guards have come to. See [Client].
func (k *Keeper) Evidence(ctx context.Context) ([]guard.Story, error) {
	reply := make(chan []guard.Story, 1)
	k.post(ctx, func(time.Time) { reply <- k.engine.Evidence() })
	select {
	case stories := <-reply:
		return stories, nil
	case <-k.done:
		return nil, errStopped
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// Rehearse rehearses going home. See [Client].
func (k *Keeper) Rehearse(ctx context.Context) (wayback.Rehearsal, error) { return k.rehearsed(ctx) }

// rehearsed rehearses going home to where home is: the side crossed from, or the live one
// where nothing is crossing.
func (w *watcher) rehearsed(ctx context.Context) (wayback.Rehearsal, error) {
	s := w.latest.Load()
	side := s.Live
	if s.WayBack.State != "" {
		side = s.Crossing.Target.Other()
	}
	limited, cancel := context.WithTimeout(ctx, setLimit)
	defer cancel()
	r := front.Rehearse(limited, w.Front, side)
	if ctx.Err() != nil {
		return r, ctx.Err()
	}
	r.Failed = w.Secrets.Hide(r.Failed)
	if err := w.shared(); err != nil {
		r.Alone = w.Secrets.Hide(err.Error())
	}
	w.post(ctx, func(now time.Time) {
		w.engine.Rehearsed(r)
		w.publish(now)
	})
	return r, nil
}

// shared is why the members of the plan's group could not go home without the keeper, if there is such a group.
func (w *watcher) shared() error {
	if w.Plan.People.Socket == "" {
		return nil
	}
	group, err := peer.Group(w.Plan.People.Socket)
	if err == nil {
		err = front.SharedWith(w.Front, group)
	}
	return err
}

// dueEvery is how often it is looked whether a look is due.
const dueEvery = time.Second

// watchWayBack holds the side to go back to to what it was, as long as there is one.
func (w *watcher) watchWayBack(ctx context.Context) {
	round, crossed := 0, 0
	var last time.Time
	every(ctx, dueEvery, func() {
		s := w.latest.Load()
		if s.Crossing.Number == crossed && time.Since(last) < w.Plan.WayBack.Every {
			return
		}
		if s.WayBack.State == "" || s.Crossing.Was.At.IsZero() || !s.Crossing.Moved ||
			len(s.Sides[s.Crossing.Was.Side].Instances) == 0 {
			return
		}
		round++
		crossed, last = s.Crossing.Number, time.Now()
		limited, cancel := context.WithTimeout(ctx, lookLimit)
		defer cancel()
		q, err := w.question(limited, s.Crossing.Was.Side, map[string]prove.Raised{})
		if err != nil && len(q.Sides[q.Target]) == 0 {
			return // that it cannot be listed is said elsewhere
		}
		looks := w.Hold(limited, q, s.Crossing.Was, w.Key, round)
		if ctx.Err() != nil {
			return
		}
		number := s.Crossing.Number
		w.post(ctx, func(now time.Time) {
			if w.engine.State().Number == number {
				w.happened(w.engine.Looked(now, looks))
				w.publish(now)
			}
		})
	})
}

// roll is the list of a side's instances as last read.
type roll struct {
	mu   sync.Mutex // protects what follows
	list []reading.Instance
	at   engine.Asked // when it was asked for, zero if it never was read
	why  string       // what could not be read, "" if everything was
}

// watchSide lists the instances of a side and reads their health, again and again. Each
// side is read for itself, and a list that does not come holds up no reading of health:
// hosts that do not answer make old what they alone can say.
func (w *watcher) watchSide(ctx context.Context, side split.Side) {
	interval := w.Plan.HealthEvery()
	var seen roll
	var listing sync.WaitGroup
	defer listing.Wait()
	listed := make(chan struct{}, 1)
	listing.Go(func() {
		var last time.Time
		every(ctx, interval, func() {
			if w.resting(last, restList) {
				return
			}
			last = time.Now()
			limited, cancel := context.WithTimeout(ctx, listLimit)
			defer cancel()
			asked := engine.Asked{At: time.Now(), Changes: w.latest.Load().Sides[side].Changes}
			list, err := w.Stacks.List(limited, side)
			why := ""
			if err != nil {
				why = w.said(err)
			}
			seen.take(asked, list, why)
			select {
			case listed <- struct{}{}:
			default:
			}
		})
	})
	health := w.Health(side)
	select {
	case <-listed:
	case <-time.After(listLimit):
	case <-ctx.Done():
		return
	}
	var last time.Time
	every(ctx, interval, func() {
		if w.resting(last, restHealth) {
			return
		}
		last = time.Now()
		r := engine.SideReading{Side: side, At: time.Now()}
		var list []reading.Instance
		list, r.Asked, r.Error = seen.get(time.Now(), interval)
		limited, cancel := context.WithTimeout(ctx, roundLimit)
		r.Conditions = health.Round(limited, list)
		cancel()
		if ctx.Err() != nil {
			return // they were cut off, and are not ill
		}
		w.post(ctx, func(now time.Time) { w.happened(w.engine.SideRead(now, r)) })
	})
}

// take takes a list in, and why it is not whole. What it lacks because its host could not be asked stays as it
// was: whether it answers is asked of itself.
func (r *roll) take(asked engine.Asked, list []reading.Instance, why string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.why = why; why != "" {
		for _, i := range r.list {
			if !slices.ContainsFunc(list,
				func(seen reading.Instance) bool { return seen.Part == i.Part && seen.Name == i.Name }) {
				list = append(list, i)
			}
		}
	}
	r.list, r.at = list, asked
}

// get is the list, when it was asked for, and what is wrong with it.
func (r *roll) get(now time.Time, interval time.Duration) (list []reading.Instance, asked engine.Asked, why string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	why = r.why
	if age := now.Sub(r.at.At); why == "" && age > max(5*interval, 3*time.Second) {
		why = "its instances have not been listed since the start"
		if !r.at.At.IsZero() {
			why = fmt.Sprintf("its instances have not been listed for %v", age.Round(time.Second))
		}
	}
	return slices.Clone(r.list), r.at, why
}

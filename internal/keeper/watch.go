package keeper

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"vaiven/internal/core/engine"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
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
func (k *Keeper) asksFront() engine.Asked {
	return engine.Asked{At: time.Now(), Changes: k.latest.Load().Front.Changes}
}

// watchFront reads the front again and again.
func (k *Keeper) watchFront(ctx context.Context) {
	every(ctx, engine.FrontEvery, func() {
		limited, cancel := context.WithTimeout(ctx, frontLimit)
		defer cancel()
		asked := k.asksFront()
		r, err := k.Front.Read(limited)
		k.post(ctx, func(now time.Time) {
			if err != nil {
				k.happened(k.engine.FrontFailed(now, k.said(err)))
				return
			}
			k.happened(k.engine.FrontRead(now, asked, r))
		})
	})
}

// rehearseEvery is how often a front is asked whether it would take a change.
const rehearseEvery = 15 * time.Second

// rehearse asks the front again and again whether it would take a change, where it can
// say so: what is in the way is known before it is needed.
func (k *Keeper) rehearse(ctx context.Context) {
	r, ok := k.Front.(front.Rehearser)
	if !ok {
		return
	}
	every(ctx, rehearseEvery, func() {
		limited, cancel := context.WithTimeout(ctx, setLimit)
		defer cancel()
		blocked := ""
		if err := r.Rehearse(limited); err != nil && ctx.Err() == nil {
			blocked = k.said(err)
		}
		k.post(ctx, func(time.Time) { k.engine.Rehearsed(blocked) })
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
func (k *Keeper) watchSide(ctx context.Context, side split.Side) {
	interval := k.Plan.HealthEvery()
	var seen roll
	var listing sync.WaitGroup
	defer listing.Wait()
	listed := make(chan struct{}, 1)
	listing.Go(func() {
		every(ctx, interval, func() {
			limited, cancel := context.WithTimeout(ctx, listLimit)
			defer cancel()
			asked := engine.Asked{At: time.Now(), Changes: k.latest.Load().Sides[side].Changes}
			list, err := k.Stacks.List(limited, side)
			why := ""
			if err != nil {
				why = k.said(err)
			}
			seen.take(asked, list, why)
			select {
			case listed <- struct{}{}:
			default:
			}
		})
	})
	health := k.Health(side)
	select {
	case <-listed:
	case <-time.After(listLimit):
	case <-ctx.Done():
		return
	}
	every(ctx, interval, func() {
		r := engine.SideReading{Side: side, At: time.Now()}
		var list []reading.Instance
		list, r.Asked, r.Error = seen.get(time.Now(), interval)
		limited, cancel := context.WithTimeout(ctx, roundLimit)
		r.Conditions = health.Round(limited, list)
		cancel()
		if ctx.Err() != nil {
			return // they were cut off, and are not ill
		}
		k.post(ctx, func(now time.Time) { k.happened(k.engine.SideRead(now, r)) })
	})
}

// take takes a list in, and why it is not whole. What it lacks because its host could not be asked stays as it
// was: whether it answers is asked of itself.
func (r *roll) take(asked engine.Asked, list []reading.Instance, why string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.why = why; why != "" {
		for _, i := range r.list {
			if !slices.ContainsFunc(list, func(seen reading.Instance) bool { return seen.Part == i.Part && seen.Name == i.Name }) {
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

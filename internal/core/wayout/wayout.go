package wayout

import (
	"slices"

	"vaiven/internal/core/split"
)

// Do is what can be done.
type Do string

// What can be done, in the order in which it is told where it comes to the same.
const (
	Forward Do = "forward" // all requests to the target
	Hold    Do = "hold"    // all stay where they are
	Home    Do = "home"    // all requests to the side crossed from
)

// Side is what is known of a side.
type Side struct {
	Known     bool    // its instances were read just now
	Healthy   int     // of its instances that the front sends requests to
	Instances int     // all of those, or as many as there should be
	Capacity  float64 // requests a second that the healthy ones carry; 0 if not known
	Bad       float64 // the part of its answers that is bad now, in [0, 1]
}

// Half is the part of a side's instances, or of its answers, from which on it is ill.
const Half = 0.5

// Ill reports whether the side does not serve as it should: less than half of its instances
// are healthy, or half of its answers are bad.
func (s Side) Ill() bool {
	return s.Known && (s.Healthy == 0 || float64(s.Healthy) < Half*float64(s.Instances)) || s.Bad >= Half
}

// lost is how many of so many requests a second come to nothing there: all where nobody is
// healthy; else as many as now, or those that it cannot carry, if they are more.
func (s Side) lost(rate float64) float64 {
	if s.Known && s.Healthy == 0 {
		return rate
	}
	lost := s.Bad * rate
	if s.Known && s.Capacity > 0 {
		lost = max(lost, rate-s.Capacity)
	}
	return min(max(lost, 0), rate)
}

// Facts is what the ways are weighed by.
type Facts struct {
	Target split.Side
	Share  split.Share // on green, in force
	Moved  bool        // requests were sent to the target
	Proven bool        // the target is
	Rate   float64     // requests a second, of both sides
	Sides  [2]Side
}

// Way is one thing that can be done.
type Way struct {
	Do    Do          `json:"do"`
	Share split.Share `json:"share"` // on green, then
	Moves float64     `json:"moves"` // requests a second that another side gets than now
	Lost  float64     `json:"lost"`  // requests a second that come to nothing then
	Rate  float64     `json:"rate"`  // all requests a second
}

// alikeBy is how far apart the parts of both sides' answers that are bad may be for them to fail alike.
const alikeBy = 0.15

// Alike reports whether both sides get requests and fail alike, with instances that are healthy by their own word: it
// is something that they share, and no way of sending requests helps.
func Alike(f Facts) bool {
	if _, all := f.Share.Alone(); all {
		return false
	}
	for _, s := range f.Sides {
		if s.Bad < Half || s.Known && float64(s.Healthy) < Half*float64(s.Instances) {
			return false
		}
	}
	a, b := f.Sides[split.Blue].Bad, f.Sides[split.Green].Bad
	return max(a-b, b-a) <= alikeBy
}

// List is what can be done, what helps most first; nil where no side that gets requests is
// ill, or both fail alike. Forward is a way only to a target that is proven and serves.
func List(f Facts) []Way {
	if Alike(f) {
		return nil
	}
	ill := false
	for _, side := range split.Sides {
		ill = ill || f.Share.Of(side) > 0 && f.Sides[side].Ill()
	}
	if !ill {
		return nil
	}
	list := []Way{f.way(Hold, f.Share)}
	full := split.Toward(f.Target, split.Whole)
	if target := f.Sides[f.Target]; f.Proven && target.Known && target.Healthy > 0 && f.Share != full {
		list = append(list, f.way(Forward, full))
	}
	if home := split.Toward(f.Target.Other(), split.Whole); f.Moved && f.Share != home {
		list = append(list, f.way(Home, home))
	}
	order := []Do{Forward, Hold, Home}
	slices.SortStableFunc(list, func(a, b Way) int {
		switch {
		case a.Lost < b.Lost:
			return -1
		case a.Lost > b.Lost:
			return 1
		}
		return slices.Index(order, a.Do) - slices.Index(order, b.Do)
	})
	return list
}

func (f Facts) way(do Do, share split.Share) Way {
	w := Way{Do: do, Share: share, Rate: f.Rate}
	for _, side := range split.Sides {
		w.Lost += f.Sides[side].lost(f.Rate * share.Of(side).Fraction())
	}
	w.Moves = f.Rate * max(share-f.Share, f.Share-share).Fraction()
	return w
}

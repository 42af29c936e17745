package wayout

import (
	"cmp"
	"slices"

	"vaiven/internal/core/evidence"
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
	// what it answered users just now, if that is counted: how far Bad can be trusted
	Answers evidence.Count
}

// few answers say nothing of a side.
const few = 20

// asked reports whether users have asked it so often that what it answers is known, whatever its instances say.
func (s Side) asked() bool { return s.Answers.Of >= few }

// doubt is how sure the bounds of what would be lost are: 95 %.
const doubt = 0.05

// bad is the part of its answers that is bad, and between which bounds that lies.
func (s Side) bad() (part float64, between evidence.Interval) {
	if s.Answers.Of == 0 {
		return s.Bad, evidence.Interval{Low: s.Bad, High: s.Bad}
	}
	return s.Answers.Rate(), evidence.Rate(s.Answers, doubt)
}

// Half is the part of a side's instances, or of its answers, from which on it is ill.
const Half = 0.5

// Ill reports whether the side does not serve as it should: less than half of its instances
// are healthy, or half of its answers are bad.
func (s Side) Ill() bool {
	return s.Known && (s.Healthy == 0 || float64(s.Healthy) < Half*float64(s.Instances)) || s.Bad >= Half
}

// lost is how many of so many requests a second come to nothing there, where a part of its answers is bad: all where
// nobody is healthy and nobody was answered just now; else that part, or those that it cannot carry, if they are more.
func (s Side) lost(rate, bad float64) float64 {
	if s.Known && s.Healthy == 0 && !s.asked() {
		return rate
	}
	lost := bad * rate
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
	Low   float64     `json:"low"`   // and between which bounds that lies, 95 % sure
	High  float64     `json:"high"`
	Rate  float64     `json:"rate"`           // all requests a second
	Seen  bool        `json:"seen,omitempty"` // it is so now, and was measured; else it is foreseen
}

// Best is what helps, if it does so by more than is uncertain.
func Best(list []Way) (Way, bool) {
	for n, w := range list {
		if n > 0 && w.Low <= list[0].High {
			return Way{}, false
		}
	}
	if len(list) == 0 {
		return Way{}, false
	}
	return list[0], true
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
		return cmp.Or(cmp.Compare(a.Lost, b.Lost), slices.Index(order, a.Do)-slices.Index(order, b.Do))
	})
	// Those that are not certainly worse than the first stand in one order, however the figures change.
	alike := slices.IndexFunc(list, func(w Way) bool { return w.Low > list[0].High })
	if alike < 0 {
		alike = len(list)
	}
	if _, best := Best(list); !best && list[0].Low < list[0].High {
		slices.SortStableFunc(list[:alike],
			func(a, b Way) int { return slices.Index(order, a.Do) - slices.Index(order, b.Do) })
	}
	return list
}

func (f Facts) way(do Do, share split.Share) Way {
	w := Way{Do: do, Share: share, Rate: f.Rate, Seen: do == Hold}
	for _, side := range split.Sides {
		s, rate := f.Sides[side], f.Rate*share.Of(side).Fraction()
		part, between := s.bad()
		w.Lost += s.lost(rate, part)
		w.Low += s.lost(rate, between.Low)
		w.High += s.lost(rate, between.High)
	}
	w.Moves = f.Rate * max(share-f.Share, f.Share-share).Fraction()
	return w
}

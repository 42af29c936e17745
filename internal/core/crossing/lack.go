package crossing

import (
	"slices"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
)

// Lack is something that has to be known for the route to go on, and is not. Its kind says
// which of the other fields mean something.
type Lack struct {
	Kind  LackKind   `json:"kind"`
	Side  split.Side `json:"side"`            // LackSide, LackSpare, LackServes, LackAsked, LackAstray
	Guard string     `json:"guard,omitempty"` // LackAnswers, LackBaseline, LackDoor, LackFigures
	Have  int64      `json:"have,omitempty"`  // LackAnswers, LackAstray
	Need  int64      `json:"need,omitempty"`  // LackAnswers, LackAstray
	// since when it is not known; zero if it never was. LackTime, LackEverywhere, LackEased: until when
	Since time.Time   `json:"since,omitzero"`
	Share split.Share `json:"share,omitempty"` // LackApart: on green; LackAstray: on the side
	Said  string      `json:"said,omitempty"`  // why, as the system said it
}

// LackKind is a kind of lack.
type LackKind string

// The kinds.
const (
	LackFront      LackKind = "front"      // it, or one of several, was not read lately
	LackApart      LackKind = "apart"      // Said, one of several fronts, has another share than the others
	LackSide       LackKind = "side"       // its instances were not
	LackNoted      LackKind = "noted"      // the side answers at Said, and nothing is noted of who does
	LackCounts     LackKind = "counts"     // the front's counts are not known, though it counts
	LackDoor       LackKind = "door"       // the prober does not reach the front
	LackAnswers    LackKind = "answers"    // a guard has too few to say anything
	LackFigures    LackKind = "figures"    // instances do not tell the figure that a guard is on
	LackBaseline   LackKind = "baseline"   // a guard has nothing to compare with
	LackTime       LackKind = "time"       // nobody watched a while ago: until Since nothing is retired
	LackSpare      LackKind = "spare"      // the side gets requests: it is neither raised anew nor retired
	LackServes     LackKind = "serves"     // nobody of the side that is to stay serves, or most of its answers fail
	LackAsked      LackKind = "asked"      // no user and no prober asks the side that is to stay
	LackEverywhere LackKind = "everywhere" // until Since somebody may go by what was before
	// the side gets Have of Need requests, by what was counted, and has Share of them by the front
	LackAstray LackKind = "astray"
	LackEased  LackKind = "eased" // until Since a change would be remembered for longer than later
)

// Unread reports whether it is something that could not be read, which no word of a person
// replaces; what a guard cannot judge, a person may.
func (l Lack) Unread() bool { return l.Kind == LackFront || l.Kind == LackSide || l.Kind == LackNoted }

// Passes reports whether it passes by itself, so that nobody has to be asked however long it takes.
func (l Lack) Passes() bool { return l.Kind == LackEverywhere || l.Kind == LackEased }

// Baseline is what the live side answered before the target got anything, or on the last leg
// on which both got requests. It is kept for the time in which that side answers nothing.
type Baseline struct {
	Guard string         `json:"guard"`
	After time.Duration  `json:"after,omitempty"` // of guards on times: what counts as slow, in nanoseconds
	Count evidence.Count `json:"count"`
	High  float64        `json:"high"` // the rate that it is held to have at most, by what it varied
	From  time.Time      `json:"from"`
	To    time.Time      `json:"to"`
}

// unread is what could not be read of what nobody goes on without: the front, and the side
// that is to get more or all. The other one may be in the dark, which is why one goes.
func (d *decision) unread() []Lack {
	return without(d.Lacks, func(l Lack) bool { return !l.Unread() || l.Kind != LackFront && l.Side != d.Target })
}

// watched refuses what is not to be done without being watched.
func (d *decision) watched() error {
	list := d.unread()
	if len(list) == 0 {
		return nil
	}
	return Refuse(NotWatched{list})
}

// stays refuses to retire a side as long as it is not known that the other one serves. That nobody asks it
// a person's word replaces.
func (d *decision) stays() error {
	list := without(d.Stays, func(l Lack) bool { return l.Kind == LackAsked })
	if len(list) == 0 {
		return nil
	}
	return Refuse(NotWatched{list})
}

// rested refuses to retire anything so soon after a time in which nobody watched.
func (d *decision) rested() error {
	if !d.At.Before(d.Again) {
		return nil
	}
	return Refuse(NotWatched{[]Lack{{Kind: LackTime, Since: d.Again}}})
}

// lapsed stands still because what has to be known for the route to go on has not been for
// too long.
func (d *decision) lapsed() {
	if d.Timed() && !d.Frozen() && len(d.Lacks) > 0 {
		d.freeze(Cause{Kind: NotKnown, Lacks: d.Lacks})
	}
}

// liveIll stands still because the side that the crossing is to leave does not serve as it
// should: it helps nobody to go on as if nothing had happened, and somebody has to say what
// does. It is heard again when it is worse than what a person has accepted.
func (d *decision) liveIll(i LiveIll) {
	level := i.Home.ill()
	accepted := slices.ContainsFunc(d.Overruled,
		func(o Overruling) bool { return o.Guard == LiveSide && level <= o.Level })
	if d.GoingBack || accepted && d.Stage.UnderWay() {
		return
	}
	d.stuck(Cause{Kind: HomeIll, Home: i.Home})
}

// LiveSide names, among what was overruled, the health of the side crossed from.
const LiveSide = "live side"

// wayClosed stands still because there is no way back any more, unless a person goes on without
// one of that kind.
func (d *decision) wayClosed(c wayback.Condition) {
	known := slices.ContainsFunc(d.Freezes,
		func(f Freezing) bool { return f.Cause.Kind == WayClosed && f.Cause.Way.Kind == c.Kind })
	accepted := slices.ContainsFunc(d.Overruled, func(o Overruling) bool { return o.Guard == wayOf(c) })
	if d.Stage != Shifting && d.Stage != Keeping || d.GoingBack || d.Part() == 0 || known || accepted {
		return
	}
	d.freeze(Cause{Kind: WayClosed, Way: c})
}

// wayOf names, among what was overruled, a condition of the way back.
func wayOf(c wayback.Condition) string { return "way back: " + string(c.Kind) }

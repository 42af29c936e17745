package wayback

import (
	"slices"
	"time"

	"vaiven/internal/core/split"
)

// State says how good the way back is.
type State string

// The states, best first.
const (
	Open   State = "open"
	Narrow State = "narrow" // works, but something is worse than it should be
	Closed State = "closed"
)

// Facts is what the judgement rests on.
type Facts struct {
	Side      split.Side    // the side to go back to
	Healthy   int           // its healthy instances
	Instances int           // all its instances
	Rate      float64       // all requests a second, as measured
	Peak      float64       // the most there were in a minute of the day so far; 0 if not known
	Capacity  float64       // requests a second that its healthy instances carry; 0 if not known
	Stale     time.Duration // age of the health readings if they are too old to count, else 0
	FrontRead bool          // the front answers
	// by what was counted users get something else than the front says: to change that may change nothing
	Elsewhere bool
	Rehearsal Rehearsal // the last one
	Rehearsed Spread    // how long the last ones took
	Looks     Looks     // what was found when it was held to what it was
	Retired   bool      // the side was given up
	Bad       float64   // the part of its answers that fail now, in [0, 1]; 0 if it answers too few to say
}

// badPart is the part of a side's answers from which on going back to it is no way out by itself.
const badPart = 0.05

// Looks are what is looked at again and again while there is a way back.
type Looks struct {
	// instances, builds, configuration and environment, against what they were when it carried everything
	Same  Look `json:"same,omitzero"`
	Smoke Look `json:"smoke,omitzero"` // its smoke checks, and what it depends on
	Data  Look `json:"data,omitzero"`  // the plan's own checks of the way back
}

// Look is what one look found.
type Look struct {
	At     time.Time `json:"at,omitzero"` // when it was over; zero if there was none yet
	Of     int       `json:"of"`          // what was looked at
	Failed []Failing `json:"failed,omitempty"`
	Error  string    `json:"error,omitempty"` // why it could not be looked at; what was found before stays
}

// Failing is something that is not as it should be.
type Failing struct {
	What  string `json:"what"`            // a check, or what differs
	Where string `json:"where,omitempty"` // an instance, or a part
	Said  string `json:"said"`
}

// Instances are how many there are of whom something fails.
func (l Look) where() int {
	names := map[string]bool{}
	for _, f := range l.Failed {
		names[f.Where] = true
	}
	return len(names)
}

// Condition is one part of the judgement. Its kind says which of the other fields mean
// something.
type Condition struct {
	Kind      Kind          `json:"kind"`
	State     State         `json:"state"`
	Side      split.Side    `json:"side"`
	Healthy   int           `json:"healthy,omitempty"`   // Healthy
	Instances int           `json:"instances,omitempty"` // Healthy
	Retired   bool          `json:"retired,omitempty"`   // Healthy
	Stale     time.Duration `json:"stale,omitempty"`     // Healthy
	// Carries: what is left of the capacity when it has all requests, of these; negative if too little
	Headroom  float64   `json:"headroom,omitempty"`
	Rate      float64   `json:"rate,omitempty"`      // Carries
	Peak      float64   `json:"peak,omitempty"`      // Carries
	Capacity  float64   `json:"capacity,omitempty"`  // Carries; 0 if not known
	Read      bool      `json:"read,omitempty"`      // Front
	Elsewhere bool      `json:"elsewhere,omitempty"` // Front
	Rehearsal Rehearsal `json:"rehearsal,omitzero"`  // Front
	Takes     Spread    `json:"takes,omitzero"`      // Front
	Look      Look      `json:"look,omitzero"`       // Same, Smoke, Data
	Bad       float64   `json:"bad,omitempty"`       // Answers: the part that fails now
}

// Kind is what a condition is about.
type Kind string

// The kinds, in their order.
const (
	Healthy Kind = "healthy"
	Answers Kind = "answers" // only where it fails
	Carries Kind = "carries all"
	Front   Kind = "front"
	Same    Kind = "as it was"
	Smoke   Kind = "checks"
	Data    Kind = "data"
)

// Readiness is the judgement: the worst of its conditions.
type Readiness struct {
	State      State       `json:"state"` // "" if there is nothing to go back from
	Worst      Condition   `json:"worst,omitzero"`
	Conditions []Condition `json:"conditions"`
}

// Judge weighs the facts. What was not looked at yet is no condition.
func Judge(f Facts) Readiness {
	r := Readiness{State: Open, Conditions: []Condition{healthy(f), carries(f), front(f)}}
	if f.Bad >= badPart {
		r.Conditions = slices.Insert(r.Conditions, 1, Condition{Kind: Answers, State: Narrow, Side: f.Side, Bad: f.Bad})
	}
	for _, l := range []struct {
		kind Kind
		look Look
		bad  State // where something fails at every instance
	}{{Same, f.Looks.Same, Narrow}, {Smoke, f.Looks.Smoke, Closed}, {Data, f.Looks.Data, Closed}} {
		if !l.look.At.IsZero() || l.look.Error != "" {
			r.Conditions = append(r.Conditions, looked(f, l.kind, l.look, l.bad))
		}
	}
	rank := map[State]int{Open: 0, Narrow: 1, Closed: 2}
	for _, c := range r.Conditions {
		if rank[c.State] > rank[r.State] {
			r.State, r.Worst = c.State, c
		}
	}
	return r
}

func healthy(f Facts) Condition {
	c := Condition{Kind: Healthy, State: Open, Side: f.Side, Healthy: f.Healthy, Instances: f.Instances,
		Retired: f.Retired, Stale: f.Stale}
	switch {
	case f.Retired, f.Healthy == 0:
		c.State = Closed
	case f.Stale > 0, f.Healthy < f.Instances:
		c.State = Narrow
	}
	return c
}

// carries holds the capacity against what is measured, and against the day's peak, which may
// come again.
func carries(f Facts) Condition {
	c := Condition{Kind: Carries, State: Open, Side: f.Side, Rate: f.Rate, Peak: f.Peak, Capacity: f.Capacity}
	if f.Capacity > 0 && f.Rate > 0 {
		c.Headroom = f.Capacity/f.Rate - 1
	}
	if f.Capacity > 0 && max(f.Rate, f.Peak) > f.Capacity {
		c.State = Narrow
	}
	return c
}

func front(f Facts) Condition {
	c := Condition{Kind: Front, State: Open, Side: f.Side, Read: f.FrontRead, Elsewhere: f.Elsewhere,
		Rehearsal: f.Rehearsal, Takes: f.Rehearsed}
	switch {
	case !f.FrontRead:
		c.State = Closed
	case f.Rehearsal.Broken: // and yet it was read: the next rehearsal tells
		c.State = Narrow
	case f.Rehearsal.Failed != "":
		c.State = Closed
	case f.Elsewhere:
		c.State = Narrow
	}
	return c
}

// looked judges what a look found. Where only some instances are concerned the others are a way
// back.
func looked(f Facts, kind Kind, l Look, bad State) Condition {
	c := Condition{Kind: kind, State: Open, Side: f.Side, Look: l}
	switch {
	case len(l.Failed) > 0 && (kind == Data || l.where() >= f.Instances):
		c.State = bad
	case len(l.Failed) > 0:
		c.State = Narrow
	}
	return c
}

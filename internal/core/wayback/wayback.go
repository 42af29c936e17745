package wayback

import (
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
	Side       split.Side    // the side to go back to
	Healthy    int           // its healthy instances
	Instances  int           // all its instances
	Load       float64       // all requests against what its healthy instances carry; 0 if not known
	Stale      time.Duration // age of the health readings if they are too old to count, else 0
	FrontRead  bool          // the front answers
	Blocked    string        // why the front would not take a change, as it says itself; "" if it would
	Switched   time.Duration // how long the last change of the share took at the front
	SwitchedAt time.Time     // zero if there was none
	Retired    bool          // the side was given up
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
	Load      float64       `json:"load,omitempty"`      // Carries; 0 if not known
	Read      bool          `json:"read,omitempty"`      // Front
	Blocked   string        `json:"blocked,omitempty"`   // Front
	Took      time.Duration `json:"took,omitempty"`      // Switched
	At        time.Time     `json:"at,omitzero"`         // Switched; zero if there was none
}

// Kind is what a condition is about.
type Kind string

// The kinds, in their order.
const (
	Healthy  Kind = "healthy"
	Carries  Kind = "carries all"
	Front    Kind = "front"
	Switched Kind = "last switch"
)

// Readiness is the judgement: the worst of its conditions.
type Readiness struct {
	State      State       `json:"state"` // "" if there is nothing to go back from
	Worst      Condition   `json:"worst,omitzero"`
	Conditions []Condition `json:"conditions"`
}

// Judge weighs the facts.
func Judge(f Facts) Readiness {
	r := Readiness{State: Open, Conditions: []Condition{healthy(f), carries(f), front(f), {Kind: Switched, State: Open, Side: f.Side, Took: f.Switched, At: f.SwitchedAt}}}
	rank := map[State]int{Open: 0, Narrow: 1, Closed: 2}
	for _, c := range r.Conditions {
		if rank[c.State] > rank[r.State] {
			r.State, r.Worst = c.State, c
		}
	}
	return r
}

func healthy(f Facts) Condition {
	c := Condition{Kind: Healthy, State: Open, Side: f.Side, Healthy: f.Healthy, Instances: f.Instances, Retired: f.Retired, Stale: f.Stale}
	switch {
	case f.Retired, f.Healthy == 0:
		c.State = Closed
	case f.Stale > 0, f.Healthy < f.Instances:
		c.State = Narrow
	}
	return c
}

func carries(f Facts) Condition {
	c := Condition{Kind: Carries, State: Open, Side: f.Side, Load: max(f.Load, 0)}
	if f.Load > 1 {
		c.State = Narrow
	}
	return c
}

func front(f Facts) Condition {
	c := Condition{Kind: Front, State: Open, Side: f.Side, Read: f.FrontRead, Blocked: f.Blocked}
	if !f.FrontRead || f.Blocked != "" {
		c.State = Closed
	}
	return c
}

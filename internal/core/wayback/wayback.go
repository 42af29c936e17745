package wayback

import (
	"fmt"
	"time"

	"vaiven/internal/core/route"
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
	Switched   time.Duration // how long the last change of the share took at the front
	SwitchedAt time.Time     // zero if there was none
	Retired    bool          // the side was given up
}

// Condition is one line of the judgement.
type Condition struct {
	Name  string `json:"name"`
	Text  string `json:"text"`
	State State  `json:"state"`
}

// Readiness is the judgement: the worst of its conditions, and why.
type Readiness struct {
	State      State       `json:"state"`
	Why        string      `json:"why,omitempty"`
	Conditions []Condition `json:"conditions"`
}

// Judge weighs the facts as of now.
func Judge(f Facts, now time.Time) Readiness {
	r := Readiness{State: Open, Conditions: []Condition{healthy(f), carries(f), front(f), switched(f, now)}}
	rank := map[State]int{Open: 0, Narrow: 1, Closed: 2}
	for _, c := range r.Conditions {
		if rank[c.State] > rank[r.State] {
			r.State, r.Why = c.State, c.Name+": "+c.Text
		}
	}
	return r
}

func healthy(f Facts) Condition {
	c := Condition{Name: f.Side.String() + " healthy", Text: fmt.Sprintf("%d of %d", f.Healthy, f.Instances), State: Open}
	switch {
	case f.Retired:
		c.Text, c.State = "retired", Closed
	case f.Instances == 0:
		c.Text, c.State = "no instances", Closed
	case f.Healthy == 0:
		c.State = Closed
	case f.Stale > 0:
		c.Text, c.State = "not read for "+route.Short(f.Stale), Narrow
	case f.Healthy < f.Instances:
		c.State = Narrow
	}
	return c
}

func carries(f Facts) Condition {
	c := Condition{Name: f.Side.String() + " carries all", State: Open}
	switch {
	case f.Load <= 0:
		c.Text = "capacity not in the plan"
	default:
		c.Text = fmt.Sprintf("%.0f %% of capacity", 100*f.Load)
		if f.Load > 1 {
			c.State = Narrow
		}
	}
	return c
}

func front(f Facts) Condition {
	if !f.FrontRead {
		return Condition{Name: "front", Text: "does not answer", State: Closed}
	}
	return Condition{Name: "front", Text: "answers", State: Open}
}

func switched(f Facts, now time.Time) Condition {
	c := Condition{Name: "last switch", Text: "none yet", State: Open}
	if !f.SwitchedAt.IsZero() {
		c.Text = fmt.Sprintf("%s ago, %s", route.Short(now.Sub(f.SwitchedAt).Truncate(time.Second)), milliseconds(f.Switched))
	}
	return c
}

func milliseconds(d time.Duration) string {
	if d < 10*time.Millisecond {
		return fmt.Sprintf("%.1f ms", d.Seconds()*1000)
	}
	return fmt.Sprintf("%.0f ms", d.Seconds()*1000)
}

package wayback

import (
	"encoding/json"
	"reflect"
	"time"

	"vaiven/internal/core/oneof"
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

// Condition is one part of the judgement.
type Condition struct {
	State State
	Side  split.Side
	Is    ConditionKind
}

// ConditionKind is one of the types below, which [Conditions] lists.
type ConditionKind interface{ condition() string }

// Conditions are all kinds that there are.
var Conditions = oneof.New[ConditionKind]("kind", ConditionKind.condition,
	func(n oneof.Newer) ConditionKind { return Newer{n} },
	Healthy{}, Answers{}, Carries{}, Front{}, Same{}, Smoke{}, Data{})

type (
	// Healthy says how many of the side's instances are.
	Healthy struct {
		Healthy   int           `json:"healthy"`
		Instances int           `json:"instances"`
		Retired   bool          `json:"retired,omitempty"`
		Stale     time.Duration `json:"stale,omitempty"` // since the reading, where that is long ago
	}
	// Answers says which part of its answers fails now. It is a condition only where many do.
	Answers struct {
		Bad float64 `json:"bad"`
	}
	// Carries says whether the side has room for all requests.
	Carries struct {
		// what is left of the capacity when it has all requests, of these; negative if too little
		Headroom float64 `json:"headroom,omitempty"`
		Rate     float64 `json:"rate,omitempty"`
		Peak     float64 `json:"peak,omitempty"`
		Capacity float64 `json:"capacity,omitempty"` // 0 if not known
	}
	// Front says how well the front goes back.
	Front struct {
		Read      bool      `json:"read,omitempty"`
		Elsewhere bool      `json:"elsewhere,omitempty"`
		Rehearsal Rehearsal `json:"rehearsal,omitzero"`
		Takes     Spread    `json:"takes,omitzero"`
	}
	// Same says whether the side is as it was.
	Same struct {
		Look Look `json:"look"`
	}
	// Smoke says what the side's checks say.
	Smoke struct {
		Look Look `json:"look"`
	}
	// Data says what the plan's own checks of the way back say.
	Data struct {
		Look Look `json:"look"`
	}
	// Newer is a kind of condition of a newer Vaiven.
	Newer struct{ oneof.Newer }
)

// The names of the kinds are part of the logbook's format.
func (Healthy) condition() string { return "healthy" }
func (Answers) condition() string { return "answers" }
func (Carries) condition() string { return "carries all" }
func (Front) condition() string   { return "front" }
func (Same) condition() string    { return "as it was" }
func (Smoke) condition() string   { return "checks" }
func (Data) condition() string    { return "data" }
func (n Newer) condition() string { return n.Called }

func (s Same) looked() Look  { return s.Look }
func (s Smoke) looked() Look { return s.Look }
func (d Data) looked() Look  { return d.Look }

// Looked is what was looked at again and again, if the condition comes of that.
func (c Condition) Looked() (Look, bool) {
	l, ok := c.Is.(interface{ looked() Look })
	if !ok {
		return Look{}, false
	}
	return l.looked(), true
}

// Known reports whether it was found out: what was never looked at or never rehearsed, or has no figure to go by, is
// believed and no more.
func (c Condition) Known() bool {
	if l, looked := c.Looked(); looked {
		return !l.At.IsZero()
	}
	switch is := c.Is.(type) {
	case Carries:
		return is.Capacity > 0
	case Front:
		return is.Read && is.Takes.Of > 0
	}
	return true
}

// Kind is the name of what the condition is about, "" for none.
func (c Condition) Kind() string { return Conditions.Name(c.Is) }

// Value is what it is about.
func (c Condition) Value() any { return c.Is }

// Types are all kinds of condition.
func (c Condition) Types() map[string]reflect.Type { return Conditions.Types() }

// Head is what all conditions have.
func (c Condition) Head() any { return conditionHead{c.State, c.Side} }

type conditionHead struct {
	State State      `json:"state"`
	Side  split.Side `json:"side"`
}

// MarshalJSON writes one flat object.
func (c Condition) MarshalJSON() ([]byte, error) { return Conditions.Write(c.Is, c.Head()) }

// UnmarshalJSON reads what MarshalJSON writes.
func (c *Condition) UnmarshalJSON(data []byte) error {
	var h conditionHead
	if err := json.Unmarshal(data, &h); err != nil {
		return err
	}
	is, err := Conditions.Read(data)
	*c = Condition{h.State, h.Side, is}
	return err
}

// Readiness is the judgement: the worst of its conditions.
type Readiness struct {
	State      State       `json:"state"` // "" if there is nothing to go back from
	Worst      Condition   `json:"worst,omitzero"`
	Conditions []Condition `json:"conditions"`
}

// Judge weighs the facts. What was not looked at yet is no condition.
func Judge(f Facts) Readiness {
	r := Readiness{State: Open}
	add := func(state State, is ConditionKind) {
		r.Conditions = append(r.Conditions, Condition{state, f.Side, is})
	}
	add(healthy(f))
	if f.Bad >= badPart {
		add(Narrow, Answers{f.Bad})
	}
	add(carries(f))
	add(front(f))
	for _, l := range []struct {
		look Look
		bad  State // where something fails at every instance
		is   ConditionKind
	}{
		{f.Looks.Same, Narrow, Same{f.Looks.Same}}, {f.Looks.Smoke, Closed, Smoke{f.Looks.Smoke}},
		{f.Looks.Data, Closed, Data{f.Looks.Data}},
	} {
		if l.look.At.IsZero() && l.look.Error == "" {
			continue
		}
		state := Open
		if _, data := l.is.(Data); len(l.look.Failed) > 0 && (data || l.look.where() >= f.Instances) {
			state = l.bad
		} else if len(l.look.Failed) > 0 { // the other instances are a way back
			state = Narrow
		}
		add(state, l.is)
	}
	rank := map[State]int{Open: 0, Narrow: 1, Closed: 2}
	for _, c := range r.Conditions {
		if rank[c.State] > rank[r.State] {
			r.State, r.Worst = c.State, c
		}
	}
	return r
}

func healthy(f Facts) (State, ConditionKind) {
	is := Healthy{f.Healthy, f.Instances, f.Retired, f.Stale}
	switch {
	case f.Retired, f.Healthy == 0:
		return Closed, is
	case f.Stale > 0, f.Healthy < f.Instances:
		return Narrow, is
	}
	return Open, is
}

// carries holds the capacity against what is measured, and against the day's peak, which may
// come again.
func carries(f Facts) (State, ConditionKind) {
	is := Carries{Rate: f.Rate, Peak: f.Peak, Capacity: f.Capacity}
	if f.Capacity > 0 && f.Rate > 0 {
		is.Headroom = f.Capacity/f.Rate - 1
	}
	if f.Capacity > 0 && max(f.Rate, f.Peak) > f.Capacity {
		return Narrow, is
	}
	return Open, is
}

func front(f Facts) (State, ConditionKind) {
	is := Front{f.FrontRead, f.Elsewhere, f.Rehearsal, f.Rehearsed}
	switch {
	case !f.FrontRead:
		return Closed, is
	case f.Rehearsal.Broken: // and yet it was read: the next rehearsal tells
		return Narrow, is
	case f.Rehearsal.Failed != "":
		return Closed, is
	case f.Elsewhere, f.Rehearsal.Alone != "":
		return Narrow, is
	}
	return Open, is
}

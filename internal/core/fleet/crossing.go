package fleet

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Stage is how far a member of a fleet's crossing is.
type Stage string

// The stages.
const (
	Waits    Stage = "waits"
	Crosses  Stage = "crosses"
	Arrived  Stage = "arrived" // it gets all requests, and its old side is kept
	Settled  Stage = "settled"
	GoesBack Stage = "goes back"
	Back     Stage = "rolled back" // or called off, or refused: it is where it was
	NotBegun Stage = "not begun"   // and it is not any more
)

// there reports whether it gets all requests.
func (s Stage) there() bool { return s == Arrived || s == Settled }

// Lost reports whether it has come to nothing, or is about to.
func (s Stage) Lost() bool { return s == GoesBack || s == Back || s == NotBegun }

// Over reports whether nothing more comes of it.
func (s Stage) Over() bool { return s == Settled || s == Back || s == NotBegun }

// Kind is what an event of a fleet's crossing says.
type Kind string

// The kinds. Their names are part of the logbook's format.
const (
	Begun  Kind = "begun"  // the fleet's crossing; By, Why, Fleet, Asked, Versions, Turns, Numbers
	Begins Kind = "begins" // a member's, from now on; Name
	Is     Kind = "is"     // how far a member is; Name, Stage, Why
	Undone Kind = "undone" // a member is rolled back with another one; Name, Why
	Ended  Kind = "ended"  // nothing more comes of any
)

// Event is one thing that happened in a fleet's crossing.
type Event struct {
	At    time.Time `json:"at"`
	Kind  Kind      `json:"what"`
	Name  string    `json:"name,omitempty"` // of a member
	Stage Stage     `json:"stage,omitempty"`
	Why   string    `json:"why,omitempty"`

	Number   int               `json:"number,omitempty"` // of the fleet's crossing, from 1
	By       string            `json:"by,omitempty"`
	Fleet    *Fleet            `json:"fleet,omitempty"`
	Asked    map[string]string `json:"asked,omitempty"`    // version of each that was named
	Versions map[string]string `json:"versions,omitempty"` // of those that cross
	Turns    []string          `json:"turns,omitempty"`    // in the order in which they could go
	Numbers  map[string]int    `json:"numbers,omitempty"`  // of the last crossing of each, before
}

// Crossing is the crossing of a fleet, as of its last event. The zero value is none.
type Crossing struct {
	Number int
	Fleet  *Fleet
	Asked  map[string]string // version of each that was named, also of those that ran it already
	By     string
	Begun  time.Time
	Ended  time.Time // zero while it goes on
	Parts  []Part    // in the order in which they could go
}

// Part is a member's crossing.
type Part struct {
	Name    string
	Version string
	Before  int // number of its service's last crossing before
	Stage   Stage
	Why     string
	Turn    int       // as the how manieth it was begun, from 1; 0 if it was not
	Undone  time.Time // since when it is to be rolled back with another one
	Because string    // of that
}

// UnderWay reports whether it has begun and not ended.
func (c Crossing) UnderWay() bool { return c.Number > 0 && c.Ended.IsZero() }

// Part is the one of a name, and false if there is none.
func (c Crossing) Part(name string) (Part, bool) {
	if n := c.index(name); n >= 0 {
		return c.Parts[n], true
	}
	return Part{}, false
}

func (c Crossing) index(name string) int {
	return slices.IndexFunc(c.Parts, func(p Part) bool { return p.Name == name })
}

// Names are those that cross.
func (c Crossing) Names() (names []string) {
	for _, p := range c.Parts {
		names = append(names, p.Name)
	}
	return names
}

// Apply is the crossing after an event. It cannot fail, and leaves the one before as it was.
func Apply(c Crossing, e Event) Crossing {
	if e.Kind == Begun && e.Fleet != nil {
		c = Crossing{Number: e.Number, Fleet: e.Fleet, Asked: e.Asked, By: e.By, Begun: e.At}
		for _, name := range e.Turns {
			c.Parts = append(c.Parts,
				Part{Name: name, Version: e.Versions[name], Before: e.Numbers[name], Stage: Waits})
		}
		return c
	}
	if e.Kind == Ended {
		c.Ended = e.At
		return c
	}
	n := c.index(e.Name)
	if n < 0 {
		return c
	}
	c.Parts = slices.Clone(c.Parts)
	switch p := &c.Parts[n]; e.Kind {
	case Begins:
		p.Stage = Crosses
		for _, other := range c.Parts {
			p.Turn = max(p.Turn, other.Turn+1)
		}
	case Is:
		p.Stage, p.Why = e.Stage, e.Why
	case Undone:
		p.Undone, p.Because = e.At, e.Why
	}
	return c
}

// undoneFor is how long one that is rolled back with another holds up the one that was begun before it.
const undoneFor = 10 * time.Second

// Seen is what comes of a member being so far. What is over stays so.
func (c Crossing) Seen(at time.Time, name string, stage Stage, why string) []Event {
	p, ok := c.Part(name)
	if !ok || p.Stage == Waits || p.Stage.Over() || p.Stage == stage {
		return nil
	}
	return []Event{{At: at, Kind: Is, Name: name, Stage: stage, Why: why}}
}

// Proceed is what is to be done by now: who is given up, who is rolled back with another one, who begins, and that all
// is over.
func (c Crossing) Proceed(at time.Time) (events []Event) {
	if !c.UnderWay() {
		return nil
	}
	then := func(e Event) {
		e.At = at
		c, events = Apply(c, e), append(events, e)
	}
	for again := true; again; { // one that is given up may be one that another needs
		again = false
		for _, p := range c.Parts {
			if why := c.hopeless(p); p.Stage == Waits && why != "" {
				then(Event{Kind: Is, Name: p.Name, Stage: NotBegun, Why: why})
				again = true
			}
		}
	}
	c.undo(at, then)
	for _, name := range c.ready() {
		then(Event{Kind: Begins, Name: name})
	}
	if !slices.ContainsFunc(c.Parts, func(p Part) bool { return !p.Stage.Over() }) {
		then(Event{Kind: Ended})
	}
	return events
}

// hopeless is why a member that waits does not begin any more, "" if it may.
func (c Crossing) hopeless(p Part) string {
	m, _ := c.Fleet.Member(p.Name)
	for _, other := range c.Parts {
		needs := slices.ContainsFunc(m.Needs, func(e Edge) bool { return e.To == other.Name })
		rolled := other.Stage == GoesBack || other.Stage == Back
		switch {
		case other.Name == p.Name || !other.Stage.Lost():
		case needs:
			return fmt.Sprintf("it needs %s, which %s", other.Name, came(other))
		case c.Fleet.together(p.Name, other.Name):
			return fmt.Sprintf("both or neither with %s, which %s", other.Name, came(other))
		case c.Fleet.Stops == StopsAll && rolled, c.Fleet.Stops == StopsDependents && rolled &&
			slices.Contains(c.Fleet.Dependents(other.Name), p.Name):
			return fmt.Sprintf("%s %s", other.Name, came(other))
		}
	}
	return ""
}

// came is what one that is lost has come to, after its name.
func came(p Part) string {
	switch p.Stage {
	case NotBegun:
		return "is not begun"
	case GoesBack:
		return "rolls back"
	}
	return "was rolled back"
}

// together reports whether two members arrive both or not at all.
func (f *Fleet) together(a, b string) bool {
	return slices.ContainsFunc(f.Both, func(g []string) bool { return slices.Contains(g, a) && slices.Contains(g, b) })
}

// InBoth reports whether a member arrives only with others.
func (f *Fleet) InBoth(name string) bool {
	return slices.ContainsFunc(f.Both, func(g []string) bool { return slices.Contains(g, name) })
}

// undo has those rolled back that arrive both or neither with one that is lost: the one that was begun last first, and
// each after the one before is back, or has had its time.
func (c Crossing) undo(at time.Time, then func(Event)) {
	parts := slices.DeleteFunc(slices.Clone(c.Parts), func(p Part) bool { return p.Turn == 0 })
	slices.SortFunc(parts, func(a, b Part) int { return cmp.Compare(b.Turn, a.Turn) })
	for _, p := range parts {
		if !p.Undone.IsZero() && !p.Stage.Over() && at.Sub(p.Undone) < undoneFor {
			return
		}
		if p.Undone.IsZero() && (p.Stage == Crosses || p.Stage == Arrived) {
			n := slices.IndexFunc(c.Parts, func(o Part) bool {
				return o.Name != p.Name && o.Stage.Lost() && c.Fleet.together(p.Name, o.Name)
			})
			if n < 0 {
				continue
			}
			o := c.Parts[n]
			then(Event{Kind: Undone, Name: p.Name, Why: fmt.Sprintf("both or neither with %s, which %s", o.Name, came(o))})
			return
		}
	}
}

// ready are the members that begin now.
func (c Crossing) ready() (names []string) {
	room := len(c.Parts)
	if c.Fleet.AtOnce > 0 {
		room = c.Fleet.AtOnce
	}
	stages := map[string]Stage{}
	for _, p := range c.Parts {
		stages[p.Name] = p.Stage
		if p.Stage == Crosses || p.Stage == GoesBack {
			room--
		}
	}
	for _, p := range c.Parts {
		there := !slices.ContainsFunc(c.Fleet.before(p.Name, c.Names()), func(b string) bool {
			return !stages[b].there() && !stages[b].Over() // by a rule alone one may go after one that was given up
		})
		if p.Stage == Waits && there && room > 0 {
			names = append(names, p.Name)
			room--
		}
	}
	return names
}

// AllThere reports whether all that a member arrives with have: its keep may end.
func (c Crossing) AllThere(name string) bool {
	if c.Fleet == nil {
		return false
	}
	return !slices.ContainsFunc(c.Parts, func(p Part) bool {
		return (p.Name == name || c.Fleet.together(name, p.Name)) && (!p.Stage.there() || !p.Undone.IsZero())
	})
}

// Counts is how many have arrived, were rolled back, and were not begun.
func (c Crossing) Counts() (there, back, not int) {
	for _, p := range c.Parts {
		switch {
		case p.Stage.there():
			there++
		case p.Stage == NotBegun:
			not++
		case p.Stage.Lost():
			back++
		}
	}
	return there, back, not
}

// Pair is two versions that talk to each other and have not before.
type Pair struct {
	Name    string        `json:"name"` // who needs the other
	Version string        `json:"version"`
	To      string        `json:"to"`
	Other   string        `json:"other"` // version of that
	From    time.Duration `json:"from"`  // since the beginning
	Until   time.Duration `json:"until"`
	Stays   bool          `json:"stays,omitempty"` // also when all have arrived
}

// String is the pair in few words.
func (p Pair) String() string {
	return fmt.Sprintf("%s %s with %s %s", p.Name, p.Version, p.To, p.Other)
}

// Mixed are the pairs of an old version with a new one that talk to each other while members cross. Who needs another
// one crosses after it: its old version meets the other's new one, from when that begins until its own new one has
// arrived. Its new version meets the other's old one only where that does not cross. Versions that are not known are
// "". They are in the order in which they begin.
func (f *Fleet) Mixed(c Course, old, fresh map[string]string) (pairs []Pair) {
	turns := map[string]Turn{}
	for _, t := range c.Turns {
		turns[t.Name] = t
	}
	for _, m := range f.Members {
		for _, e := range m.Needs {
			caller, calls := turns[m.Name]
			called, isCalled := turns[e.To]
			p := Pair{Name: m.Name, To: e.To, Until: c.Total, Stays: calls != isCalled}
			switch {
			case isCalled:
				p.Version, p.Other, p.From = old[m.Name], fresh[e.To], called.Begins
				if calls {
					p.Until = caller.Ends()
				}
			case calls:
				p.Version, p.Other, p.From = fresh[m.Name], old[e.To], caller.Begins
			default:
				continue
			}
			pairs = append(pairs, p)
		}
	}
	slices.SortStableFunc(pairs, func(a, b Pair) int {
		return cmp.Or(cmp.Compare(a.From, b.From), strings.Compare(a.Name, b.Name))
	})
	return pairs
}

// Overlap is how much longer than by its own plan a member's two sides stand, because it arrives only with others;
// keep is how long it keeps its old side by its plan.
func (f *Fleet) Overlap(c Course, name string, keep time.Duration) time.Duration {
	own, last := time.Duration(0), time.Duration(0)
	for _, t := range c.Turns {
		if t.Name == name {
			own = t.Ends()
		}
		if f.together(name, t.Name) {
			last = max(last, t.Ends())
		}
	}
	return max(last-own-keep, 0)
}

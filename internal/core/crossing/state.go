package crossing

import (
	"fmt"
	"time"

	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
)

// Stage is how far a crossing is.
type Stage string

// The stages in their order, then the ends.
const (
	None       Stage = "" // no crossing has begun
	Raise      Stage = "raise"
	Prove      Stage = "prove"
	Shift      Stage = "shift"
	Keep       Stage = "keep"
	Settled    Stage = "settled"
	RolledBack Stage = "rolled back"
	CalledOff  Stage = "called off"
)

// Over reports whether the crossing has ended.
func (s Stage) Over() bool { return s == Settled || s == RolledBack || s == CalledOff }

// UnderWay reports whether the crossing has begun and not ended.
func (s Stage) UnderWay() bool { return s != None && !s.Over() }

// Effect is something to be performed. Its report carries its ID; a report on
// any other than the pending effect changes nothing.
type Effect struct {
	ID      int         `json:"id"`
	Do      Deed        `json:"do"`
	Side    split.Side  `json:"side"`              // RaiseSide, ProveSide, RetireSide
	Version string      `json:"version,omitempty"` // RaiseSide
	Share   split.Share `json:"share"`             // ApplyShare, on green
	Home    bool        `json:"home,omitempty"`    // ApplyShare: whatever the front has now, do it
}

// Deed is the kind of an effect.
type Deed string

// The deeds.
const (
	RaiseSide  Deed = "raise"
	ProveSide  Deed = "prove"
	ApplyShare Deed = "apply"
	RetireSide Deed = "retire"
)

// String is the effect in words: "apply 25 % (#4)".
func (e Effect) String() string {
	switch e.Do {
	case RaiseSide:
		return fmt.Sprintf("raise %v at %s (#%d)", e.Side, e.Version, e.ID)
	case ApplyShare:
		home := ""
		if e.Home {
			home = " home"
		}
		return fmt.Sprintf("apply%s %v (#%d)", home, e.Share, e.ID)
	default:
		return fmt.Sprintf("%s %v (#%d)", e.Do, e.Side, e.ID)
	}
}

// State is a crossing as of its last event. The zero value is one that has not
// begun.
type State struct {
	Stage       Stage         `json:"stage"`
	Service     string        `json:"service"`
	Number      int           `json:"number"`
	Target      split.Side    `json:"target"` // the side crossed to
	Version     string        `json:"version"`
	Build       string        `json:"build,omitempty"`
	LiveVersion string        `json:"live_version,omitempty"`
	Route       route.Route   `json:"route"`
	Keep        time.Duration `json:"keep"`
	Then        plan.Then     `json:"then"`
	Hold        bool          `json:"hold,omitempty"`
	Built       time.Time     `json:"built,omitzero"`
	Others      []Choice      `json:"others,omitempty"` // versions of the other parts

	Share     split.Share   `json:"share"`           // on green, as the front last had it
	Leg       int           `json:"leg"`             // the leg in force, -1 before the first
	Since     time.Time     `json:"since"`           // when the stage or leg began
	Due       time.Time     `json:"due,omitzero"`    // when leg or keep end by themselves; zero while frozen
	Left      time.Duration `json:"left,omitempty"`  // while frozen, what is left until then
	Pending   Effect        `json:"pending"`         // the effect whose report is awaited; ID 0 if none
	Effects   int           `json:"effects"`         // effects asked for so far, the last one's ID
	Proven    bool          `json:"proven"`          // the target passed its proof
	Moved     bool          `json:"moved,omitempty"` // traffic was ever sent to the target
	GoingBack bool          `json:"going_back,omitempty"`
	Retiring  bool          `json:"retiring,omitempty"` // a side is being given up
	Frozen    string        `json:"frozen,omitempty"`   // why the route stands still, "" if it does not
	Waiting   string        `json:"waiting,omitempty"`  // what a person is asked, "" if nobody is
	Asked     []string      `json:"asked,omitempty"`    // findings of the proof that a person may accept
	Accepted  []string      `json:"accepted,omitempty"` // those that somebody did
	Foreign   bool          `json:"foreign,omitempty"`  // somebody else changed the share, and nobody has said what to do
	Ours      split.Share   `json:"ours,omitempty"`     // what it was before, while Foreign
	Trouble   string        `json:"trouble,omitempty"`  // the last thing that went wrong
	Why       string        `json:"why,omitempty"`      // why it ended as it did, or goes back
}

// Past is an earlier crossing, in few words.
type Past struct {
	Number  int       `json:"number"`
	Version string    `json:"version"`
	Build   string    `json:"build,omitempty"`
	Stage   Stage     `json:"stage"`
	Begun   time.Time `json:"begun"`
}

// Home is the share on green with all traffic on the side crossed from.
func (s State) Home() split.Share { return split.Toward(s.Target, 0) }

// Full is the share on green with all traffic on the target.
func (s State) Full() split.Share { return split.Toward(s.Target, split.Whole) }

// Part is the target's part of the traffic.
func (s State) Part() split.Share { return s.Share.Of(s.Target) }

// Live is the side that carries the service: the target once the crossing has
// settled, until then the side crossed from.
func (s State) Live() split.Side {
	if s.Stage == Settled {
		return s.Target
	}
	return s.Target.Other()
}

// Remaining is how long leg or keep still last as of now, and false if nothing
// is timed.
func (s State) Remaining(now time.Time) (time.Duration, bool) {
	switch {
	case s.Frozen != "" && (s.Stage == Shift || s.Stage == Keep):
		return s.Left, true
	case s.Due.IsZero():
		return 0, false
	}
	return max(s.Due.Sub(now), 0), true
}

// String is the state on one line, for tests and the log.
func (s State) String() string {
	text := string(s.Stage)
	if s.Stage == None {
		text = "nothing begun"
	}
	if s.Stage == Shift || s.Stage == Keep {
		text += fmt.Sprintf(", leg %d of %d, %v on green", s.Leg+1, len(s.Route), s.Share)
	}
	for _, flag := range []struct {
		on   bool
		text string
	}{
		{s.GoingBack, "going back"},
		{s.Retiring, "retiring"},
		{s.Frozen != "", "frozen: " + s.Frozen},
		{s.Waiting != "", "waiting: " + s.Waiting},
		{s.Trouble != "", "trouble: " + s.Trouble},
		{s.Why != "", "because: " + s.Why},
	} {
		if flag.on {
			text += ", " + flag.text
		}
	}
	return text
}

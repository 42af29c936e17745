package crossing

import (
	"fmt"
	"strings"
	"time"

	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
)

// Cause is why something stands still, goes back or has ended. Sentences are made of it elsewhere.
type Cause = oneof.One[CauseKind, causes]

// CauseKind is one of the types below, which [Causes] lists.
type CauseKind interface{ cause() string }

type causes struct{}

// Set lists the types.
func (causes) Set() *oneof.Set[CauseKind] { return Causes }

// Causes are all kinds of cause that there are.
var Causes = oneof.New[CauseKind]("kind", CauseKind.cause, func(n oneof.Newer) CauseKind { return Newer{n} },
	ByHand{}, Steered{}, ByGuard{}, NobodyHome{}, NobodyLeft{}, HomeIll{}, NotKnown{}, ByProof{}, ByFront{}, ByRaise{},
	Foreign{}, ByOrder{}, FoundAgain{}, Unwatched{}, FoundHome{}, NotRaised{}, WayClosed{}, Declined{}, Overload{})

// Because is a cause of a kind.
func Because(kind CauseKind) Cause { return Cause{Is: kind} }

type (
	// ByHand says that a person said so.
	ByHand struct {
		Why string `json:"why,omitempty"` // in their own words
	}
	// Steered says that a person moved the share.
	Steered struct{}
	// ByGuard says that a guard tripped.
	ByGuard struct {
		Alarm Alarm   `json:"alarm"`
		Home  Serving `json:"home,omitzero"` // where it does not go back
	}
	// NobodyHome says that all would go back to a side that cannot serve: because of a guard, or a person's word.
	NobodyHome struct {
		Alarm Alarm   `json:"alarm,omitzero"`
		Why   string  `json:"why,omitempty"`
		Home  Serving `json:"home"`
	}
	// NobodyLeft says that nobody of the target can serve any more, and that more was to go there.
	NobodyLeft struct {
		Target Serving `json:"target"`
	}
	// HomeIll says that the side crossed from, which gets requests, does not serve as it should.
	HomeIll struct {
		Home Serving `json:"home"`
	}
	// NotKnown says what has to be known for the route to go on, and was not for too long.
	NotKnown struct {
		Lacks []Lack `json:"lacks"`
	}
	// ByProof says what checks found, or why there is no proof.
	ByProof struct {
		Findings []proof.Finding `json:"findings,omitempty"`
		Trouble  Trouble         `json:"trouble,omitzero"`
	}
	// ByFront says why the front did not take a share.
	ByFront struct {
		Trouble Trouble `json:"trouble"`
	}
	// ByRaise says why the target did not get the instances that a leg wants.
	ByRaise struct {
		Trouble Trouble `json:"trouble"`
	}
	// Foreign says that somebody else changed the front.
	Foreign struct {
		From  split.Share     `json:"from"` // on green
		To    split.Share     `json:"to"`
		Apart []reading.Apart `json:"apart,omitempty"` // members of the front that have another share than To
	}
	// ByOrder says that somebody went home past this keeper.
	ByOrder struct {
		Order reading.Order `json:"order"`
	}
	// FoundAgain says what a keeper found that was started again in the middle.
	FoundAgain struct {
		Found Found `json:"found"`
	}
	// Unwatched says that nobody watched for a while: the process stood still, or the machine.
	Unwatched struct {
		Missed time.Duration `json:"missed"`
	}
	// FoundHome says that all traffic was at home when the keeper was started again, or that the front sent it there.
	FoundHome struct{}
	// NotRaised says why a raise or a proof came to nothing.
	NotRaised struct {
		Trouble Trouble `json:"trouble"`
	}
	// WayClosed says why there is no way back any more.
	WayClosed struct {
		Way wayback.Condition `json:"way"`
	}
	// Declined says which question was answered with no.
	Declined struct {
		Question Question `json:"question"`
	}
	// Overload says that the next leg is more than the target has room for.
	Overload struct {
		To   split.Share `json:"to"`   // on green
		Load float64     `json:"load"` // the part of the target's capacity that it would take
	}
)

// The names of the kinds are part of the logbook's format.
func (ByHand) cause() string     { return "by hand" }
func (Steered) cause() string    { return "steered" }
func (ByGuard) cause() string    { return "guard" }
func (NobodyHome) cause() string { return "nobody home" }
func (NobodyLeft) cause() string { return "nobody left" }
func (HomeIll) cause() string    { return "home ill" }
func (NotKnown) cause() string   { return "not known" }
func (ByProof) cause() string    { return "proof" }
func (ByFront) cause() string    { return "front" }
func (ByRaise) cause() string    { return "raise" }
func (Foreign) cause() string    { return "changed" }
func (ByOrder) cause() string    { return "order" }
func (FoundAgain) cause() string { return "found again" }
func (Unwatched) cause() string  { return "not watched" }
func (FoundHome) cause() string  { return "found at home" }
func (NotRaised) cause() string  { return "failed" }
func (WayClosed) cause() string  { return "way back closed" }
func (Declined) cause() string   { return "declined" }
func (Overload) cause() string   { return "overload" }
func (n Newer) cause() string    { return n.Called }

// String is the cause in few words, for tests and the program's log.
func (c ByHand) String() string     { return strings.TrimSuffix("by hand ("+c.Why+")", " ()") }
func (c ByGuard) String() string    { return "guard " + c.Alarm.Guard }
func (c NobodyHome) String() string { return "nobody home " + c.Alarm.Guard }
func (c ByFront) String() string    { return "front " + c.Trouble.String() }
func (c ByRaise) String() string    { return "raise " + c.Trouble.String() }
func (c NotRaised) String() string  { return "failed " + c.Trouble.String() }
func (c WayClosed) String() string  { return "way back closed " + c.Way.Kind() }
func (c Declined) String() string   { return "declined " + c.Question.Kind() }
func (c Foreign) String() string    { return fmt.Sprintf("changed %v→%v", c.From, c.To) }
func (c ByOrder) String() string {
	return fmt.Sprintf("order %d to %v", c.Order.Generation, c.Order.Side)
}

// String is the cause in few words.
func (c NotKnown) String() string {
	text := c.cause()
	for _, l := range c.Lacks {
		text += " " + l.Kind()
	}
	return text
}

// String is the cause in few words.
func (c ByProof) String() string {
	text := c.cause()
	for _, f := range c.Findings {
		text += fmt.Sprintf(" %s/%s=%s", f.Check, f.Instance, f.What)
	}
	return text
}

// Newer is a kind of cause, question, trouble, lack or reason of a newer Vaiven: no more than its name is known, and
// the rest is kept as it came.
type Newer struct{ oneof.Newer }

// Alarm is a guard that has tripped.
type Alarm struct {
	Guard     string      `json:"guard"`
	Watch     plan.Watch  `json:"watch,omitempty"`
	Then      plan.Action `json:"then"`
	Level     float64     `json:"level"`               // how bad it is: a rate, or a number
	Baseline  float64     `json:"baseline,omitempty"`  // the live side's rate
	Sure      float64     `json:"sure,omitempty"`      // certainty, of rates
	Cut       int64       `json:"cut,omitempty"`       // of what is bad, answers that were cut short
	Figure    string      `json:"figure,omitempty"`    // that the guard is on
	Instance  string      `json:"instance,omitempty"`  // whose figure it is, "" for the side's
	Worst     float64     `json:"worst,omitempty"`     // the most that the difference of the rates may be
	Bound     float64     `json:"bound,omitempty"`     // of a figure that has one
	Down      bool        `json:"down,omitempty"`      // what is lower than that is worse
	Alert     string      `json:"alert,omitempty"`     // the first that fires anew
	Summary   string      `json:"summary,omitempty"`   // what that says of itself
	First     raise.Stuck `json:"first,omitzero"`      // the first instance that is not healthy
	Missing   int         `json:"missing,omitempty"`   // instances that are not there
	Restarted int         `json:"restarted,omitempty"` // instances that had to be started again
	Side      split.Side  `json:"side"`                // that it is about
	AsOf      time.Time   `json:"as_of,omitzero"`      // of the baseline, where nothing runs beside it any more
}

// overruled is a person's word to go on in spite of it.
func (a Alarm) overruled() Overruling { return Overruling{a.Guard, a.Level, a.Worst} }

// alarmOf is the alarm behind a cause, empty if there is none.
func alarmOf(c Cause) Alarm {
	switch c := c.Is.(type) {
	case ByGuard:
		return c.Alarm
	case NobodyHome:
		return c.Alarm
	}
	return Alarm{}
}

// OfPerson reports whether a cause is that a person said so, or moved the share.
func OfPerson(c Cause) bool { return oneof.IsA[ByHand](c) || oneof.IsA[Steered](c) }

// Overruling is a person's word to go on in spite of a guard. It holds for the level
// that was seen.
type Overruling struct {
	Guard string  `json:"guard"`
	Level float64 `json:"level"`
	// Beyond is, of a guard that compares rates, how much higher the rate may have been then: it
	// is heard again when it is known to be worse than that.
	Beyond float64 `json:"beyond,omitempty"`
}

// Unsure is a guard that has not excluded the fault that it is to find.
type Unsure struct {
	Guard    string        `json:"guard"`        // "" if none of the plan's compares
	Find     float64       `json:"find"`         // the fault, as a rate beyond the live side's
	Excluded float64       `json:"excluded"`     // the smallest that is excluded, 1 if none is
	In       time.Duration `json:"in,omitempty"` // about how long it takes in all; 0 if that cannot be told
}

// Serving is what is known of a side's ability to serve, as read within the last ten
// seconds.
type Serving struct {
	Known     bool       `json:"known,omitempty"` // false: nothing is known
	Side      split.Side `json:"side"`
	Healthy   int        `json:"healthy"` // instances that are not known to be ill
	Instances int        `json:"instances"`
	Other     int        `json:"other"`             // of the other side, those that are not known to be ill
	Failing   float64    `json:"failing,omitempty"` // the part of its answers that fail, where it is what counts
}

// ill is how ill the side is, to be held against what a person has accepted.
func (b Serving) ill() float64 { return float64(b.Instances-b.Healthy) + b.Failing }

// Empty reports whether it is known that the side cannot serve while the other can.
func (b Serving) Empty() bool { return b.Known && b.Healthy == 0 && b.Other > 0 }

// Found is what a keeper found when it was started again in the middle.
type Found struct {
	Share   split.Share     `json:"share"`           // on green, as the front has it
	Apart   []reading.Apart `json:"apart,omitempty"` // members of the front that have another
	Noted   split.Share     `json:"noted"`           // on green, as the logbook has it
	Running [2]int          `json:"running"`
	Wanted  [2]int          `json:"wanted"`
	Known   bool            `json:"known,omitempty"` // the front was read
}

// Freeze is a reason for the route to stand still until a person goes on.
type Freezing struct {
	ID    uint64    `json:"id"` // sequence number of the event that froze it
	At    time.Time `json:"at"`
	Cause Cause     `json:"cause"`
}

package crossing

import (
	"fmt"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
)

// Cause is why something stands still, goes back or has ended. Its kind says which of
// the other fields mean something. Sentences are made of it elsewhere.
type Cause struct {
	Kind CauseKind `json:"kind"`

	Why      string          `json:"why,omitempty"`      // a person's own words, or those of an older logbook
	Alarm    Alarm           `json:"alarm,omitzero"`     // ByGuard, NobodyHome
	Findings []proof.Finding `json:"findings,omitempty"` // ByProof
	Trouble  Trouble         `json:"trouble,omitzero"`   // ByFront, ByRaise, Failed
	From     split.Share     `json:"from,omitempty"`     // Foreign: on green, before
	To       split.Share     `json:"to,omitempty"`       // Foreign, FoundHome: on green, after
	// Foreign: members of the front that have another share than To
	Apart    []reading.Apart   `json:"apart,omitempty"`
	Order    reading.Order     `json:"order,omitzero"`    // ByOrder
	Question Question          `json:"question,omitzero"` // Declined
	Found    Found             `json:"found,omitzero"`    // FoundAgain
	Home     Serving           `json:"home,omitzero"`     // NobodyHome, HomeIll; NobodyLeft: of the target
	Lacks    []Lack            `json:"lacks,omitempty"`   // NotKnown
	Way      wayback.Condition `json:"way,omitzero"`      // WayClosed: why
	Missed   time.Duration     `json:"missed,omitempty"`  // Unwatched
	// Overload: the part of the target's capacity that To would take
	Load float64 `json:"load,omitempty"`
}

// CauseKind is a kind of cause.
type CauseKind string

// The kinds.
const (
	ByHand     CauseKind = "by hand"         // a person said so
	Steered    CauseKind = "steered"         // a person moved the share
	ByGuard    CauseKind = "guard"           // a guard tripped
	NobodyHome CauseKind = "nobody home"     // a guard tripped that would go back, to a side that cannot serve
	NobodyLeft CauseKind = "nobody left"     // nobody of the target can serve any more, and more was to go there
	HomeIll    CauseKind = "home ill"        // the side crossed from, which gets requests, does not serve as it should
	NotKnown   CauseKind = "not known"       // what has to be known for the route to go on was not for too long
	ByProof    CauseKind = "proof"           // a check did not pass
	ByFront    CauseKind = "front"           // the front did not take a share
	ByRaise    CauseKind = "raise"           // the target did not get the instances that a leg wants
	Foreign    CauseKind = "changed"         // somebody else changed the front
	ByOrder    CauseKind = "order"           // somebody went home past this keeper
	FoundAgain CauseKind = "found again"     // the keeper was started again in the middle
	Unwatched  CauseKind = "not watched"     // nobody watched for a while: the process stood still, or the machine
	FoundHome  CauseKind = "found at home"   // all traffic was at home when the keeper was started again
	NotRaised  CauseKind = "failed"          // a raise came to nothing
	WayClosed  CauseKind = "way back closed" // there is no way back any more
	Declined   CauseKind = "declined"        // a question was answered with no
	Overload   CauseKind = "overload"        // the next leg is more than the target has room for
)

// String is the cause in few words, for tests and the program's log.
func (c Cause) String() string {
	text := string(c.Kind)
	switch c.Kind {
	case ByGuard, NobodyHome:
		text += " " + c.Alarm.Guard
	case WayClosed:
		text += " " + string(c.Way.Kind)
	case NotKnown:
		for _, l := range c.Lacks {
			text += fmt.Sprintf(" %s", l.Kind)
		}
	case ByProof:
		for _, f := range c.Findings {
			text += fmt.Sprintf(" %s/%s=%s", f.Check, f.Instance, f.What)
		}
	case Foreign:
		text += fmt.Sprintf(" %v→%v", c.From, c.To)
	case ByFront, ByRaise, NotRaised:
		text += " " + c.Trouble.String()
	case ByOrder:
		text += fmt.Sprintf(" %d to %v", c.Order.Generation, c.Order.Side)
	case Declined:
		text += " " + string(c.Question.Kind)
	}
	if c.Why != "" {
		text += " (" + c.Why + ")"
	}
	return text
}

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
	First     raise.Stuck `json:"first,omitzero"`      // the first instance that is not healthy
	Missing   int         `json:"missing,omitempty"`   // instances that are not there
	Restarted int         `json:"restarted,omitempty"` // instances that had to be started again
	Side      split.Side  `json:"side"`                // that it is about
}

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

// Question is something that a person is asked. An answer names its ID.
type Question struct {
	ID   uint64       `json:"id"` // sequence number of the event that asked it
	At   time.Time    `json:"at,omitzero"`
	Kind QuestionKind `json:"kind"`

	Leg int `json:"leg,omitempty"` // AskLeg, AskLoad, AskUnsure
	// AskLeg, AskLoad, AskUnsure: the target's part of the traffic there
	Part     split.Share     `json:"part,omitempty"`
	Unsure   []Unsure        `json:"unsure,omitempty"`   // AskUnsure
	Findings []proof.Finding `json:"findings,omitempty"` // AskFindings
	Trouble  Trouble         `json:"trouble,omitzero"`   // AskRaise, AskProof
	Side     split.Side      `json:"side"`               // that it is about
	Version  string          `json:"version,omitempty"`  // AskSameBuild
	Build    string          `json:"build,omitempty"`    // AskSameBuild
	// AskLeg, AskLoad, AskUnsure: the part of the target's capacity that the leg takes; 0 if not known
	Load float64 `json:"load,omitempty"`
}

// QuestionKind is a kind of question.
type QuestionKind string

// The kinds, by what a yes does.
const (
	AskSameBuild QuestionKind = "same build" // raise what the live side runs already
	AskRaise     QuestionKind = "raise"      // raise once more
	AskProof     QuestionKind = "proof"      // prove once more
	AskFindings  QuestionKind = "findings"   // accept what the proof found
	AskStart     QuestionKind = "start"      // begin to shift
	AskLeg       QuestionKind = "leg"        // go on to a leg
	AskLoad      QuestionKind = "load"       // go on to a leg that takes more than the limit of the target's capacity
	AskUnsure    QuestionKind = "unsure"     // go on to a leg though the one before could not exclude the fault to find
	AskRetire    QuestionKind = "retire"     // retire the old side
)

// String is the question in few words, for tests and the program's log.
func (q Question) String() string {
	text := string(q.Kind)
	switch q.Kind {
	case AskLeg, AskLoad, AskUnsure:
		text += fmt.Sprintf(" %d, %v", q.Leg+1, q.Part)
	case AskFindings:
		text += fmt.Sprintf(" (%d)", len(q.Findings))
	}
	return fmt.Sprintf("%s? #%d", text, q.ID)
}

// Trouble is something that went wrong, with the system's own words.
type Trouble struct {
	Kind  TroubleKind   `json:"kind"`
	Said  string        `json:"said,omitempty"`  // an error, as whoever had it put it
	Raise raise.Verdict `json:"raise,omitzero"`  // TroubleRaise: what is not up
	Limit time.Duration `json:"limit,omitempty"` // TroubleRaise: the time that was given; 0 if an instance has ended
	First proof.Finding `json:"first,omitzero"`  // TroubleProof
	From  split.Share   `json:"from,omitempty"`  // TroubleOutsider, TroubleOther: on green
	To    split.Share   `json:"to,omitempty"`    // TroubleOutsider, TroubleOther: on green
	Open  int64         `json:"open,omitempty"`  // TroubleOpen: requests that are being answered

	Apart []reading.Apart `json:"apart,omitempty"` // TroubleOutsider: fronts that have another share now
}

// TroubleKind is a kind of trouble.
type TroubleKind string

// The kinds.
const (
	TroubleRaise    TroubleKind = "raise"
	TroubleProof    TroubleKind = "proof"
	TroubleFront    TroubleKind = "front"
	TroubleRetire   TroubleKind = "retire"
	TroubleOpen     TroubleKind = "open requests" // a side that is being retired still answers some
	TroubleLogbook  TroubleKind = "logbook"       // what was decided could not be recorded, and was not done
	TroubleHook     TroubleKind = "hook"          // a hook did not let something be done
	TroubleCut      TroubleKind = "cut off"       // the keeper ended in the middle of it
	TroubleOutsider TroubleKind = "outsider"      // somebody changed the front after the end
	TroubleOther    TroubleKind = "other share"   // From was to be in force, and somebody else put To in force
	TroubleHalted   TroubleKind = "halted"        // a person did not want it any more
)

// String is the trouble in few words, for tests and the program's log.
func (t Trouble) String() string {
	if t.Said == "" {
		return string(t.Kind)
	}
	return string(t.Kind) + ": " + t.Said
}

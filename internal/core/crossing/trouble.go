package crossing

import (
	"strings"
	"time"

	"vaiven/internal/core/oneof"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Trouble is something that went wrong, with the system's own words.
type Trouble = oneof.One[TroubleKind, troubles]

// TroubleKind is one of the types below, which [Troubles] lists.
type TroubleKind interface{ trouble() string }

type troubles struct{}

// Set lists the types.
func (troubles) Set() *oneof.Set[TroubleKind] { return Troubles }

// Troubles are all kinds of trouble that there are.
var Troubles = oneof.New[TroubleKind]("kind", TroubleKind.trouble, func(n oneof.Newer) TroubleKind { return Newer{n} },
	TroubleRaise{}, TroubleProof{}, TroubleFront{}, TroubleRetire{}, TroubleOpen{}, TroubleLogbook{}, TroubleHook{},
	TroubleCut{}, TroubleOutsider{}, TroubleOther{}, TroubleHalted{})

// Went is a trouble of a kind.
func Went(wrong TroubleKind) Trouble { return Trouble{Is: wrong} }

type (
	// TroubleRaise says what of a raise is not up.
	TroubleRaise struct {
		Said  string        `json:"said,omitempty"` // an error, as whoever had it put it
		Raise raise.Verdict `json:"raise,omitzero"`
		Limit time.Duration `json:"limit,omitempty"` // that was given; 0 if an instance has ended
	}
	// TroubleProof says what a proof found first, or why there is none.
	TroubleProof struct {
		Said  string        `json:"said,omitempty"`
		First proof.Finding `json:"first,omitzero"`
	}
	// TroubleFront says why the front did not do something.
	TroubleFront struct {
		Said string `json:"said"`
	}
	// TroubleRetire says why a side could not be retired.
	TroubleRetire struct {
		Said string `json:"said"`
	}
	// TroubleOpen says that a side that is being retired still answers requests.
	TroubleOpen struct {
		Open int64 `json:"open"`
	}
	// TroubleLogbook says why what was decided could not be recorded. It was not done.
	TroubleLogbook struct {
		Said string `json:"said"`
	}
	// TroubleHook says that a hook did not let something be done.
	TroubleHook struct {
		Said string `json:"said"`
	}
	// TroubleCut says that the keeper ended in the middle of it.
	TroubleCut struct{}
	// TroubleOutsider says that somebody changed the front after the end.
	TroubleOutsider struct {
		From  split.Share     `json:"from"` // on green
		To    split.Share     `json:"to"`
		Apart []reading.Apart `json:"apart,omitempty"` // fronts that have another share now
	}
	// TroubleOther says that From was to be in force, and that somebody else put To in force.
	TroubleOther struct {
		From split.Share `json:"from"` // on green
		To   split.Share `json:"to"`
	}
	// TroubleHalted says that a person did not want it any more.
	TroubleHalted struct{}
)

// The names of the kinds are part of the logbook's format.
func (TroubleRaise) trouble() string    { return "raise" }
func (TroubleProof) trouble() string    { return "proof" }
func (TroubleFront) trouble() string    { return "front" }
func (TroubleRetire) trouble() string   { return "retire" }
func (TroubleOpen) trouble() string     { return "open requests" }
func (TroubleLogbook) trouble() string  { return "logbook" }
func (TroubleHook) trouble() string     { return "hook" }
func (TroubleCut) trouble() string      { return "cut off" }
func (TroubleOutsider) trouble() string { return "outsider" }
func (TroubleOther) trouble() string    { return "other share" }
func (TroubleHalted) trouble() string   { return "halted" }
func (n Newer) trouble() string         { return n.Called }

// String is the trouble in few words, for tests and the program's log.
func (t TroubleFront) String() string   { return "front: " + t.Said }
func (t TroubleRetire) String() string  { return "retire: " + t.Said }
func (t TroubleLogbook) String() string { return "logbook: " + t.Said }
func (t TroubleHook) String() string    { return "hook: " + t.Said }
func (t TroubleRaise) String() string   { return strings.TrimSuffix("raise: "+t.Said, ": ") }
func (t TroubleProof) String() string   { return strings.TrimSuffix("proof: "+t.Said, ": ") }

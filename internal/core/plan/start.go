package plan

import (
	"time"

	"vaiven/internal/core/calendar"
)

// Start says when a version begins to cross without a person's word, and how far it goes by itself. The zero value is
// by hand.
type Start struct {
	When  StartWhen
	Every time.Duration // between two looks for new versions, of [StartAppears]
	At    calendar.Clock
	Far   StartFar
}

// On reports whether a version begins without a person's word.
func (s Start) On() bool { return s.When != "" }

// StartWhen is when a version begins.
type StartWhen string

// The choices.
const (
	StartTold    StartWhen = "told"    // somebody says that it has arrived
	StartAppears StartWhen = "appears" // it is in the source of versions, or somebody says so
)

// StartFar is how far it goes by itself.
type StartFar string

// The choices, in the order in which a crossing comes to them.
const (
	FarRaised  StartFar = "raised"    // the spare side stands; no crossing has begun
	FarProven  StartFar = "proven"    // a person is asked before the first leg
	FarLeg     StartFar = "first leg" // a person is asked before the second
	FarSettled StartFar = "settled"   // as far as the route asks nobody
)

// Build is a command that makes a version which there is not yet. The zero value is none.
type Build struct {
	Words       []string
	Environment map[string]string // with secrets
	Within      time.Duration
}

// On reports whether there is such a command.
func (b Build) On() bool { return len(b.Words) > 0 }

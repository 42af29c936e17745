package keeper

import (
	"context"
	"math"
	"time"
	"vaiven/internal/core/forecast"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/prove"
	"vaiven/internal/tryout"
	"vaiven/internal/words"
)

// Client is what screens and commands use of a keeper. Everything that passes
// through it can be serialised.
type Client interface {
	// Do carries out a command, or says why not: the error wraps
	// [crossing.ErrNotNow] if the present state does not allow it. It returns when
	// the command is accepted, which is before what it orders is done, with the
	// sequence number of the last event that came of it.
	Do(context.Context, Command) (seq uint64, err error)
	// Snapshots sends the newest snapshot whenever there is one and the receiver
	// is ready, until the context ends. Snapshots are shared: do not change them.
	Snapshots(context.Context) <-chan Snapshot
	// Versions is what there is to choose from: for each part that has versions of
	// its own, the front's part first.
	Versions(context.Context) ([]Offer, error)
	// Foresee is what the front would do to put a share on green in force. Nothing is
	// done.
	Foresee(context.Context, split.Share) (front.Change, error)
	// Tryout tries split keys on the plan's access log, and says by which the plan
	// splits.
	Tryout(context.Context) (r tryout.Report, inForce string, err error)
	// Clients is how many clients the plan's access log has, and how much each asks; the zero value if
	// the plan names none.
	Clients(context.Context) (forecast.Clients, error)
	// Events sends every event after the one with a sequence number, in order, until the context
	// ends: [FromNow] for those that are still to come.
	Events(ctx context.Context, since uint64) <-chan crossing.Event
	// Evidence is what the guards that compare have come to, moment by moment, since the crossing
	// began.
	Evidence(context.Context) ([]guard.Story, error)
	// Rehearse does everything of going home but the last act on each front, and says how long
	// each step took.
	Rehearse(context.Context) (wayback.Rehearsal, error)
}

// FromNow stands for the newest event.
const FromNow = math.MaxUint64

// Person is somebody who watches or steers, by a client of their own.
type Person struct {
	Client string    `json:"client"`         // identity of the client, the same for as long as it runs; "" for a command alone
	By     string    `json:"by"`             // the person's handle
	From   string    `json:"from,omitempty"` // where that is
	Since  time.Time `json:"since,omitzero"`
}

// Command is something a person asks for.
type Command struct {
	Do        Verb   `json:"do"`
	By        string `json:"by"`                   // the person's handle
	Client    string `json:"client,omitempty"`     // identity of the person's client; "" for a command alone, which leaves the wheel vacant
	From      string `json:"from,omitempty"`       // where that is
	TakeWheel bool   `json:"take_wheel,omitempty"` // also from somebody else
	Seen      uint64 `json:"seen,omitempty"`       // sequence number of the state that the person saw; 0: the present one
	// As is the front's order of going home that the person knew of, which may be long before this is carried out: a
	// going home since then overtakes it. nil: the one of now.
	As *uint64 `json:"as,omitempty"`

	Question uint64      `json:"question,omitempty"` // Yes, No: which one
	Leg      int         `json:"leg,omitempty"`      // Next: which one, from 0
	Share    split.Share `json:"share,omitempty"`    // Steer, Shift: on green
	Route    route.Route `json:"route,omitempty"`    // Reroute; Begin: in place of the plan's
	Why      string      `json:"why,omitempty"`      // a person's words
	Force    bool        `json:"force,omitempty"`    // Back: also to a side that cannot serve
	Version  string      `json:"version,omitempty"`  // Begin, Raise
	// Versions are those of other parts than the first, where they are not the
	// same.
	Versions  map[string]string `json:"versions,omitempty"`
	SameBuild bool              `json:"same_build,omitempty"` // Begin, Raise: even if nothing has changed
	AtOnce    bool              `json:"at_once,omitempty"`    // Begin: in one step, because the live side does not serve
	Unproven  bool              `json:"unproven,omitempty"`   // Shift: even to a side that is not proven; Why says why
	Hold      bool              `json:"hold,omitempty"`       // Begin: wait for a person before the first leg and after failures
	Cell      proof.Result      `json:"cell,omitzero"`        // Again: which check
	Typed     string            `json:"typed,omitempty"`      // Retire: the service's name, to confirm it
}

// Verb is the kind of a command.
type Verb string

// The verbs.
const (
	Begin   Verb = "begin"    // a crossing to Version
	Yes     Verb = "yes"      // to Question
	No      Verb = "no"       // to Question: go back
	Next    Verb = "next"     // go on to Leg now
	Prove   Verb = "prove"    // the whole proof again
	Again   Verb = "again"    // one check again
	Reroute Verb = "reroute"  // go on by Route
	Steer   Verb = "steer"    // to Share
	PutBack Verb = "put back" // our share, after somebody else changed it
	Freeze  Verb = "freeze"   // stay at the present share
	GoOn    Verb = "go on"    // after a freeze
	Back    Verb = "back"     // roll back, or call off
	Retire  Verb = "retire"   // the side without traffic
	Raise   Verb = "raise"    // the spare side, outside of a crossing
	Shift   Verb = "shift"    // to Share, outside of a crossing; within one it steers
	Take    Verb = "take the wheel"
	Leave   Verb = "leave the wheel"
)

// Snapshot is everything that is known at a moment.
type Snapshot struct {
	engine.View
	Proof    proof.Proof `json:"proof"`              // the spare side's last one, or as far as it is
	Proofs   int         `json:"proofs"`             // how many this keeper has begun
	Proving  bool        `json:"proving,omitempty"`  // it is being made
	About    prove.About `json:"about"`              // what it found beside its results
	Trouble  string      `json:"trouble,omitempty"`  // what keeps the keeper from its work
	Present  []Person    `json:"present,omitempty"`  // who watches, at most [PresentMost]
	Watching int         `json:"watching,omitempty"` // how many do
}

// PresentMost is how many of those who watch a snapshot names.
const PresentMost = 20

// Offer is the versions of one part, the newest first.
type Offer struct {
	Part     string          `json:"part"`
	Versions []raise.Version `json:"versions"`
	Past     []crossing.Past `json:"past,omitempty"` // earlier crossings to these versions, the newest first
}

// refused is a refusal in words.
type refused struct{ *crossing.Refusal }

func (r refused) Error() string { return crossing.ErrNotNow.Error() + ": " + words.Refusal(r.Refusal) }
func (r refused) Unwrap() error { return r.Refusal }

package keeper

import (
	"context"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/plan"
	"vaiven/internal/prove"
	"vaiven/internal/tryout"
	"vaiven/internal/versions"
)

// Client is what screens and commands use of a keeper. Everything that passes
// through it can be serialised.
type Client interface {
	// Do carries out a command, or says why not: the error wraps
	// [crossing.ErrNotNow] if the present state does not allow it. It returns when
	// the command is accepted, which is before its effects are through.
	Do(context.Context, Command) error
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
	// Events sends every event from now on, in order, until the context ends.
	Events(context.Context) <-chan crossing.Event
}

// Command is something a person asks for.
type Command struct {
	Do      Verb        `json:"do"`
	By      string      `json:"by"` // the person's handle
	Version string      `json:"version,omitempty"`
	Share   split.Share `json:"share,omitempty"` // on green
	// Versions are those of other parts than the first, where they are not the
	// same.
	Versions  map[string]string `json:"versions,omitempty"`
	Cell      proof.Result      `json:"cell,omitzero"`        // which check to make again
	SameBuild bool              `json:"same_build,omitempty"` // begin even if nothing has changed
	Hold      bool              `json:"hold,omitempty"`       // begin, and wait for a person before the first leg
	Why       string            `json:"why,omitempty"`        // of going back
	Typed     string            `json:"typed,omitempty"`      // the service's name, to confirm that a side is retired
}

// Verb is the kind of a command.
type Verb string

// The verbs.
const (
	Begin   Verb = "begin"    // a crossing to Version
	Next    Verb = "next"     // approve, accept what the proof found, or go on to the next leg now
	Prove   Verb = "prove"    // the whole proof again
	Again   Verb = "again"    // one check again
	Steer   Verb = "steer"    // to Share
	PutBack Verb = "put back" // our share, after somebody else changed it
	Freeze  Verb = "freeze"   // stay at the present share
	GoOn    Verb = "go on"    // after a freeze
	Back    Verb = "back"     // roll back, or call off
	Retire  Verb = "retire"   // the side without traffic
)

// Snapshot is everything that is known at a moment.
type Snapshot struct {
	At       time.Time         `json:"at"`
	Service  string            `json:"service"`
	Ready    bool              `json:"ready"`    // front and stacks were read, so commands are taken
	Crossing crossing.State    `json:"crossing"` // its stage is empty if there never was one
	Begun    time.Time         `json:"begun,omitzero"`
	Planned  route.Route       `json:"planned"` // the plan's route
	Keep     time.Duration     `json:"keep"`
	Then     plan.Then         `json:"then"`
	Live     split.Side        `json:"live"` // as the front's share says while nothing is crossing
	Front    FrontView         `json:"front"`
	Split    SplitView         `json:"split"`
	Sides    [2]SideView       `json:"sides"`
	Proof    proof.Proof       `json:"proof"`             // the spare side's last one, or as far as it is
	Proving  bool              `json:"proving,omitempty"` // it is being made
	About    prove.About       `json:"about"`             // what it found beside its results
	Typical  time.Duration     `json:"typical,omitempty"` // from an instance's start until it is healthy, by earlier crossings
	Overlap  Overlap           `json:"overlap,omitzero"`
	Parts    []Part            `json:"parts"`
	Guards   []Guard           `json:"guards"`
	WayBack  wayback.Readiness `json:"way_back"`
	Door     reading.Door      `json:"door"`
	Track    []Point           `json:"track"` // oldest first
	Traffic  route.Traffic     `json:"traffic"`
	Bound    evidence.Bound    `json:"bound"`             // of the failing guard, for outlooks
	Switch   Switch            `json:"switch"`            // the last change of the share
	Trouble  string            `json:"trouble,omitempty"` // what keeps the keeper from its work
}

// Offer is the versions of one part, the newest first.
type Offer struct {
	Part     string             `json:"part"`
	Versions []versions.Version `json:"versions"`
	Past     []crossing.Past    `json:"past,omitempty"` // earlier crossings to these versions, the newest first
}

// Overlap is since when both sides have been standing, and what the spare one has
// cost by now.
type Overlap struct {
	Since time.Time  `json:"since,omitzero"`
	Cost  plan.Price `json:"cost,omitzero"` // its unit is empty if the plan has no price
}

// Part is one part of both sides, as the plan has it.
type Part struct {
	Name   string `json:"name"`
	Wanted [2]int `json:"wanted"` // instances, by side
}

// FrontView is the front as last read.
type FrontView struct {
	At     time.Time     `json:"at,omitzero"` // of the reading
	Every  time.Duration `json:"every"`       // how often it is read
	Split  reading.Split `json:"split"`
	Error  string        `json:"error,omitempty"` // of the last try; the rest is older then
	Notice string        `json:"notice,omitempty"`
}

// SplitView is whether requests are split as asked, by what was counted since the split
// was last changed.
type SplitView struct {
	Front  evidence.Seen  `json:"front"`  // by the front's own counts
	Prober evidence.Seen  `json:"prober"` // by the answers that Vaiven's own requests got
	Counts evidence.Count `json:"counts"` // the front's: on green, and in all
	Said   string         `json:"said"`   // in words
	Off    bool           `json:"off,omitempty"`
	Since  time.Time      `json:"since,omitzero"` // while off
}

// SideView is one side with its instances and figures.
type SideView struct {
	Version   string              `json:"version,omitempty"` // "" if it has no instances; all of them if they differ
	Build     string              `json:"build,omitempty"`
	Instances []reading.Condition `json:"instances"`
	Healthy   int                 `json:"healthy"`
	Wanted    int                 `json:"wanted"`      // by the plan
	At        time.Time           `json:"at,omitzero"` // of the reading of the instances
	Every     time.Duration       `json:"every"`       // how often they are read
	Error     string              `json:"error,omitempty"`
	Figures   figures.Figures     `json:"figures"`  // of the last seconds
	Capacity  float64             `json:"capacity"` // requests a second that the healthy instances carry; 0 if not known
	Open      int64               `json:"open"`     // requests being answered
}

// Guard is one guard as of the last reading.
type Guard struct {
	Name       string              `json:"name"`
	State      GuardState          `json:"state"`
	Baseline   evidence.Count      `json:"baseline"` // the live side's
	Trial      evidence.Count      `json:"trial"`    // the target's
	Limit      string              `json:"limit"`    // when it trips, in words
	Said       string              `json:"said"`     // how it stands, in words
	Comparison evidence.Comparison `json:"comparison"`
	Then       plan.Action         `json:"then"`
	Sureness   []float64           `json:"sureness,omitempty"` // the last certainties, oldest first
	Count      bool                `json:"count,omitempty"`    // counts instead of comparing; Trial.Bad is the count
}

// GuardState is how a guard stands.
type GuardState string

// The states. A guard that is off, or has nothing to watch yet, is Idle.
const (
	Idle     GuardState = "idle"
	Clear    GuardState = "clear"
	Watching GuardState = "watching"
	Tripped  GuardState = "tripped"
)

// Point is one second of the track.
type Point struct {
	At      time.Time   `json:"at"`
	Planned split.Share `json:"planned"` // on green
	Green   int64       `json:"green"`   // requests that green answered
	All     int64       `json:"all"`
	Failing int64       `json:"failing"`
}

// Switch is a change of the share at the front.
type Switch struct {
	At    time.Time     `json:"at,omitzero"` // when the front confirmed it
	Share split.Share   `json:"share"`
	Took  time.Duration `json:"took"` // from command to confirmation
}

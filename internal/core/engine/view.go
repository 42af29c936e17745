package engine

import (
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/core/wayout"
)

// View is everything that is known of a service at a moment. What it shares with the
// engine is never changed.
type View struct {
	At       time.Time       `json:"at"`
	Service  string          `json:"service"`
	Ready    bool            `json:"ready"`           // front and stacks were read, so commands are taken
	Crossing crossing.State  `json:"crossing"`        // its stage is empty if there never was one
	Left     time.Duration   `json:"left"`            // of leg or keep, of the time that is watched
	Lacks    []crossing.Lack `json:"lacks,omitempty"` // what has to be known for the route to go on, and is not
	Held     []crossing.Lack `json:"held,omitempty"`  // why a side that is to be retired is not yet
	Keeps    []split.Side    `json:"keeps,omitempty"` // sides whose instances are started again when they end
	Planned  route.Route     `json:"planned"`         // the plan's route
	Keep     time.Duration   `json:"keep"`
	Then     plan.Then       `json:"then"`
	Live     split.Side      `json:"live"`           // while nothing is crossing, the side that had all requests last
	Dead     bool            `json:"dead,omitempty"` // nothing is crossing, and nobody of the live side serves
	// nothing is crossing, and what ails a side that gets requests does so now
	Ails bool `json:"ails,omitempty"`
	// what stands ready where the live side does not serve as it should
	Spare Spare       `json:"spare,omitzero"`
	Front FrontView   `json:"front"`
	Split SplitView   `json:"split"`
	Sides [2]SideView `json:"sides"`
	// from an instance's start until it is healthy, by earlier crossings
	Typical time.Duration `json:"typical,omitempty"`
	// how long the raise of a side may take, by side
	Limits  [2]time.Duration  `json:"raise_limits,omitzero"`
	Overlap Overlap           `json:"overlap,omitzero"`
	Parts   []Part            `json:"parts"`
	Guards  []guard.Status    `json:"guards"`
	WayBack wayback.Readiness `json:"way_back"`
	// both sides get requests and fail alike: it is something that they share
	Alike    bool              `json:"alike,omitempty"`
	WaysOut  []wayout.Way      `json:"ways_out,omitempty"` // what helps, where a side that gets requests is ill
	Door     reading.Door      `json:"door"`
	Track    []Point           `json:"-"`              // oldest first: asked for by time
	Drawn    time.Time         `json:"drawn,omitzero"` // the newest point of the track
	Traffic  forecast.Traffic  `json:"traffic"`
	Beside   Beside            `json:"beside,omitzero"` // while a control group gets requests
	Guarding forecast.Guarding `json:"guarding"`        // what the first guard on failing answers goes by, for outlooks
	Sure     Sureness          `json:"sure"`
	Switch   Switch            `json:"switch"`         // the last change of the share
	Hole     Hole              `json:"hole,omitzero"`  // the last time in which nobody watched
	Hook     Hook              `json:"hook,omitzero"`  // that is waited for
	Again    time.Time         `json:"again,omitzero"` // nothing is retired before, because of it
}

// Beside is the control group that guards compare with: instances of the live side.
type Beside struct {
	Instances int             `json:"instances"` // that get requests
	Figures   figures.Figures `json:"figures"`
}

// Spare is a side that gets nothing and could.
type Spare struct {
	Version string `json:"version,omitempty"`
	Healthy int    `json:"healthy,omitempty"` // of its instances
}

// Sureness is how sure the guards that compare have to be, and of what.
type Sureness struct {
	Of   float64 `json:"of"`   // the certainty, for all of them together and the whole crossing
	Find float64 `json:"find"` // the fault that the guard on failing answers is to find
	// guards that have not excluded theirs on this leg, while it lasts until sure
	Unsure []crossing.Unsure `json:"unsure,omitempty"`
}

// Hook is a command of the plan's that something waits for.
type Hook struct {
	Moment  plan.HookMoment `json:"moment"`
	Command string          `json:"command"`
	Since   time.Time       `json:"since"`
	Within  time.Duration   `json:"within"`
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
	At     time.Time        `json:"at,omitzero"` // of the reading
	Every  time.Duration    `json:"every"`       // how often it is read
	Split  reading.Split    `json:"split"`
	Order  reading.Order    `json:"order,omitzero"`
	Error  string           `json:"error,omitempty"`  // of the last try; the rest is older then
	Apart  []reading.Apart  `json:"apart,omitempty"`  // members that have another share
	Unread []reading.Unread `json:"unread,omitempty"` // members that could not be read
	Notice string           `json:"notice,omitempty"`
	Blind  string           `json:"blind,omitempty"` // why what it counts is not known just now
	// requests of the time that figures are of that it answered itself with an error, assigned to no side
	Own     int64  `json:"own,omitempty"`
	Changes uint64 `json:"changes,omitempty"` // of ours that were confirmed
	// Remembers is how long those who ask may go by what was before, after a change; 0 where nobody does.
	Remembers time.Duration `json:"remembers,omitzero"`
	// until when somebody may go by what was before the last change
	Everywhere time.Time `json:"everywhere,omitzero"`
}

// SideView is one side with its instances and figures.
type SideView struct {
	Version   string              `json:"version,omitempty"` // "" if it has no instances; all of them if they differ
	Build     string              `json:"build,omitempty"`
	Instances []reading.Condition `json:"instances"`
	Healthy   int                 `json:"healthy"`
	Wanted    int                 `json:"wanted"`           // by the plan
	Stands    bool                `json:"stands,omitempty"` // they are not ours to stop
	Out       bool                `json:"out,omitempty"`    // they were taken out of rotation, and run
	At        time.Time           `json:"at,omitzero"`      // of the reading of the instances
	Every     time.Duration       `json:"every"`            // how often they are read
	Error     string              `json:"error,omitempty"`
	Figures   figures.Figures     `json:"figures"` // of the last seconds
	// what its instances answered lately, by address; none where the front counts none
	Served []figures.Served `json:"served,omitempty"`
	// requests a second that the healthy instances carry; 0 if not known
	Capacity float64        `json:"capacity"`
	Open     int64          `json:"open"`               // requests being answered
	Changes  uint64         `json:"changes,omitempty"`  // how often its instances were made others
	Restarts []Restart      `json:"restarts,omitempty"` // instances that had ended and were started again
	Queue    *reading.Queue `json:"queue,omitempty"`    // that its instances take messages from, where they do
	// how many sessions have kept somebody on it lately, where the front tells them apart
	Kept int64 `json:"kept,omitempty"`
	// addresses that the front sends requests to, and that the plan does not name
	Strange []string `json:"strange,omitempty"`
}

// Point is one second of the track.
type Point struct {
	At      time.Time   `json:"at"`
	Planned split.Share `json:"planned"` // on green
	Green   int64       `json:"green"`   // requests that green answered
	All     int64       `json:"all"`
	Failing int64       `json:"failing"`
	// of the failing ones, those that green answered
	GreenFailing int64 `json:"green_failing,omitempty"`
}

// Of is how many requests a side answered, and how many of them failed.
func (p Point) Of(side split.Side) (all, failing int64) {
	if side == split.Green {
		return p.Green, p.GreenFailing
	}
	return p.All - p.Green, p.Failing - p.GreenFailing
}

// Switch is a change of the share at the front.
type Switch struct {
	At    time.Time     `json:"at,omitzero"` // when the front confirmed it
	Share split.Share   `json:"share"`
	Took  time.Duration `json:"took"` // from command to confirmation
}

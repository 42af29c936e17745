package situation

import (
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayout"
)

// Is is what is to be said: one of the types below, the gravest first.
type Is interface{ is() }

type (
	// RollingBack says that all requests are on their way home, and that the front has not confirmed it.
	RollingBack struct {
		To     split.Side
		For    time.Duration // since it was asked for; below zero if that is not known
		Failed int64         // requests that have failed since
		Pain   Pain          // what fails now
		Why    crossing.Cause
	}
	// Hurting says that users are hurt now.
	Hurting struct {
		Pain Pain
		Help Help
		Dead bool              // the live side has nobody
		Asks crossing.Question // what is asked about it; its ID is 0 if nothing is
	}
	// Unheard says for how long the keeper has said nothing.
	Unheard struct{ For time.Duration }
	// Troubled says what keeps the keeper from its work.
	Troubled struct{ Said string }
	// FrontUnread says for how long the front has not been read; below zero if it never was.
	FrontUnread struct {
		For  time.Duration
		Said string
	}
	// SideUnread says for how long a side's instances have not been read; below zero if they never were.
	SideUnread struct {
		Side split.Side
		For  time.Duration
		Said string
	}
	// Ailing says what is wrong with a side that gets requests while nothing crosses.
	Ailing struct{ Cause crossing.Cause }
	// OtherBuild says which instances run another build than the one that was delivered.
	OtherBuild struct {
		Side  split.Side
		Names []string
		What  string
	}
	// Unserved says how many requests the front has just answered itself with an error.
	Unserved struct{ Requests int64 }
	// Strange says which servers get requests of a side though the plan does not name them.
	Strange struct {
		Side      split.Side
		Addresses []string
	}
	// FirstReading says that front and sides are read for the first time.
	FirstReading struct{}
	// Asking says what a person is asked, and for how long.
	Asking struct {
		Question crossing.Question
		For      time.Duration
	}
	// Theirs says that somebody else changed the share.
	Theirs struct{}
	// Stopped says that the route is frozen.
	Stopped struct{}
	// Eased says that the route waits for what is remembered.
	Eased struct{}
	// Paused says that a leg does not go on by itself for want of what has to be known.
	Paused struct{}
	// NotRetired says that a side is not retired yet.
	NotRetired struct{ Side split.Side }
	// NoWayBack says that there is none.
	NoWayBack struct{}
	// SplitWrong says that requests are not divided as asked.
	SplitWrong struct{}
	// Trouble says what went wrong last.
	Trouble struct{}
	// Noticed says what the front notices.
	Noticed struct{}
	// SlowRaise says which instance comes up more slowly than instances do.
	SlowRaise struct {
		Instance reading.Condition
		For      time.Duration
	}
	// MaybeWorse says which guard begins to see something.
	MaybeWorse struct{ Guard guard.Status }
	// Unhealthy says that a side that gets requests has instances that are not healthy.
	Unhealthy struct {
		Side         split.Side
		Part         split.Share
		Healthy, All int
	}
	// RolledBack says that the last crossing was, and what it cost.
	RolledBack struct {
		For    time.Duration
		Failed int64 // requests that failed while the new side got some
		All    int64 // that it got
	}
	// Hooked says which hook is waited for, and for how long by now.
	Hooked struct{ For time.Duration }
	// Going says how a crossing goes that nothing is wrong with.
	Going struct{ For time.Duration }
	// Dead says that nobody of the live side serves while nobody asks.
	Dead struct{}
	// NothingYet says that nothing was ever released.
	NothingYet struct{}
	// Resting says that nothing is crossing, and for how long.
	Resting struct{ For time.Duration }
)

func (RollingBack) is()  {}
func (Hurting) is()      {}
func (Unheard) is()      {}
func (Troubled) is()     {}
func (FrontUnread) is()  {}
func (SideUnread) is()   {}
func (Ailing) is()       {}
func (OtherBuild) is()   {}
func (Unserved) is()     {}
func (Strange) is()      {}
func (FirstReading) is() {}
func (Asking) is()       {}
func (Theirs) is()       {}
func (Stopped) is()      {}
func (Eased) is()        {}
func (Paused) is()       {}
func (NotRetired) is()   {}
func (NoWayBack) is()    {}
func (SplitWrong) is()   {}
func (Trouble) is()      {}
func (Noticed) is()      {}
func (SlowRaise) is()    {}
func (MaybeWorse) is()   {}
func (Unhealthy) is()    {}
func (RolledBack) is()   {}
func (Hooked) is()       {}
func (Going) is()        {}
func (Dead) is()         {}
func (NothingYet) is()   {}
func (Resting) is()      {}

// Pain is what fails for users now.
type Pain struct {
	Sides []Ache // those of which enough fails to be named
	Lost  int    // of the prober's last requests, that got no answer; 0 if so few that they are no sign
	Most  bool   // as many as are remembered
	Why   string // the last of them was lost
}

// Ache is what fails of one side's answers.
type Ache struct {
	Side split.Side
	engine.Ache
}

// Help is what helps where users are hurt. The zero value recommends nothing.
type Help struct {
	Alike bool       // both sides fail alike: moving traffic helps nobody
	Ways  bool       // what can be done was weighed
	Best  wayout.Way // what helps most; its Do is "" if none is better than the others by more than is uncertain
	Back  bool       // rolling back does, by what fails alone
}

// Then is what comes next by itself.
type Then struct {
	Do  ThenDo
	In  time.Duration // until then at most; 0 if it is due
	Leg int           // of Leg
	// the leg ends as soon as a fault is excluded; Sure is after how long, if Known
	Until bool
	Sure  time.Duration
	Known bool
}

// ThenDo is a kind of what comes next.
type ThenDo string

// The kinds.
const (
	Nothing   ThenDo = ""
	NextLeg   ThenDo = "leg"    // the next leg begins
	AskLeg    ThenDo = "ask"    // a person is asked about it
	Retire    ThenDo = "retire" // the old side is retired
	Leave     ThenDo = "leave"  // the crossing settles, and the old side stays
	AskRetire ThenDo = "ask to retire"
	TakeOut   ThenDo = "take out" // the old side leaves the rotation, and runs on
)

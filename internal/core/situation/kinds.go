package situation

import (
	"encoding/json"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayout"
)

// Is is what is to be said: one of the types below, the gravest first.
type Is interface{ is() string }

// Newer is what a newer Vaiven said.
type Newer struct{ oneof.Newer }

func (n Newer) is() string { return n.Called }

type list struct{}

// Set lists the types.
func (list) Set() *oneof.Set[Is] { return All }

// All are all that can be said.
var All = oneof.New[Is]("kind", Is.is, func(n oneof.Newer) Is { return Newer{n} },
	RollingBack{}, Hurting{}, Unheard{}, Troubled{}, FrontUnread{}, SideUnread{}, Ailing{}, OtherBuild{}, Unserved{},
	Strange{}, FirstReading{}, Asking{}, Theirs{}, Stopped{}, Eased{}, Paused{}, NotRetired{}, NoWayBack{},
	SplitWrong{},
	Trouble{}, Noticed{}, SlowRaise{}, MaybeWorse{}, Unhealthy{}, RolledBack{}, Hooked{}, Going{}, Dead{}, NothingYet{},
	Resting{})

// told is a situation as JSON has it.
type told struct {
	Is      oneof.One[Is, list] `json:"is"`
	Gravity Gravity             `json:"gravity"`
	Then    Then                `json:"then,omitzero"`
}

// MarshalJSON writes it as it was judged.
func (s Situation) MarshalJSON() ([]byte, error) {
	return json.Marshal(told{oneof.One[Is, list]{Is: s.Is}, s.Gravity, s.Then})
}

// UnmarshalJSON reads what MarshalJSON writes.
func (s *Situation) UnmarshalJSON(data []byte) error {
	var t told
	err := json.Unmarshal(data, &t)
	*s = Situation{t.Is.Is, t.Gravity, t.Then}
	return err
}

type (
	// RollingBack says that all requests are on their way home, and that the front has not confirmed it.
	RollingBack struct {
		To     split.Side     `json:"to"`
		For    time.Duration  `json:"for"`    // since it was asked for; below zero if that is not known
		Failed int64          `json:"failed"` // requests that have failed since
		Pain   Pain           `json:"pain"`   // what fails now
		Why    crossing.Cause `json:"why"`
	}
	// Hurting says that users are hurt now.
	Hurting struct {
		Pain Pain              `json:"pain"`
		Help Help              `json:"help"`
		Dead bool              `json:"dead"` // the live side has nobody
		Asks crossing.Question `json:"asks"` // what is asked about it; its ID is 0 if nothing is
	}
	// Unheard says for how long the keeper has said nothing.
	Unheard struct {
		For time.Duration `json:"for"`
	}
	// Troubled says what keeps the keeper from its work.
	Troubled struct {
		Said string `json:"said"`
	}
	// FrontUnread says for how long the front has not been read; below zero if it never was.
	FrontUnread struct {
		For  time.Duration `json:"for"`
		Said string        `json:"said"`
	}
	// SideUnread says for how long a side's instances have not been read; below zero if they never were.
	SideUnread struct {
		Side split.Side    `json:"side"`
		For  time.Duration `json:"for"`
		Said string        `json:"said"`
	}
	// Ailing says what is wrong with a side that gets requests while nothing crosses.
	Ailing struct {
		Cause crossing.Cause `json:"cause"`
	}
	// OtherBuild says which instances run another build than the one that was delivered.
	OtherBuild struct {
		Side  split.Side `json:"side"`
		Names []string   `json:"names"`
		What  string     `json:"what"`
	}
	// Unserved says how many requests the front has just answered itself with an error.
	Unserved struct {
		Requests int64 `json:"requests"`
	}
	// Strange says which servers get requests of a side though the plan does not name them.
	Strange struct {
		Side      split.Side `json:"side"`
		Addresses []string   `json:"addresses"`
	}
	// FirstReading says that front and sides are read for the first time.
	FirstReading struct{}
	// Asking says what a person is asked, and for how long.
	Asking struct {
		Question crossing.Question `json:"question"`
		For      time.Duration     `json:"for"`
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
	NotRetired struct {
		Side split.Side `json:"side"`
	}
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
		Instance reading.Condition `json:"instance"`
		For      time.Duration     `json:"for"`
	}
	// MaybeWorse says which guard begins to see something.
	MaybeWorse struct {
		Guard guard.Status `json:"guard"`
	}
	// Unhealthy says that a side that gets requests has instances that are not healthy.
	Unhealthy struct {
		Side    split.Side  `json:"side"`
		Part    split.Share `json:"part"`
		Healthy int         `json:"healthy"`
		All     int         `json:"all"`
	}
	// RolledBack says that the last crossing was, and what it cost.
	RolledBack struct {
		For    time.Duration `json:"for"`
		Failed int64         `json:"failed"` // requests that failed while the new side got some
		All    int64         `json:"all"`    // that it got
	}
	// Hooked says which hook is waited for, and for how long by now.
	Hooked struct {
		For time.Duration `json:"for"`
	}
	// Going says how a crossing goes that nothing is wrong with.
	Going struct {
		For time.Duration `json:"for"`
	}
	// Dead says that nobody of the live side serves while nobody asks.
	Dead struct{}
	// NothingYet says that nothing was ever released.
	NothingYet struct{}
	// Resting says that nothing is crossing, and for how long.
	Resting struct {
		For time.Duration `json:"for"`
	}
)

func (RollingBack) is() string  { return "rolling back" }
func (Hurting) is() string      { return "hurting" }
func (Unheard) is() string      { return "unheard" }
func (Troubled) is() string     { return "troubled" }
func (FrontUnread) is() string  { return "front unread" }
func (SideUnread) is() string   { return "side unread" }
func (Ailing) is() string       { return "ailing" }
func (OtherBuild) is() string   { return "other build" }
func (Unserved) is() string     { return "unserved" }
func (Strange) is() string      { return "strange" }
func (FirstReading) is() string { return "first reading" }
func (Asking) is() string       { return "asking" }
func (Theirs) is() string       { return "theirs" }
func (Stopped) is() string      { return "stopped" }
func (Eased) is() string        { return "eased" }
func (Paused) is() string       { return "paused" }
func (NotRetired) is() string   { return "not retired" }
func (NoWayBack) is() string    { return "no way back" }
func (SplitWrong) is() string   { return "split wrong" }
func (Trouble) is() string      { return "trouble" }
func (Noticed) is() string      { return "noticed" }
func (SlowRaise) is() string    { return "slow raise" }
func (MaybeWorse) is() string   { return "maybe worse" }
func (Unhealthy) is() string    { return "unhealthy" }
func (RolledBack) is() string   { return "rolled back" }
func (Hooked) is() string       { return "hooked" }
func (Going) is() string        { return "going" }
func (Dead) is() string         { return "dead" }
func (NothingYet) is() string   { return "nothing yet" }
func (Resting) is() string      { return "resting" }

// Pain is what fails for users now.
type Pain struct {
	Sides []Ache `json:"sides"` // those of which enough fails to be named
	Lost  int    `json:"lost"`  // of the prober's last requests, that got no answer; 0 if so few that they are no sign
	Most  bool   `json:"most"`  // as many as are remembered
	Why   string `json:"why"`   // the last of them was lost
}

// Ache is what fails of one side's answers.
type Ache struct {
	Side split.Side `json:"side"`
	engine.Ache
}

// Help is what helps where users are hurt. The zero value recommends nothing.
type Help struct {
	Alike bool `json:"alike"` // both sides fail alike: moving traffic helps nobody
	Ways  bool `json:"ways"`  // what can be done was weighed
	// what helps most; its Do is "" if none is better than the others by more than is uncertain
	Best wayout.Way `json:"best"`
	Back bool       `json:"back"` // rolling back does, by what fails alone
}

// Then is what comes next by itself.
type Then struct {
	Do  ThenDo        `json:"do"`
	In  time.Duration `json:"in"`  // until then at most; 0 if it is due
	Leg int           `json:"leg"` // of Leg
	// the leg ends as soon as a fault is excluded; Sure is after how long, if Known
	Until bool          `json:"until"`
	Sure  time.Duration `json:"sure"`
	Known bool          `json:"known"`
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
	Await     ThenDo = "await"    // both stay until the others of the fleet have arrived
	TakeOut   ThenDo = "take out" // the old side leaves the rotation, and runs on
)

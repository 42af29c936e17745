package crossing

import (
	"errors"
	"time"

	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/plan"
)

// Input is what a decision is made on: something that a person asks for, that whoever
// performs a task reports, or that was observed. The inputs are the types below.
type Input interface{ input() }

// What people ask for.
type (
	// Begin begins a crossing.
	Begin struct {
		Service     string
		Folder      string // identity of the state folder
		Number      int
		Target      split.Side // the spare side
		LiveVersion string
		Choices     []raise.Choice // what each part is raised at, the front's part first
		NothingNew  bool           // the live side runs all of that already
		SameBuild   bool           // begin even so
		Nobody      bool           // the live side has no instances
		Hold        bool           // wait for a person before the first leg and after failures
		AtOnce      bool           // in one step, because the live side does not serve
		Live        Bench          // the live side, as known
		Route       route.Route
		Keep        time.Duration
		Then        plan.Then
		Front       FrontSeen // as it is now
	}
	// Yes answers a question, which it names.
	Yes struct{ Question uint64 }
	// No answers a question, and goes back.
	No struct{ Question uint64 }
	// NextLeg goes on to a leg now, which it names.
	NextLeg struct{ Leg int }
	// Reroute goes on by other legs. Those that are behind, and the present one, stay as they are.
	Reroute struct{ Route route.Route }
	// Steer moves the share on green by hand.
	Steer struct{ Share split.Share }
	// PutBack puts our share back in force after somebody else changed it.
	PutBack struct{}
	// Halt stops the route at the present share.
	Halt struct{}
	// GoOn ends the freezes that the person has seen.
	GoOn struct{}
	// Back takes all traffic home, or calls off what has not moved any.
	Back struct {
		Why    string // a person's own words
		Force  bool   // even to a side that cannot serve
		Home   Bench  // the side to go to, as known
		Stands bool   // instances of the side crossed from are there
		Read   bool   // the front was read just now: where nothing has moved, there is nothing to take home
	}
	// GiveUp retires the side without traffic, before its time or after the end.
	GiveUp struct{}
	// ProveAgain has the whole proof made again.
	ProveAgain struct{}
	// RaiseSpare stands the spare side up outside of a crossing.
	RaiseSpare struct {
		Side       split.Side
		Choices    []raise.Choice
		NothingNew bool // the live side runs all of that already
		SameBuild  bool // raise it even so
	}
	// ShiftTo puts a share on green in force outside of a crossing.
	ShiftTo struct {
		Share    split.Share
		Proven   [2]bool // by side: its last proof passed, and it has not changed since
		Unproven bool    // even to a side that is not; a person's words say why
	}
	// TakeWheel takes the wheel, also from somebody else.
	TakeWheel struct{}
	// LeaveWheel lets it go, if the client has it.
	LeaveWheel struct {
		Client string
		Gone   bool // nothing has been heard of it for too long
	}
)

// What is reported and observed.
type (
	// Report is what a task has come to: one of the facts Raised, Proved, InForce,
	// AtHome, NotHome, Stopping, Retired and NotDone; or what a hook did.
	Report struct{ Fact Fact }
	// FrontSeen is the front as read.
	FrontSeen struct {
		Share    split.Share     // on green
		Apart    []reading.Apart // members of the front that have another share
		Order    reading.Order   // the last going home that it knows of
		Revision uint64
		Holding  bool // all went home just now, and is held there
	}
	// Alarmed says that a guard has tripped.
	Alarmed struct {
		Alarm Alarm
		Home  Bench // the side to go back to, as known
	}
	// Recovered says that nothing is wrong any more with the sides that get requests, while nothing is under way.
	Recovered struct{}
	// TimeUp says that leg or keep have lasted as long as they should, or that a proven
	// side may get its first requests.
	TimeUp struct{}
	// Lapsed says that what has to be known for the route to go on was not for too long.
	Lapsed struct{}
	// Missed says that nobody has watched for so long until now.
	Missed struct{ For time.Duration }
	// LiveIll says that the side that the crossing is to leave, or outside of one that the service lives on, gets
	// requests and does not serve as it should.
	LiveIll struct{ Home Bench }
	// TargetLost says that nobody of the target serves any more while more is on its way there.
	TargetLost struct{ Target Bench }
	// Arrived carries what the other side answered so far, when the target gets its first
	// requests and when it gets all of them.
	Arrived struct{ Baselines []Baseline }
	// CameBack says that an instance had ended, and was started again or could not be.
	CameBack Restarted
	// Remember carries what the side crossed from is, before anything is moved away from it.
	Remember struct{ Record wayback.Record }
	// WayBackClosed says that there is no way back any more, while there should be.
	WayBackClosed struct{ Worst wayback.Condition }
	// Resumed says that a keeper was started in the middle of something.
	Resumed struct {
		Found Found
		Order reading.Order
	}
)

func (Begin) input()         {}
func (Yes) input()           {}
func (No) input()            {}
func (NextLeg) input()       {}
func (Reroute) input()       {}
func (Steer) input()         {}
func (PutBack) input()       {}
func (Halt) input()          {}
func (GoOn) input()          {}
func (Back) input()          {}
func (GiveUp) input()        {}
func (ProveAgain) input()    {}
func (RaiseSpare) input()    {}
func (ShiftTo) input()       {}
func (TakeWheel) input()     {}
func (LeaveWheel) input()    {}
func (Report) input()        {}
func (FrontSeen) input()     {}
func (Alarmed) input()       {}
func (Recovered) input()     {}
func (TimeUp) input()        {}
func (Lapsed) input()        {}
func (Missed) input()        {}
func (LiveIll) input()       {}
func (Arrived) input()       {}
func (TargetLost) input()    {}
func (Remember) input()      {}
func (CameBack) input()      {}
func (WayBackClosed) input() {}
func (Resumed) input()       {}

// Moment is when an input comes, and from whom.
type Moment struct {
	At     time.Time
	By     string        // a person's handle, or the part of Vaiven
	Client string        // identity of the person's client; "" for a command that comes without one
	From   string        // where that is
	Take   bool          // the wheel, also from somebody else
	Silent bool          // nothing is heard just now of the client that has the wheel
	Seen   uint64        // sequence number of the state that a person saw
	As     *uint64       // the generation of the front's order that a person knew of; nil for the one of now
	Load   Load          // that a share would mean
	Rest   time.Duration // what is left of leg or keep, of the time that was watched
	There  Bench         // the target's, as known
	Lacks  []Lack        // what has to be known for the route to go on, and is not
	Stays  []Lack        // what has to be known of the side with all requests before the other one is retired, and is not
	Unsure []Unsure      // guards that have not excluded the fault that they are to find, on this leg
	Said   string        // a person's own words
	Again  time.Time     // nothing is retired before: nobody watched a while ago; zero if somebody did
}

// Load is what a share of the requests would mean for the target.
type Load struct {
	Rate     float64 // requests a second, on both sides
	Capacity float64 // requests a second that the target carries; 0 if not known
	Limit    float64 // the part of the capacity up to which nobody has to be asked; 0 for none
	Refused  bool    // more is not asked about, but refused
}

// Of is the part of the target's capacity that a part of the traffic takes, 0 if it is not known.
func (l Load) Of(part split.Share) float64 {
	if l.Capacity <= 0 {
		return 0
	}
	return l.Rate * part.Fraction() / l.Capacity
}

// Over reports whether that is more than the limit.
func (l Load) Over(part split.Share) bool { return l.Limit > 0 && l.Of(part) > l.Limit }

// ErrNotNow is what every [Refusal] is.
var ErrNotNow = errors.New("not now")

// Refusal says why something that was asked for is not done. Nothing has changed. Its
// kind says which of the other fields mean something; sentences are made elsewhere.
type Refusal struct {
	Kind RefusalKind `json:"kind"`

	Stage    Stage         `json:"stage,omitempty"`
	Number   int           `json:"number,omitempty"`
	Side     split.Side    `json:"side"`
	Share    split.Share   `json:"share"`
	Task     Task          `json:"task,omitzero"`
	Question Question      `json:"question,omitzero"` // that is open
	Freezes  []Freeze      `json:"freezes,omitempty"`
	Leg      int           `json:"leg"` // the one that would be next, -1 for none
	Version  string        `json:"version,omitempty"`
	Build    string        `json:"build,omitempty"`
	Bench    Bench         `json:"bench,omitzero"`
	Order    reading.Order `json:"order,omitzero"`
	Said     string        `json:"said,omitempty"`
	Lacks    []Lack        `json:"lacks,omitempty"`
	Offers   []string      `json:"offers,omitempty"` // versions that there are, newest first
	First    bool          `json:"first,omitempty"`  // the part is the first
	Wheel    Wheel         `json:"wheel,omitzero"`
	Stands   bool          `json:"stands,omitempty"` // the side was taken out of rotation, and runs
	Load     float64       `json:"load,omitempty"`   // the part of the side's capacity
}

// RefusalKind is a kind of refusal.
type RefusalKind string

// The kinds.
const (
	NothingBegun  RefusalKind = "nothing begun"
	StillUnderWay RefusalKind = "still under way" // Number, Stage
	IsOver        RefusalKind = "over"            // Stage
	IsGoingBack   RefusalKind = "going back"
	IsBusy        RefusalKind = "busy"             // Task
	IsFrozen      RefusalKind = "frozen"           // Freezes
	NotFrozen     RefusalKind = "not frozen"       //
	OpenQuestion  RefusalKind = "open question"    // Question
	OtherQuestion RefusalKind = "other question"   // Question, its ID 0 if none is open
	NotNext       RefusalKind = "not next"         // Leg
	NotProven     RefusalKind = "not proven"       // Side
	NotSpare      RefusalKind = "not spare"        // Side, Share
	GetsRequests  RefusalKind = "gets requests"    // Side, Share
	ThereAlready  RefusalKind = "there already"    // Share
	NoShare       RefusalKind = "no share"         // Share
	NotChanged    RefusalKind = "not changed"      //
	NothingToDo   RefusalKind = "nothing to do"    // Stage
	NobodyThere   RefusalKind = "nobody there"     // Bench
	NobodyServes  RefusalKind = "nobody serves"    // Bench: nothing more goes there
	NotWatched    RefusalKind = "not watched"      // Lacks: nothing goes on without being watched
	NothingIsNew  RefusalKind = "nothing new"      // Version, Build, Side
	NoRoute       RefusalKind = "no route"         // Leg, Said: what is wrong with it
	Gone          RefusalKind = "gone"             // Side, Stands: it has been retired
	NotRead       RefusalKind = "not read"         // Said: the front has not been read yet
	NotRecorded   RefusalKind = "not recorded"     // Said: the logbook cannot be written
	NoPart        RefusalKind = "no part"          // Said: the name that no part has
	NoVersion     RefusalKind = "no version"       // none was named
	NotItsOwn     RefusalKind = "not its own"      // Said: the part; Version: the part whose versions it takes
	VersionWrong  RefusalKind = "version wrong"    // Said: why it cannot be raised; Version
	NoSuchVersion RefusalKind = "no such version"  // Said: the part; Version, Offers, First
	Split         RefusalKind = "split"            // Share: requests go to both sides, and no crossing did that
	NotThere      RefusalKind = "not there"        // Side: it has no instances
	IsProving     RefusalKind = "proving"          // a proof is being made beside the crossing
	Overtaken     RefusalKind = "overtaken"        // Order: everybody was sent home since this was asked for
	NotTyped      RefusalKind = "not typed"        // Said: the service's name has to be
	NotAtWheel    RefusalKind = "not at the wheel" // Wheel: somebody else has it
	AtWheel       RefusalKind = "at the wheel"     // it is theirs already
	LiveServes    RefusalKind = "live serves"      // Side, Bench: at once is for a side that does not
	NoneToMatch   RefusalKind = "none to match"    // Side, Said: the part; as many as live are wanted, and none is
	TooMuch       RefusalKind = "too much"         // Side, Share, Load: more than the limit of its capacity
	NoReason      RefusalKind = "no reason"        // a person has to say why
)

// Error names the kind.
func (r *Refusal) Error() string { return ErrNotNow.Error() + ": " + string(r.Kind) }

// Is makes every refusal an [ErrNotNow].
func (r *Refusal) Is(target error) bool { return target == ErrNotNow }

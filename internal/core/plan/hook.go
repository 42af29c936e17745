package plan

import "time"

// Hook is a command of the user's own that runs at a moment of a crossing.
type Hook struct {
	Moment      HookMoment
	Words       []string
	Environment map[string]string // with secrets
	Within      time.Duration
	There       bool // it runs where each instance of the new side stands; else here
}

// HookMoment is a moment at which hooks run.
type HookMoment string

// The moments. Of the first three, what the hook stands before waits for it, and is not done if it fails or takes too
// long; nothing waits for the others.
const (
	BeforeRaise  HookMoment = "before-raise"
	BeforeLeg    HookMoment = "before-leg"
	BeforeRetire HookMoment = "before-retire"
	WhenProven   HookMoment = "proven"
	AfterLeg     HookMoment = "after-leg"
	WhenRolled   HookMoment = "rolled-back"
	WhenOff      HookMoment = "called-off"
	WhenSettled  HookMoment = "settled"
	WhenFrozen   HookMoment = "frozen" // the route stands still
	WhenAsks     HookMoment = "asks"   // a person is asked
	// the live side does not serve as it should, whether anything is crossing or not
	WhenLiveIll HookMoment = "live-ill"
)

// HookMoments are all of them, in the order in which a crossing comes to them.
var HookMoments = []HookMoment{BeforeRaise, WhenProven, BeforeLeg, AfterLeg, WhenRolled, WhenOff, WhenSettled,
	WhenFrozen, WhenAsks, WhenLiveIll, BeforeRetire}

// Before reports whether something waits for the hooks of a moment.
func (m HookMoment) Before() bool { return m == BeforeRaise || m == BeforeLeg || m == BeforeRetire }

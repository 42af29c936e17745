package crossing

import (
	"errors"
	"time"

	"vaiven/internal/core/oneof"
	"vaiven/internal/core/people"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// ErrNotNow is what every [Refusal] is.
var ErrNotNow = errors.New("not now")

// Refusal says why something that was asked for is not done. Nothing has changed.
type Refusal struct{ Because Reason }

// Reason is one of the types below, which [Reasons] lists. Sentences are made elsewhere.
type Reason interface {
	// Name is the one name of the reason. It does not depend on its fields.
	Name() string
}

// Reasons are all there are.
var Reasons = oneof.New[Reason]("kind", Reason.Name, func(n oneof.Newer) Reason { return Newer{n} },
	NothingBegun{}, StillUnderWay{}, IsForbidden{}, NotAllowed{}, NotFourEyes{}, NoStart{},
	NotWaiting{},
	IsOver{}, IsGoingBack{}, IsBusy{}, IsFrozen{}, NotFrozen{}, OpenQuestion{},
	OtherQuestion{}, NotNext{}, NotProven{}, NotSpare{}, GetsRequests{}, ThereAlready{}, NoShare{}, NotChanged{},
	NothingToDo{}, NobodyThere{}, NobodyServes{}, NotWatched{}, NothingIsNew{}, NoRoute{}, Gone{}, NotRead{},
	NotRecorded{}, NoPart{}, NoVersion{}, NotItsOwn{}, VersionWrong{}, NoSuchVersion{}, IsSplit{}, NotThere{},
	IsProving{}, Overtaken{}, NotTyped{}, NotAtWheel{}, AtWheel{}, LiveServes{}, NoneToMatch{}, TooMuch{}, NoReason{},
	SideClosed{})

type (
	// NothingBegun says that no crossing has begun.
	NothingBegun struct{}
	// StillUnderWay says that a crossing is, which both sides are part of.
	StillUnderWay struct {
		Number  int       `json:"number"`
		Stage   Stage     `json:"stage"`
		Version string    `json:"version,omitempty"`
		By      string    `json:"by,omitempty"` // who began it
		Begun   time.Time `json:"begun,omitzero"`
		Moved   bool      `json:"moved,omitempty"` // traffic was sent to its target
	}
	// IsForbidden says by what traffic is not to move towards the new side.
	IsForbidden struct {
		Lacks []Lack `json:"lacks"`
	}
	// NotAllowed says that the plan's rules about people do not let somebody do that.
	NotAllowed struct {
		Right people.Right `json:"right"`
		Ask   string       `json:"ask,omitempty"` // the kind of question that it would say yes to, or go past
		Who   Peer         `json:"who,omitzero"`  // as the keeper's machine knows them
		To    []string     `json:"to,omitempty"`  // whom the rules let
	}
	// NotFourEyes says that somebody else has to than who began the crossing.
	NotFourEyes struct {
		Ask string `json:"ask"`
		Who Peer   `json:"who,omitzero"`
	}
	// NotWaiting says that a version does not wait, and which does, "" for none.
	NotWaiting struct {
		Version string `json:"version"`
		Waits   string `json:"waits,omitempty"`
	}
	// NoStart says that the plan has nothing begin without a person.
	NoStart struct{}
	// IsOver says that the crossing is.
	IsOver struct {
		Stage Stage `json:"stage"`
	}
	// IsGoingBack says that it rolls back.
	IsGoingBack struct{}
	// IsBusy says what is being done.
	IsBusy struct {
		Task Task `json:"task"`
	}
	// IsFrozen says that the route stands still.
	IsFrozen struct{}
	// NotFrozen says that it does not.
	NotFrozen struct{}
	// OpenQuestion says that a question has to be answered first.
	OpenQuestion struct {
		Question Question   `json:"question"`
		Target   split.Side `json:"target"`
	}
	// OtherQuestion says that something else is asked; the question's ID is 0 if nothing is.
	OtherQuestion struct {
		Question Question   `json:"question"`
		Target   split.Side `json:"target"`
	}
	// NotNext says that another leg is next, -1 for none.
	NotNext struct {
		Leg int `json:"leg"`
	}
	// NotProven says that a side is not.
	NotProven struct {
		Side  split.Side `json:"side"`
		Under bool       `json:"under,omitempty"` // a crossing is under way
	}
	// NotSpare says that a side gets requests, and is no side to cross to.
	NotSpare struct {
		Side  split.Side  `json:"side"`
		Share split.Share `json:"share"` // of them, on that side
	}
	// GetsRequests says that a side does, and is left alone.
	GetsRequests struct {
		Side  split.Side  `json:"side"`
		Share split.Share `json:"share"`           // of them, on that side
		Front string      `json:"front,omitempty"` // the one of several that sends them; "" for all
	}
	// ThereAlready says that a share is in force.
	ThereAlready struct {
		Share split.Share `json:"share"` // on green
	}
	// NoShare says that something is no share.
	NoShare struct {
		Share split.Share `json:"share"`
	}
	// NotChanged says that nobody else has changed the front.
	NotChanged struct{}
	// NothingToDo says that there is nothing to do for that at a stage.
	NothingToDo struct {
		Stage  Stage      `json:"stage"`
		Target split.Side `json:"target"`
	}
	// NobodyThere says that all requests would go to a side that has nobody.
	NobodyThere struct {
		Serving Serving `json:"serving"`
	}
	// NobodyServes says that more would go to a side of which nobody serves.
	NobodyServes struct {
		Serving Serving `json:"serving"`
	}
	// NotWatched says what has to be known for that, and is not.
	NotWatched struct {
		Lacks []Lack `json:"lacks"`
	}
	// NothingIsNew says that the other side has the same build.
	NothingIsNew struct {
		Side    split.Side `json:"side"` // that has it
		Version string     `json:"version"`
		Build   string     `json:"build"`
	}
	// NoRoute says what is wrong with a route.
	NoRoute struct {
		Leg  int    `json:"leg"`
		Said string `json:"said"`
	}
	// Gone says that a side has been retired.
	Gone struct {
		Side   split.Side `json:"side"`
		Stands bool       `json:"stands,omitempty"` // it was taken out of rotation, and runs
	}
	// NotRead says that the front has not been read yet, and why, if it was tried.
	NotRead struct {
		Said string `json:"said,omitempty"`
	}
	// NotRecorded says why the logbook cannot be written.
	NotRecorded struct {
		Said string `json:"said"`
	}
	// NoPart names a part that the plan does not have.
	NoPart struct {
		Part string `json:"part"`
	}
	// NoVersion says that none was named.
	NoVersion struct{}
	// NotItsOwn says that a part takes another one's versions.
	NotItsOwn struct {
		Part string `json:"part"`
		From string `json:"from"`
	}
	// VersionWrong says why a version cannot be raised.
	VersionWrong struct {
		Version string `json:"version"`
		Said    string `json:"said"`
	}
	// NoSuchVersion says which versions a part has, the newest first.
	NoSuchVersion struct {
		Part    string   `json:"part"`
		Version string   `json:"version"`
		Offers  []string `json:"offers,omitempty"`
		First   bool     `json:"first,omitempty"` // the part is the first
	}
	// IsSplit says that requests go to both sides, and that no crossing did that.
	IsSplit struct {
		Share split.Share `json:"share"` // on green
	}
	// NotThere says that a side has no instances.
	NotThere struct {
		Side split.Side `json:"side"`
	}
	// IsProving says that a proof is being made beside the crossing.
	IsProving struct{}
	// Overtaken says that everybody was sent home since that was asked for.
	Overtaken struct {
		Order reading.Order `json:"order"`
	}
	// NotTyped says what has to be typed.
	NotTyped struct {
		Service string `json:"service"`
	}
	// NotAtWheel says who has the wheel.
	NotAtWheel struct {
		Wheel Wheel `json:"wheel"`
	}
	// AtWheel says that they have it already.
	AtWheel struct{}
	// SideClosed says that nothing is sent to a side until it is opened again.
	SideClosed struct {
		Side  split.Side    `json:"side"`
		Order reading.Order `json:"order"` // by which it was left
	}
	// LiveServes says that the live side does, so that nothing is done at once.
	LiveServes struct {
		Serving Serving `json:"serving"`
	}
	// NoneToMatch says that a part is to have as many instances as are live, and none is.
	NoneToMatch struct {
		Side split.Side `json:"side"`
		Part string     `json:"part"`
	}
	// TooMuch says that a share is more than the limit of what a side carries.
	TooMuch struct {
		Side  split.Side  `json:"side"`
		Share split.Share `json:"share"` // on that side
		Load  float64     `json:"load"`  // the part of what it carries
	}
	// NoReason says that a person has to say why.
	NoReason struct {
		Side split.Side `json:"side"`
	}
)

// Name is the one name of the reason.
func (NothingBegun) Name() string  { return "nothing begun" }
func (IsForbidden) Name() string   { return "forbidden" }
func (StillUnderWay) Name() string { return "still under way" }
func (NotAllowed) Name() string    { return "not allowed" }
func (NotWaiting) Name() string    { return "not waiting" }
func (NoStart) Name() string       { return "no start" }
func (NotFourEyes) Name() string   { return "four eyes" }
func (IsOver) Name() string        { return "over" }
func (IsGoingBack) Name() string   { return "rolls back" }
func (IsBusy) Name() string        { return "busy" }
func (IsFrozen) Name() string      { return "frozen" }
func (NotFrozen) Name() string     { return "not frozen" }
func (OpenQuestion) Name() string  { return "open question" }
func (OtherQuestion) Name() string { return "other question" }
func (NotNext) Name() string       { return "not next" }
func (NotProven) Name() string     { return "not proven" }
func (NotSpare) Name() string      { return "not spare" }
func (GetsRequests) Name() string  { return "gets requests" }
func (ThereAlready) Name() string  { return "there already" }
func (NoShare) Name() string       { return "no share" }
func (NotChanged) Name() string    { return "not changed" }
func (NothingToDo) Name() string   { return "nothing to do" }
func (NobodyThere) Name() string   { return "nobody there" }
func (NobodyServes) Name() string  { return "nobody serves" }
func (NotWatched) Name() string    { return "not watched" }
func (NothingIsNew) Name() string  { return "nothing new" }
func (NoRoute) Name() string       { return "no route" }
func (Gone) Name() string          { return "gone" }
func (NotRead) Name() string       { return "not read" }
func (NotRecorded) Name() string   { return "not recorded" }
func (NoPart) Name() string        { return "no part" }
func (NoVersion) Name() string     { return "no version" }
func (NotItsOwn) Name() string     { return "not its own" }
func (VersionWrong) Name() string  { return "version wrong" }
func (NoSuchVersion) Name() string { return "no such version" }
func (IsSplit) Name() string       { return "split" }
func (NotThere) Name() string      { return "not there" }
func (IsProving) Name() string     { return "proving" }
func (Overtaken) Name() string     { return "overtaken" }
func (NotTyped) Name() string      { return "not typed" }
func (NotAtWheel) Name() string    { return "not at the wheel" }
func (AtWheel) Name() string       { return "at the wheel" }
func (LiveServes) Name() string    { return "live serves" }
func (SideClosed) Name() string    { return "side closed" }
func (NoneToMatch) Name() string   { return "none to match" }
func (TooMuch) Name() string       { return "too much" }
func (NoReason) Name() string      { return "no reason" }

// Name is the name that it came with.
func (n Newer) Name() string { return n.Called }

// Refuse makes an error of a reason.
func Refuse(because Reason) *Refusal { return &Refusal{because} }

// Refused is the reason of an error that is a refusal, if it is one for such a reason.
func Refused[R Reason](err error) (R, bool) {
	var refusal *Refusal
	if errors.As(err, &refusal) {
		r, ok := refusal.Because.(R)
		return r, ok
	}
	var none R
	return none, false
}

// Error names the reason.
func (r *Refusal) Error() string { return ErrNotNow.Error() + ": " + r.Because.Name() }

// Is makes every refusal an [ErrNotNow].
func (r *Refusal) Is(target error) bool { return target == ErrNotNow }

// MarshalJSON writes one flat object: the reason's fields, with its name as "kind".
func (r *Refusal) MarshalJSON() ([]byte, error) { return Reasons.Write(r.Because) }

// UnmarshalJSON reads what MarshalJSON writes. A reason that is not known is a [Newer] one.
func (r *Refusal) UnmarshalJSON(data []byte) (err error) {
	r.Because, err = Reasons.Read(data)
	return err
}

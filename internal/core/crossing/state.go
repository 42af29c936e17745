package crossing

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
)

// Stage is how far a crossing is.
type Stage string

// The stages in their order, then the ends.
const (
	None       Stage = "" // no crossing has begun
	Raising    Stage = "raise"
	Proving    Stage = "prove"
	Shifting   Stage = "shift"
	Keeping    Stage = "keep"
	Settled    Stage = "settled"
	RolledBack Stage = "rolled back"
	CalledOff  Stage = "called off"
)

// Over reports whether the crossing has ended.
func (s Stage) Over() bool { return s == Settled || s == RolledBack || s == CalledOff }

// UnderWay reports whether the crossing has begun and not ended.
func (s Stage) UnderWay() bool { return s != None && !s.Over() }

// InTheWay is why another crossing cannot begin while this one is under way.
func (s State) InTheWay() StillUnderWay {
	return StillUnderWay{s.Number, s.Stage, s.Version, s.BegunBy, s.Begun, s.Moved}
}

// State is where a service stands: the last crossing as of its last event, and what is
// being done. The zero value is a service that nothing has been done to.
type State struct {
	Seq uint64 `json:"seq"` // of the last event, 0 before the first

	// What was begun with.
	Number      int            `json:"number"`
	Service     string         `json:"service"`
	Folder      string         `json:"folder,omitempty"` // identity of the state folder that it was begun in
	Target      split.Side     `json:"target"`           // the side crossed to
	Version     string         `json:"version"`
	Build       string         `json:"build,omitempty"`
	LiveVersion string         `json:"live_version,omitempty"`
	Choices     []raise.Choice `json:"choices"` // what each part is raised at, the front's part first
	Route       route.Route    `json:"route"`
	Keep        time.Duration  `json:"keep"`
	Then        plan.Then      `json:"then"`
	First       bool           `json:"first,omitempty"`   // nobody was live: there is nothing to compare with
	Hold        bool           `json:"hold,omitempty"`    // wait for a person before the first leg and after failures
	With        string         `json:"with,omitempty"`    // the fleet that it arrives with, see [AskTogether]
	AtOnce      bool           `json:"at_once,omitempty"` // the side crossed from did not serve when it was begun
	Begun       time.Time      `json:"begun,omitzero"`
	BegunBy     string         `json:"begun_by,omitempty"`
	BegunPeer   Peer           `json:"begun_peer,omitzero"` // who that was, as the keeper's machine knows it

	Control Control `json:"control,omitzero"` // beside which the first legs go, where the route wants it

	Waiting Arrival `json:"waiting,omitzero"` // another version, which waits for its turn

	Wheel Wheel          `json:"wheel,omitzero"`
	Was   wayback.Record `json:"was,omitzero"` // what the side crossed from was when it carried everything

	Stage Stage         `json:"stage"`
	Leg   int           `json:"leg"`            // the leg in force, -1 before the first
	Since time.Time     `json:"since"`          // when the stage or leg began
	Left  time.Duration `json:"left,omitempty"` // of leg or keep as of the last event; time counts while it is watched

	Share split.Share     `json:"share"`           // on green, in force as last confirmed or read
	Apart []reading.Apart `json:"apart,omitempty"` // members of several fronts that have another share
	// when the share is in force for the last of those who ask, if that is later than its event
	Everywhere time.Time `json:"everywhere,omitzero"`
	Generation uint64    `json:"generation,omitempty"` // the order of going home under which traffic is moved
	// the order by which a side was evacuated, and is closed; zero if none is
	Closed reading.Order `json:"closed,omitzero"`
	// how often it was taken up by a keeper that knew nothing of what was counted before
	Resumed int  `json:"resumed,omitempty"`
	Moved   bool `json:"moved,omitempty"` // traffic was ever sent to the target
	Proven  bool `json:"proven"`          // the target passed its proof
	// by side: taken out of rotation when it was retired, and not stopped, because it stands
	Out [2]bool `json:"out,omitzero"`

	Task Task `json:"task"` // what is being done; its ID is 0 if nothing is
	// a move that a freeze cancelled, and of which it is not known yet whether it came through all the same
	Late      Task            `json:"late,omitzero"`
	GoingBack bool            `json:"going_back,omitempty"`
	Why       Cause           `json:"why,omitzero"`       // why it goes back, or ended as it did
	Freezes   []Freezing      `json:"freezes,omitempty"`  // why the route stands still; none if it does not
	Question  Question        `json:"question,omitzero"`  // what a person is asked; its ID is 0 if nobody is
	Accepted  []proof.Finding `json:"accepted,omitempty"` // findings that somebody accepted
	Overruled []Overruling    `json:"overruled,omitempty"`
	// guards without whose judgement a person goes on with the present leg or keep
	Waived []string `json:"waived,omitempty"`
	// what the other side last answered, kept since all requests have moved
	Baselines []Baseline `json:"baselines,omitempty"`
	// somebody else changed the share, and nobody has said what to do
	Foreign bool        `json:"foreign,omitempty"`
	Ours    split.Share `json:"ours,omitempty"` // what it was before, while Foreign
	OursLeg int         `json:"ours_leg,omitempty"`
	Due     Due         `json:"due,omitzero"`
	Trouble Trouble     `json:"trouble,omitzero"` // the last thing that went wrong
	// what is wrong with a side that gets requests while nothing is under way
	Ails []Ail `json:"ails,omitempty"`
	Told Told  `json:"told,omitzero"`
	Term Term  `json:"term,omitzero"`
}

// Term is the front's term that the keeper works in, as far as it is on record: whoever goes on for a keeper that has
// not handed over begins another one.
type Term struct {
	Number uint64 `json:"number,omitempty"`
	Known  bool   `json:"known,omitempty"`  // the keeper that reads a later one has been taken over from
	Folder string `json:"folder,omitempty"` // identity of the state folder of who began it; "" if that is not on record
	Begins bool   `json:"begins,omitempty"` // one was about to be begun, and perhaps has been
	Over   bool   `json:"over,omitempty"`   // another keeper has begun a later one
}

// Told is what people have been told that no other event says.
type Told struct {
	WayBack   wayback.State        `json:"way_back,omitempty"`
	RetireDue bool                 `json:"retire_due,omitempty"` // of this crossing
	Expires   map[string]time.Time `json:"expires,omitempty"`    // until when what is valid
	Notices   Noticing             `json:"notices,omitzero"`
}

// Noticing is from when on people are told what happens.
type Noticing struct {
	On   bool   `json:"on"`
	From uint64 `json:"from"` // sequence number
}

// Ail is that a side which gets requests does not serve as it should while no crossing is under way.
type Ail struct {
	ID    uint64    `json:"id"` // sequence number of the event that said so
	At    time.Time `json:"at"`
	Cause Cause     `json:"cause"` // ByGuard, NobodyHome, HomeIll
}

// Task is something that is to be performed. There is at most one: what is asked for
// next takes its place, and reports on an earlier one change nothing.
type Task struct {
	ID    uint64      `json:"id"` // sequence number of the event that asked for it
	Do    TaskKind    `json:"do"`
	By    string      `json:"by,omitempty"`    // who asked for it
	At    time.Time   `json:"at,omitzero"`     // when
	Act   bool        `json:"act,omitempty"`   // by hand, outside of a crossing
	Side  split.Side  `json:"side"`            // raised, proven, retired, or gone home to
	Share split.Share `json:"share"`           // on green, to be in force: of Move
	Leg   int         `json:"leg"`             // that the share begins; -1 for none: of Move
	Force bool        `json:"force,omitempty"` // even to a side with nobody: of GoHome
	// a person's words why it goes to a side that is not proven: of Move
	Unproven string `json:"unproven,omitempty"`
	Final    bool   `json:"final,omitempty"` // instances are being stopped: of Retire
	// a person said so though nobody can tell whether the other side answers: of Retire
	Word bool  `json:"word,omitempty"`
	Why  Cause `json:"why,omitzero"` // of GoHome outside of a crossing

	Choices []raise.Choice `json:"choices,omitempty"` // what each part is raised at: of StandUp
	// it stands already, and gets more instances before Share and Leg: of StandUp
	More bool `json:"more,omitempty"`
	// the control group is started beside the live side's instances, or, by hand, stopped: of StandUp
	Control bool `json:"control,omitempty"`
}

// Grows reports whether it gives the target more instances.
func (t Task) Grows() bool { return t.More && !t.Control }

// Due is a share that waits for the target to have more instances, and to be proven with them.
type Due struct {
	On    bool        `json:"on,omitempty"`
	Share split.Share `json:"share"` // on green
	Leg   int         `json:"leg"`   // that it begins; -1 for none
}

// Deed is what a task does.
type TaskKind string

// The deeds.
const (
	TaskRaise  TaskKind = "raise"  // a side's instances
	TaskProve  TaskKind = "prove"  // a side
	TaskMove   TaskKind = "shift"  // traffic, to a share
	TaskHome   TaskKind = "home"   // all traffic to a side, whatever the front has
	TaskRetire TaskKind = "retire" // a side
)

// Orders is what somebody has to do now, as follows from the state alone.
func (s State) Orders() []Task {
	if s.Task.ID == 0 || s.Term.Over {
		return nil
	}
	return []Task{s.Task}
}

// Alone reports whether there is no side to compare with: nobody was live, or who was did not serve.
func (s State) Alone() bool { return s.First || s.AtOnce }

// Retiring reports whether a side is being given up.
func (s State) Retiring() bool { return s.Task.ID != 0 && s.Task.Do == TaskRetire }

// Home is the share on green with all traffic on the side crossed from.
func (s State) Home() split.Share { return split.Toward(s.Target, 0) }

// Full is the share on green with all traffic on the target.
func (s State) Full() split.Share { return split.Toward(s.Target, split.Whole) }

// Part is the target's part of the traffic.
func (s State) Part() split.Share { return s.Share.Of(s.Target) }

// Sends is the largest part of the traffic that any member of the front sends to a side.
func (s State) Sends(side split.Side) split.Share { return reading.Sends(s.Share, s.Apart, side) }

// Least is the smallest part of the traffic that any member of the front sends to a side.
func (s State) Least(side split.Side) split.Share { return split.Whole - s.Sends(side.Other()) }

// Rises reports whether more is on its way to the target of a crossing.
func (s State) Rises() bool { return s.risesBy(s.Task) }

// risesBy reports whether a task sends more to the target of a crossing.
func (s State) risesBy(t Task) bool {
	return t.Do == TaskMove && !t.Act && t.Share.Of(s.Target) > s.Least(s.Target)
}

// Everyone reports whether every member of the front has a share.
func (s State) Everyone(share split.Share) bool { return s.Share == share && len(s.Apart) == 0 }

// Live is the side that carries the service: the target once the crossing has
// settled, until then the side crossed from.
func (s State) Live() split.Side {
	if s.Stage == Settled {
		return s.Target
	}
	return s.Target.Other()
}

// Frozen reports whether the route stands still.
func (s State) Frozen() bool { return len(s.Freezes) > 0 }

// FrozenBy is the cause of the first freeze that has one of a kind, and false if there is none.
func FrozenBy[K CauseKind](s State) (cause K, frozen bool) {
	for _, f := range s.Freezes {
		if cause, frozen = f.Cause.Is.(K); frozen {
			break
		}
	}
	return cause, frozen
}

// LiveIll reports whether the side crossed from is, or was, ill while it got requests.
func (s State) LiveIll() bool {
	_, frozen := FrozenBy[HomeIll](s)
	return frozen || slices.ContainsFunc(s.Overruled, func(o Overruling) bool { return o.Guard == LiveSide })
}

// Next is the leg that follows, and false if there is none. Legs that the traffic has
// been steered past are left out.
func (s State) Next() (leg int, ok bool) {
	for leg = s.Leg + 1; leg < len(s.Route); leg++ {
		if part := s.Route[leg].Part; part > s.Part() || part == split.Whole {
			return leg, true
		}
	}
	return 0, false
}

// LegShare is the share on green that a leg of the route puts in force.
func (s State) LegShare(leg int) split.Share { return split.Toward(s.Target, s.Route[leg].Part) }

// Timed reports whether something is to end by itself: a leg, the keep, or the time between
// a proof and the first leg, which is none where everything is known.
func (s State) Timed() bool {
	return (s.Stage == Shifting && s.Leg >= 0 || s.Stage == Keeping || s.Stage == Proving && s.Proven) &&
		!s.GoingBack && s.Question.ID == 0 && s.Task.ID == 0
}

// Whole is how long leg or keep last in all, 0 if nothing is timed.
func (s State) Whole() time.Duration {
	switch {
	case s.Stage == Keeping:
		return s.Keep
	case s.Stage == Shifting && s.Leg >= 0 && s.Leg < len(s.Route): // of a damaged logbook it may be another's
		return s.Route[s.Leg].Dwell
	}
	return 0
}

// UntilSure reports whether a leg is on that ends when the fault to find is excluded, and how long it
// lasts at least.
func (s State) UntilSure() (least time.Duration, ok bool) {
	if s.Stage != Shifting || s.Leg < 0 || s.Leg >= len(s.Route) {
		return 0, false
	}
	l := s.Route[s.Leg]
	return l.Least, l.Sure
}

// String is the state on one line, for tests and the program's log.
func (s State) String() string {
	text := string(s.Stage)
	if s.Stage == None {
		text = "nothing begun"
	}
	if s.Stage == Shifting || s.Stage == Keeping {
		text += fmt.Sprintf(", leg %d of %d, %v on green", s.Leg+1, len(s.Route), s.Share)
	}
	if s.Task.ID != 0 {
		text += ", to do: " + s.Task.String()
	}
	var freezes []string
	for _, f := range s.Freezes {
		freezes = append(freezes, fmt.Sprintf("%v #%d", f.Cause, f.ID))
	}
	for _, flag := range []struct {
		on   bool
		text string
	}{
		{s.GoingBack, "going back"},
		{s.Frozen(), "frozen: " + strings.Join(freezes, "; ")},
		{s.Question.ID != 0, "asks: " + s.Question.String()},
		{s.Late.ID != 0, "cancelled: " + s.Late.String()},
		{s.Trouble.Is != nil, "trouble: " + s.Trouble.String()},
		{s.Why.Is != nil, "because: " + s.Why.String()},
	} {
		if flag.on {
			text += ", " + flag.text
		}
	}
	return text
}

// String is the task in few words: "shift to 25 % (#4)".
func (t Task) String() string {
	var text string
	switch t.Do {
	case TaskRaise:
		text = fmt.Sprintf("raise %v at %s", t.Side, raise.Main(t.Choices).Version)
		if t.Control {
			text = fmt.Sprintf("raise %v to %d, with control", t.Side, raise.Main(t.Choices).Instances)
		} else if t.More {
			text = fmt.Sprintf("raise more of %v, for %v", t.Side, t.Share)
		}
	case TaskMove:
		text = fmt.Sprintf("shift to %v", t.Share)
	case TaskHome:
		text = fmt.Sprintf("home to %v", t.Side)
	default:
		text = fmt.Sprintf("%s %v", t.Do, t.Side)
	}
	if t.Final {
		text += ", finally"
	}
	return fmt.Sprintf("%s (#%d)", text, t.ID)
}

// Past is an earlier crossing, in few words.
type Past struct {
	Number  int       `json:"number"`
	Version string    `json:"version"`
	Build   string    `json:"build,omitempty"`
	Stage   Stage     `json:"stage"`
	Begun   time.Time `json:"begun"`
}

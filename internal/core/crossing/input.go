package crossing

import (
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
)

// Input is what a decision is made on: something that a person asks for, that whoever
// performs a task reports, or that was observed. The inputs are the types below, and every [Act].
type Input interface {
	// decide has the decision come to what follows, or refuses, which changes nothing.
	decide(*decision) error
}

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
		Home  Serving // the side to go back to, as known
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
	LiveIll struct{ Home Serving }
	// TargetLost says that nobody of the target serves any more while more is on its way there.
	TargetLost struct{ Target Serving }
	// Arrived carries what the other side answered so far, when the target gets its first
	// requests and when it gets all of them.
	Arrived struct{ Baselines []Baseline }
	// Drop says that a version which waits is not to be begun, and why.
	Drop Dropped
	// CameBack says that an instance had ended, and was started again or could not be.
	CameBack Restarted
	// Remember carries what the side crossed from is, before anything is moved away from it.
	Remember struct{ Record wayback.Record }
	// Tell has something recorded that the keeper knows of itself, and that changes nothing of a crossing: that people
	// are told something, or were told it, and in which term it works.
	Tell struct{ Fact Fact }
	// WayBackClosed says that there is no way back any more, while there should be.
	WayBackClosed struct{ Worst wayback.Condition }
	// ControlLeft says that instances of a control group stand whose crossing has come to nothing, and that the front
	// has none of them any more.
	ControlLeft struct{}
	// TookUp says that a keeper was started in the middle of something.
	TookUp struct {
		Found Found
		Order reading.Order
	}
)

func (i Report) decide(d *decision) error        { d.report(i.Fact); return nil }
func (i FrontSeen) decide(d *decision) error     { d.frontSeen(i); return nil }
func (i Alarmed) decide(d *decision) error       { d.alarmed(i); return nil }
func (Recovered) decide(d *decision) error       { d.recovered(); return nil }
func (TimeUp) decide(d *decision) error          { d.timeUp(); return nil }
func (Lapsed) decide(d *decision) error          { d.lapsed(); return nil }
func (i Missed) decide(d *decision) error        { d.missed(i); return nil }
func (i LiveIll) decide(d *decision) error       { d.liveIll(i); return nil }
func (i Arrived) decide(d *decision) error       { d.arrived(i); return nil }
func (i TargetLost) decide(d *decision) error    { d.targetLost(i); return nil }
func (i Remember) decide(d *decision) error      { d.remember(i); return nil }
func (i CameBack) decide(d *decision) error      { d.then(Restarted(i)); return nil }
func (i Drop) decide(d *decision) error          { d.drop(i); return nil }
func (ControlLeft) decide(d *decision) error     { d.controlLeft(); return nil }
func (i Tell) decide(d *decision) error          { d.then(i.Fact); return nil }
func (i WayBackClosed) decide(d *decision) error { d.wayClosed(i.Worst); return nil }
func (i TookUp) decide(d *decision) error        { d.resumed(i); return nil }

// about reports whether an input is about a crossing: it comes to nothing where none has begun.
func about(in Input) bool {
	switch i := in.(type) {
	case Act:
		return i.About().Under
	case TimeUp, Lapsed, Remember, WayBackClosed, TargetLost, Arrived, ControlLeft:
		return true
	}
	return false
}

// Moment is when an input comes, and from whom.
type Moment struct {
	At      time.Time
	By      string        // a person's handle, or the part of Vaiven
	Peer    Peer          // who that was, as the socket knows it
	Groups  []string      // Unix groups of that user
	Planned bool          // the plan says so: whoever it is for had the right when they said so
	Client  string        // identity of the person's client; "" for a command that comes without one
	From    string        // where that is
	Take    bool          // the wheel, also from somebody else
	Token   bool          // it answers the question of a notice: it needs no wheel, and leaves it as it is
	Confirm string        // what has to be typed where that is asked for: the service's name
	Silent  bool          // nothing is heard just now of the client that has the wheel
	Seen    uint64        // sequence number of the state that a person saw
	As      *uint64       // the generation of the front's order that a person knew of; nil for the one of now
	Load    Load          // that a share would mean
	Rest    time.Duration // what is left of leg or keep, of the time that was watched
	There   Serving       // the target's, as known
	Old     Serving       // the other side's
	Lacks   []Lack        // what has to be known for the route to go on, and is not
	// what has to be known of the side with all requests before the other one is retired, and is not
	Stays  []Lack
	Unsure []Unsure  // guards that have not excluded the fault that they are to find, on this leg
	Said   string    // a person's own words
	Again  time.Time // nothing is retired before: nobody watched a while ago; zero if somebody did
	// of the crossing that is under way, until now
	Counted Counted
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

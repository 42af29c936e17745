package crossing

import (
	"encoding/json"
	"fmt"
	"time"

	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
)

// Event is something that happened: when, by whom, and what.
type Event struct {
	Seq      uint64 // grows by one with each event of a service
	Crossing int    // number of the crossing it belongs to; 0 for what was done outside of one
	At       time.Time
	By       string // a person's handle, as they say it, or the part of Vaiven that reports it
	Peer     Peer   // who that person was, as the keeper's machine knows it
	Said     string // a person's own words
	What     Fact
}

// Peer is a user of the keeper's machine, as the socket knows who is at its other end. The zero value is nobody.
type Peer struct {
	User int    `json:"user"` // number
	Name string `json:"name"`
	Host string `json:"host"` // that it is a user of
	// account with whose key they came, which has a forced command that says who they are; "" for none
	Gate string `json:"gate,omitempty"`
	// address with whose notice they came, in which a token says who they are; "" for none
	Mail string `json:"mail,omitempty"`
}

// Same reports whether two are the same person: a user of the same machine by name, however each came.
func (p Peer) Same(o Peer) bool { return p.Host == o.Host && p.Name == o.Name }

// String is such as "uid 1004 (marit) on quay2".
func (p Peer) String() string {
	if p.Mail != "" {
		return fmt.Sprintf("%s by a notice to %s", p.Name, p.Mail)
	}
	if p.Gate != "" {
		return fmt.Sprintf("%s by a key of %s on %s", p.Name, p.Gate, p.Host)
	}
	return fmt.Sprintf("uid %d (%s) on %s", p.User, p.Name, p.Host)
}

// Fact is what an event is about: one of the types below, or [Unknown].
type Fact interface {
	// Kind is the fact's name in the logbook and in the event stream.
	Kind() string
}

// Kept is what goes on when a crossing begins, in addition to what [Begun] names. A keeper that starts reads the
// logbook from the last beginning on, so the beginning has to carry all of it.
type Kept struct {
	Whole   bool                 `json:"whole"`             // false in what an earlier Vaiven wrote: it has nothing
	Apart   []reading.Apart      `json:"apart,omitempty"`   // members of several fronts that have another share
	Out     [2]bool              `json:"out,omitzero"`      // by side: taken out of rotation, and not stopped
	Closed  reading.Order        `json:"closed,omitzero"`   // by which a side was evacuated
	Expires map[string]time.Time `json:"expires,omitempty"` // of what people were told that it ends, until when
	Notices Noticing             `json:"notices,omitzero"`  // from when on people are told
	Control bool                 `json:"control,omitempty"` // a control group of the target is there
}

// What happened, in the order in which a crossing goes.
type (
	// Begun is the first event of a crossing.
	Begun struct {
		Service     string         `json:"service"`
		Folder      string         `json:"folder,omitempty"` // identity of the state folder
		Number      int            `json:"number"`
		Target      split.Side     `json:"target"`
		LiveVersion string         `json:"live_version,omitempty"`
		Choices     []raise.Choice `json:"choices"` // what each part is raised at, the front's part first
		Route       route.Route    `json:"route"`
		Keep        time.Duration  `json:"keep"` // nanoseconds
		Then        plan.Then      `json:"then"`
		First       bool           `json:"first,omitempty"` // nobody is live
		// wait for a person before the first leg and after failures
		Hold   bool        `json:"hold,omitempty"`
		With   string      `json:"with,omitempty"`    // the fleet that it arrives with, see [AskTogether]
		AtOnce bool        `json:"at_once,omitempty"` // in one step, because the live side does not serve
		Share  split.Share `json:"share"`             // on green, as the front has it
		Wheel  Wheel       `json:"wheel,omitzero"`    // who steers
		// number of the crossing that had settled, and that this goes back from
		After int `json:"after,omitempty"`
		// what the side crossed from was, of one that goes back from another
		Was        wayback.Record `json:"was,omitzero"`
		Generation uint64         `json:"generation,omitempty"`
		Waiting    Arrival        `json:"waiting,omitzero"` // another version, which waits for its turn
		Term       Term           `json:"term,omitzero"`    // that its keeper worked in then
		Control    Control        `json:"control,omitzero"` // what one would be of
		Kept       Kept           `json:"kept,omitzero"`    // what goes on from before
	}
	// Asked says that a person is waited for. The question's ID and time are the event's.
	Asked struct {
		Question Question `json:"question"`
	}
	// Answered is a yes; a no goes back.
	Answered struct {
		Question Question `json:"question"`
	}
	// Ordered says that something is to be done from now on. The task's ID is the event's.
	Ordered struct {
		Task Task `json:"task"`
	}
	// Raised says that all instances of a side are up.
	Raised struct {
		Task      uint64   `json:"task"`
		Instances []string `json:"instances"`
		// from an instance's start until it was healthy, nanoseconds
		Times map[string]time.Duration `json:"times,omitempty"`
	}
	// Proved carries the outcome of the checks.
	Proved struct {
		Task  uint64      `json:"task"`
		Proof proof.Proof `json:"proof"`
	}
	// Noted is what the side crossed from was when it carried everything.
	Noted struct {
		Record wayback.Record `json:"record"`
	}
	// Accepted says which findings of the proof a person accepted.
	Accepted struct {
		Findings []proof.Finding `json:"findings"`
	}
	// TookEffect says which share the front has in force, as read back.
	TookEffect struct {
		Task     uint64        `json:"task"`
		Nearest  split.Share   `json:"nearest"`            // to the share asked for that the front can do, on green
		Share    split.Share   `json:"share"`              // on green
		Revision uint64        `json:"revision,omitempty"` // of the front's split
		Took     time.Duration `json:"took"`               // nanoseconds, from command to confirmation
		Did      []string      `json:"did,omitempty"`      // at the front: commands, or lines of a file's difference
		// Everywhere is when the last of those who ask goes by it, where that is later than
		// the event: names are remembered for a time.
		Everywhere time.Time `json:"everywhere,omitzero"`
	}
	// Failed says that a task came to nothing.
	Failed struct {
		Task    uint64  `json:"task"`
		Trouble Trouble `json:"trouble"`
	}
	// Frozen says that the route stands still. The freeze's ID and time are the event's.
	Frozen struct {
		Cause Cause         `json:"cause"`
		Left  time.Duration `json:"left,omitempty"` // of leg or keep, nanoseconds
	}
	// Resumed says that a person ended freezes.
	Resumed struct {
		Freezes   []uint64     `json:"freezes"`
		Overruled []Overruling `json:"overruled,omitempty"` // guards in spite of which it goes on
		// guards without whose judgement it goes on, for this leg or keep
		Waived []string `json:"waived,omitempty"`
	}
	// Compared is what the other side has answered so far. Guards compare with it once that
	// side gets nothing any more.
	Compared struct {
		Baselines []Baseline `json:"baselines"`
	}
	// Changed says that somebody else changed the front.
	Changed struct {
		From     split.Share     `json:"from"` // on green
		Share    split.Share     `json:"share"`
		Apart    []reading.Apart `json:"apart,omitempty"`   // members of the front that have another share
		Foreign  bool            `json:"foreign,omitempty"` // a person has to say what to do of it
		Revision uint64          `json:"revision,omitempty"`
	}
	// Rerouted says by which legs the crossing goes on.
	Rerouted struct {
		Route route.Route `json:"route"`
	}
	// AcceptedTheirs says that a person takes what somebody else did for ours.
	AcceptedTheirs struct{}
	// RollsBack says that all traffic is to go home.
	RollsBack struct {
		Cause Cause `json:"cause"`
	}
	// SentBack says that somebody went home past this keeper.
	SentBack struct {
		Order reading.Order   `json:"order"`
		Share split.Share     `json:"share"` // on green, as the front has it now
		Apart []reading.Apart `json:"apart,omitempty"`
	}
	// Ailed says that a side which gets requests does not serve as it should while nothing is under way. The ail's ID
	// and time are the event's.
	Ailed struct {
		Cause Cause `json:"cause"`
	}
	// Recovers says that nothing is wrong with it any more.
	Recovers struct {
		Ails []uint64 `json:"ails"`
	}
	// Returned says that all traffic is home, on every member of the front.
	Returned struct {
		Task       uint64        `json:"task"`
		Share      split.Share   `json:"share"` // on green
		Generation uint64        `json:"generation"`
		Revision   uint64        `json:"revision,omitempty"`
		Took       time.Duration `json:"took"` // nanoseconds, from command to confirmation
		Did        []string      `json:"did,omitempty"`
		Everywhere time.Time     `json:"everywhere,omitzero"` // as of InForce
	}
	// NotReturned says that the front would not go home, because nobody is there.
	NotReturned struct {
		Task uint64  `json:"task"`
		Home Serving `json:"home"`
	}
	// Ended ends the crossing.
	Ended struct {
		Stage   Stage   `json:"stage"`
		Cause   Cause   `json:"cause,omitzero"`
		Counted Counted `json:"counted,omitzero"` // while it was under way
	}
	// Stopping says that a side that is being retired has no requests open any more, or
	// that its grace is over, and that its instances are being stopped: from here on there
	// is no way back to them.
	Stopping struct {
		Task   uint64 `json:"task"`
		Cut    int64  `json:"cut,omitempty"`    // requests that were open all the same
		Stands bool   `json:"stands,omitempty"` // it is taken out of rotation, and not stopped
	}
	// Retired says that a side's instances are gone, or that those that stand, which are not ours to stop, get
	// no requests any more.
	Retired struct {
		Task   uint64     `json:"task"`
		Side   split.Side `json:"side"`
		Stands bool       `json:"stands,omitempty"`
		Stays  int        `json:"stays,omitempty"` // instances that go on running
	}
	// TakenUp is the first event of a keeper that was started again in the middle.
	TakenUp struct {
		Found Found         `json:"found"`
		Order reading.Order `json:"order,omitzero"`
	}
	// Restarted says that an instance had ended while its side was wanted, and was started again.
	Restarted struct {
		Side     split.Side `json:"side"`
		Instance string     `json:"instance"`
		Count    int        `json:"count"` // how often it was by now
		Exit     string     `json:"exit,omitempty"`
		Output   string     `json:"output,omitempty"`  // its last line
		Changed  bool       `json:"changed,omitempty"` // its environment is not what it was
		Build    string     `json:"build,omitempty"`   // what differs of the build that was delivered
		Copy     bool       `json:"copy,omitempty"`    // for that it runs from a copy which was kept
		Failed   string     `json:"failed,omitempty"`  // why it could not be
	}
	// Hooked says what came of a hook: a command of the user's own that ran at a moment.
	Hooked struct {
		Moment  plan.HookMoment `json:"moment"`
		Command string          `json:"command"`
		Took    time.Duration   `json:"took"`             // nanoseconds
		Failed  string          `json:"failed,omitempty"` // why, and what it said
	}
	// VersionArrived says that a version waits for its turn.
	VersionArrived struct {
		Version string `json:"version"`
		Commit  string `json:"commit,omitempty"`
	}
	// Dropped says that a version which waited is not begun.
	Dropped struct {
		Version string `json:"version"`
		For     string `json:"for,omitempty"` // the newer one that took its place
		Why     string `json:"why,omitempty"` // else why
	}
	// Built says what came of making a version.
	Built struct {
		Version string        `json:"version"`
		Commit  string        `json:"commit,omitempty"`
		Build   string        `json:"build,omitempty"` // identity of what was made
		Took    time.Duration `json:"took"`            // nanoseconds
		Output  string        `json:"output"`          // file with all that was said, in the state folder
		Failed  string        `json:"failed,omitempty"`
	}
	// WayBackIs says that the way back has become another than people were told last.
	WayBackIs struct {
		State wayback.State     `json:"state"`
		Worst wayback.Condition `json:"worst,omitzero"` // why it is not open
	}
	// RetireDue says that the side without traffic is retired soon.
	RetireDue struct {
		Side split.Side    `json:"side"`
		In   time.Duration `json:"in"` // nanoseconds
	}
	// Expires says until when something is valid that the service cannot do without.
	Expires struct {
		What  string    `json:"what"`
		Until time.Time `json:"until"`
	}
	// NoticesBegin says that people are told what happens from here on.
	NoticesBegin struct{}
	// NoticeSent says that a notice has been delivered.
	NoticeSent struct {
		Letter Letter        `json:"letter"`
		Tries  int           `json:"tries"`
		Took   time.Duration `json:"took"` // nanoseconds, since what it is about happened
	}
	// NoticeFailed says that a notice is given up.
	NoticeFailed struct {
		Letter Letter `json:"letter"`
		Tries  int    `json:"tries"`
		Failed string `json:"failed"` // why, as whoever was to take it said
	}
	// TookWheel says who steers from now on, and who did before. The wheel is vacant after a
	// command that came without a client of its own.
	TookWheel struct {
		Wheel  Wheel `json:"wheel"`
		Before Wheel `json:"before,omitzero"`
	}
	// LeftWheel says that nobody steers from now on.
	LeftWheel struct {
		Wheel Wheel `json:"wheel"`
		Gone  bool  `json:"gone,omitempty"` // nothing was heard of its client for too long
	}
	// TermBegins says that this keeper is about to begin another term at the front: the one before it has not handed
	// over.
	TermBegins struct{}
	// TermBegan says that it works in a term which it has begun.
	TermBegan struct {
		Number uint64 `json:"number"`
		Folder string `json:"folder,omitempty"` // identity of the state folder of who began it
		From   string `json:"from,omitempty"`   // the keeper that a standby took over from, as commands name it
	}
	// Followed says that a standby follows this keeper, which works in a term.
	Followed struct {
		From string `json:"from"` // where the standby is
		Term uint64 `json:"term"`
	}
	// TakenOver says that another keeper has begun a later term: this one has nothing to say any more, and ends.
	TakenOver struct {
		Term uint64 `json:"term,omitempty"` // 0 where that could not be read
	}
	// BegunAnew is the first event of a logbook in place of a damaged one.
	BegunAnew struct {
		Aside string `json:"aside"` // file that the one before was put aside as
		Wrong string `json:"wrong"` // what was wrong with it
	}
)

// Letter is a notice to one receiver.
type Letter struct {
	ID    string   `json:"id"` // the same however often it is sent
	About string   `json:"about"`
	Of    []uint64 `json:"of"` // sequence numbers of the events that it tells of
	To    string   `json:"to"`
	// it is sent because nobody has answered the question for a while
	Late bool `json:"late,omitempty"`
}

// Unknown is a fact that this Vaiven does not know, or whose fields are not those that it knows: a newer one wrote it.
// It is kept as it is, and changes nothing.
type Unknown struct{ oneof.Newer }

// Kind names each fact; the names are part of the logbook's format.
func (Begun) Kind() string          { return "begun" }
func (Asked) Kind() string          { return "asked" }
func (Answered) Kind() string       { return "answered" }
func (Ordered) Kind() string        { return "ordered" }
func (Raised) Kind() string         { return "raised" }
func (Proved) Kind() string         { return "proved" }
func (Noted) Kind() string          { return "noted" }
func (Accepted) Kind() string       { return "accepted" }
func (TookEffect) Kind() string     { return "took effect" }
func (Failed) Kind() string         { return "failed" }
func (Frozen) Kind() string         { return "frozen" }
func (Resumed) Kind() string        { return "resumed" }
func (Compared) Kind() string       { return "compared" }
func (Changed) Kind() string        { return "changed" }
func (Rerouted) Kind() string       { return "rerouted" }
func (AcceptedTheirs) Kind() string { return "accepted theirs" }
func (RollsBack) Kind() string      { return "rolls back" }
func (SentBack) Kind() string       { return "sent back" }
func (Ailed) Kind() string          { return "ill" }
func (Recovers) Kind() string       { return "well again" }
func (Returned) Kind() string       { return "rolled back" }
func (NotReturned) Kind() string    { return "not rolled back" }
func (Ended) Kind() string          { return "ended" }
func (Stopping) Kind() string       { return "stopping" }
func (Retired) Kind() string        { return "retired" }
func (TakenUp) Kind() string        { return "keeper restarted" }
func (Restarted) Kind() string      { return "instance restarted" }
func (Hooked) Kind() string         { return "hook" }
func (VersionArrived) Kind() string { return "version arrived" }
func (Dropped) Kind() string        { return "version dropped" }
func (Built) Kind() string          { return "built" }
func (WayBackIs) Kind() string      { return "way back" }
func (RetireDue) Kind() string      { return "retirement due" }
func (Expires) Kind() string        { return "expires" }
func (NoticesBegin) Kind() string   { return "notices begin" }
func (NoticeSent) Kind() string     { return "notice sent" }
func (NoticeFailed) Kind() string   { return "notice not sent" }
func (TookWheel) Kind() string      { return "took the wheel" }
func (TermBegins) Kind() string     { return "term begins" }
func (TermBegan) Kind() string      { return "term began" }
func (Followed) Kind() string       { return "followed" }
func (TakenOver) Kind() string      { return "taken over" }
func (BegunAnew) Kind() string      { return "logbook begun anew" }
func (LeftWheel) Kind() string      { return "left the wheel" }
func (u Unknown) Kind() string      { return u.Called }

// Facts are all that this Vaiven knows of.
var Facts = oneof.New[Fact]("event", Fact.Kind, func(n oneof.Newer) Fact { return Unknown{n} },
	Begun{}, Asked{}, Answered{}, Ordered{}, Raised{}, Proved{}, Noted{}, Accepted{}, TookEffect{}, Failed{}, Frozen{},
	Resumed{}, Compared{}, Changed{}, Rerouted{}, AcceptedTheirs{}, RollsBack{}, SentBack{}, Ailed{}, Recovers{},
	Returned{}, NotReturned{}, Ended{}, Stopping{}, Retired{}, TakenUp{}, Restarted{}, Hooked{},
	VersionArrived{}, Dropped{}, Built{}, WayBackIs{}, RetireDue{}, Expires{},
	NoticesBegin{}, NoticeSent{}, NoticeFailed{},
	TookWheel{}, LeftWheel{}, TermBegins{}, TermBegan{}, Followed{}, TakenOver{}, BegunAnew{})

// head is what all events have.
type head struct {
	Seq      uint64    `json:"seq"`
	Crossing int       `json:"crossing,omitempty"`
	At       time.Time `json:"at"`
	By       string    `json:"by,omitempty"`
	Peer     Peer      `json:"peer,omitzero"`
	Said     string    `json:"said,omitempty"`
}

// MarshalJSON writes the event as one flat object: the fact's fields with "seq",
// "crossing", "at", "by" and "event" in front. An unknown one is written as it was read.
func (e Event) MarshalJSON() ([]byte, error) {
	return Facts.Write(e.What, head{e.Seq, e.Crossing, e.At, e.By, e.Peer, e.Said})
}

// UnmarshalJSON reads what MarshalJSON writes. A fact that is not known, or whose fields
// are not those of this Vaiven, becomes an [Unknown].
func (e *Event) UnmarshalJSON(data []byte) error {
	var h head
	if err := json.Unmarshal(data, &h); err != nil {
		return fmt.Errorf("read an event: %w", err)
	}
	*e = Event{Seq: h.Seq, Crossing: h.Crossing, At: h.At, By: h.By, Peer: h.Peer, Said: h.Said}
	var err error
	if e.What, err = Facts.Read(data); err != nil || e.What == nil {
		var named struct{ Event string }
		_ = json.Unmarshal(data, &named) // it may have none
		e.What = Unknown{oneof.Newer{Called: named.Event, Data: string(data)}}
	}
	return nil
}

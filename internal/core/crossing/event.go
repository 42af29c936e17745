package crossing

import (
	"encoding/json"
	"fmt"
	"time"

	"vaiven/internal/core/proof"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
)

// Event is something that happened: when, by whom, and what.
type Event struct {
	At   time.Time
	By   string // a person's handle, or the part of Vaiven that reports it
	What Fact
}

// Fact is what an event is about. The facts are the types below and no others.
type Fact interface {
	// Kind is the fact's name in the logbook and in the event stream.
	Kind() string
}

// Asked by people.
type (
	// Begun starts a crossing; it is the first event of each.
	Begun struct {
		Service     string        `json:"service"`
		Number      int           `json:"number"`
		Target      split.Side    `json:"target"` // the spare side
		Version     string        `json:"version"`
		Build       string        `json:"build,omitempty"` // identity of what will be raised, if known beforehand
		LiveVersion string        `json:"live_version,omitempty"`
		LiveBuild   string        `json:"live_build,omitempty"`
		Route       route.Route   `json:"route"`
		Keep        time.Duration `json:"keep"` // nanoseconds
		Then        plan.Then     `json:"then"`
		Hold        bool          `json:"hold,omitempty"` // wait for a person before the first leg and after failures
		SameBuild   bool          `json:"same_build,omitempty"`
		Share       split.Share   `json:"share"`              // on green, as the front has it now
		Revision    uint64        `json:"revision,omitempty"` // of the front's split
		Nobody      bool          `json:"nobody,omitempty"`   // the live side has no instances
		Built       time.Time     `json:"built,omitzero"`     // when the build was made, if known
		Others      []Choice      `json:"others,omitempty"`   // what the side's other parts are raised at
	}
	// NextAsked approves what is waited for, or goes on to the next leg now.
	NextAsked struct{}
	// SteerAsked moves the share on green by hand.
	SteerAsked struct {
		Share split.Share `json:"share"`
	}
	// PutBackAsked puts our share back in force after somebody else changed it.
	PutBackAsked struct{}
	// FreezeAsked stops the route at the present share.
	FreezeAsked struct{}
	// GoOnAsked ends a freeze.
	GoOnAsked struct{}
	// BackAsked takes all traffic home, or calls off what has not moved any.
	BackAsked struct {
		Why string `json:"why,omitempty"`
	}
	// RetireAsked gives up the side without traffic before its time.
	RetireAsked struct{}
	// AcceptAsked goes on in spite of what the proof found, which is named, so that
	// nobody accepts what they have not seen.
	AcceptAsked struct {
		Findings []string `json:"findings"`
	}
	// ProveAsked has the whole proof made again.
	ProveAsked struct{}
)

// Reported by the parts that perform effects and watch.
type (
	// Raised says that all instances of the target are up.
	Raised struct {
		Effect    int      `json:"effect"`
		Build     string   `json:"build,omitempty"`
		Instances []string `json:"instances"`
		// Times says how long each instance took from its start until it was
		// healthy, in nanoseconds.
		Times map[string]time.Duration `json:"times,omitempty"`
	}
	// RaiseFailed says that they are not, and will not be.
	RaiseFailed struct {
		Effect int    `json:"effect"`
		Why    string `json:"why"`
	}
	// Proved carries the outcome of the checks.
	Proved struct {
		Effect int         `json:"effect"`
		Pass   bool        `json:"pass"`
		Proof  proof.Proof `json:"proof"`
	}
	// Applied says that the front now has this share in force.
	Applied struct {
		Effect   int           `json:"effect"`
		Share    split.Share   `json:"share"`
		Revision uint64        `json:"revision,omitempty"`
		Took     time.Duration `json:"took"`          // nanoseconds, from command to confirmation
		Did      []string      `json:"did,omitempty"` // at the front: commands, or lines of a file's difference
	}
	// ApplyFailed says that the front did not take the share.
	ApplyFailed struct {
		Effect int    `json:"effect"`
		Why    string `json:"why"`
	}
	// Retired says that a side has been drained and its instances are gone.
	Retired struct {
		Effect int        `json:"effect"`
		Side   split.Side `json:"side"`
	}
	// RetireFailed says that some are not.
	RetireFailed struct {
		Effect int    `json:"effect"`
		Why    string `json:"why"`
	}
	// Tripped is a guard's alarm, with what the plan says to do.
	Tripped struct {
		Guard  string      `json:"guard"`
		Action plan.Action `json:"action"`
		Why    string      `json:"why"`
	}
	// Changed says that somebody else changed the front.
	Changed struct {
		Share split.Share `json:"share"` // on green, as it is now
	}
	// Resumed is the first event after Vaiven was started again in the middle of
	// a crossing: the share on green that the front really has, and what else was
	// found, in words.
	Resumed struct {
		Share split.Share `json:"share"`
		Found string      `json:"found"`
	}
	// Tick says what time it is.
	Tick struct{}
)

// Choice is the version that a part of a side is raised at.
type Choice struct {
	Part      string    `json:"part"`
	Version   string    `json:"version"`
	Build     string    `json:"build,omitempty"`
	LiveBuild string    `json:"live_build,omitempty"`
	Built     time.Time `json:"built,omitzero"`
}

// Kind names each fact; the names are part of the logbook's format.
func (Begun) Kind() string        { return "begun" }
func (NextAsked) Kind() string    { return "next asked" }
func (SteerAsked) Kind() string   { return "steer asked" }
func (PutBackAsked) Kind() string { return "put back asked" }
func (FreezeAsked) Kind() string  { return "freeze asked" }
func (GoOnAsked) Kind() string    { return "go on asked" }
func (BackAsked) Kind() string    { return "back asked" }
func (RetireAsked) Kind() string  { return "retire asked" }
func (AcceptAsked) Kind() string  { return "accept asked" }
func (ProveAsked) Kind() string   { return "prove asked" }
func (Raised) Kind() string       { return "raised" }
func (RaiseFailed) Kind() string  { return "raise failed" }
func (Proved) Kind() string       { return "proved" }
func (Applied) Kind() string      { return "applied" }
func (ApplyFailed) Kind() string  { return "apply failed" }
func (Retired) Kind() string      { return "retired" }
func (RetireFailed) Kind() string { return "retire failed" }
func (Tripped) Kind() string      { return "tripped" }
func (Changed) Kind() string      { return "changed" }
func (Resumed) Kind() string      { return "resumed" }
func (Tick) Kind() string         { return "tick" }

// decoders reads each kind's fields.
var decoders = map[string]func([]byte) (Fact, error){
	Begun{}.Kind():        decode[Begun],
	NextAsked{}.Kind():    decode[NextAsked],
	SteerAsked{}.Kind():   decode[SteerAsked],
	PutBackAsked{}.Kind(): decode[PutBackAsked],
	FreezeAsked{}.Kind():  decode[FreezeAsked],
	GoOnAsked{}.Kind():    decode[GoOnAsked],
	BackAsked{}.Kind():    decode[BackAsked],
	RetireAsked{}.Kind():  decode[RetireAsked],
	AcceptAsked{}.Kind():  decode[AcceptAsked],
	ProveAsked{}.Kind():   decode[ProveAsked],
	Raised{}.Kind():       decode[Raised],
	RaiseFailed{}.Kind():  decode[RaiseFailed],
	Proved{}.Kind():       decode[Proved],
	Applied{}.Kind():      decode[Applied],
	ApplyFailed{}.Kind():  decode[ApplyFailed],
	Retired{}.Kind():      decode[Retired],
	RetireFailed{}.Kind(): decode[RetireFailed],
	Tripped{}.Kind():      decode[Tripped],
	Changed{}.Kind():      decode[Changed],
	Resumed{}.Kind():      decode[Resumed],
	Tick{}.Kind():         decode[Tick],
}

func decode[F Fact](data []byte) (Fact, error) {
	var f F
	err := json.Unmarshal(data, &f)
	return f, err
}

// DecodeFact reads a fact of the given kind from the JSON that encoding/json
// writes for it.
func DecodeFact(kind string, data []byte) (Fact, error) {
	d, ok := decoders[kind]
	if !ok {
		return nil, fmt.Errorf("no event is called %q: was this written by a newer Vaiven?", kind)
	}
	fact, err := d(data)
	if err != nil {
		return nil, fmt.Errorf("read event %q: %w", kind, err)
	}
	return fact, nil
}

// MarshalJSON writes the event as one flat object: the fact's fields with "at",
// "by" and "event" in front.
func (e Event) MarshalJSON() ([]byte, error) {
	head, err := json.Marshal(struct {
		At    time.Time `json:"at"`
		By    string    `json:"by,omitempty"`
		Event string    `json:"event"`
	}{e.At, e.By, e.What.Kind()})
	if err != nil {
		return nil, err
	}
	fields, err := json.Marshal(e.What)
	if err != nil {
		return nil, err
	}
	if len(fields) <= len("{}") {
		return head, nil
	}
	return append(append(head[:len(head)-1], ','), fields[1:]...), nil
}

// UnmarshalJSON reads what MarshalJSON writes.
func (e *Event) UnmarshalJSON(data []byte) error {
	var head struct {
		At    time.Time `json:"at"`
		By    string    `json:"by"`
		Event string    `json:"event"`
	}
	if err := json.Unmarshal(data, &head); err != nil {
		return err
	}
	fact, err := DecodeFact(head.Event, data)
	if err != nil {
		return err
	}
	*e = Event{At: head.At, By: head.By, What: fact}
	return nil
}

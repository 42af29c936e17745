package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"reflect"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/plan/tryout"
	"vaiven/internal/proving/prove"
	"vaiven/internal/words"
)

// Client is what screens and commands use of a keeper. Everything that passes
// through it can be serialised.
type Client interface {
	// Do carries out a command, or says why not: the error wraps
	// [crossing.ErrNotNow] if the present state does not allow it. It returns when
	// the command is accepted, which is before what it orders is done, with the
	// sequence number of the last event that came of it.
	Do(context.Context, Command) (seq uint64, err error)
	// Snapshots sends the newest snapshot whenever there is one and the receiver
	// is ready, until the context ends. Snapshots are shared: do not change them.
	Snapshots(context.Context) <-chan Snapshot
	// Versions is what there is to choose from: for each part that has versions of
	// its own, the front's part first.
	Versions(context.Context) ([]Offer, error)
	// Foresee is what the front would do to put a share on green in force. Nothing is
	// done.
	Foresee(context.Context, split.Share) (front.Change, error)
	// Tryout tries split keys on the plan's access log, and says by which the plan
	// splits.
	Tryout(context.Context) (r tryout.Report, inForce string, err error)
	// Clients is how many clients the plan's access log has, and how much each asks; the zero value if
	// the plan names none.
	Clients(context.Context) (forecast.Clients, error)
	// Events sends every event after the one with a sequence number, in order, until the context
	// ends: [FromNow] for those that are still to come.
	Events(ctx context.Context, since uint64) <-chan crossing.Event
	// Evidence is what the guards that compare have come to, moment by moment, since the crossing
	// began.
	Evidence(context.Context) ([]guard.Story, error)
	// Rehearse does everything of going home but the last act on each front, and says how long
	// each step took.
	Rehearse(context.Context) (wayback.Rehearsal, error)
	Past
}

// FromNow stands for the newest event.
const FromNow = math.MaxUint64

// Person is somebody who watches or steers, by a client of their own.
type Person struct {
	// identity of the client, the same for as long as it runs; "" for a command alone
	Client string    `json:"client"`
	By     string    `json:"by"`             // the person's handle
	From   string    `json:"from,omitempty"` // where that is
	Since  time.Time `json:"since,omitzero"`
}

// Command is an act, and who wants it. In JSON the act's fields stand beside those of who wants it.
type Command struct {
	Act       crossing.Act  `json:"-"`
	By        string        `json:"by" says:"the person's handle; the header Vaiven-By does as well"`
	Peer      crossing.Peer `json:"-"` // who that is, as the socket knows it; nobody can say it of themselves
	Groups    []string      `json:"-"` // Unix groups of that user
	Planned   bool          `json:"-"` // the plan says so: whoever it is for had the right when they said so
	Client    string        `json:"client,omitempty" says:"the person's client, taken from the header Vaiven-Client; without one the wheel is left vacant"`
	From      string        `json:"from,omitempty" says:"where that is, taken from the header Vaiven-From"`
	TakeWheel bool          `json:"take_wheel,omitempty" says:"also from somebody else"`
	Try       bool          `json:"try,omitempty" says:"say only whether it would be refused now, and do nothing"`
	Seen      uint64        `json:"seen,omitempty" says:"number of the last event that the person saw; without it, of the last one"`
	// As may be from long before this is carried out.
	As *uint64 `json:"as,omitempty" says:"generation of the front's order of going home that the person knew of; a going home since then overtakes the act"`
	// Token is never recorded.
	Token string `json:"token,omitempty" says:"of a notice: it answers its question, in the name of whom it was made for"`
	Why   string `json:"why,omitempty" says:"the person's words, for the logbook"`
}

// asks is a command without its act.
type asks Command

// verb is which act a command is, and who wants it.
type verb struct {
	Do string `json:"do"`
	asks
}

// MarshalJSON writes one object with all fields, and the act's name as "do".
func (c Command) MarshalJSON() ([]byte, error) {
	if c.Act == nil {
		return nil, errors.New("a command without an act")
	}
	return oneof.Flat(verb{c.Act.About().Name, asks(c)}, c.Act)
}

// UnmarshalJSON reads what MarshalJSON writes. A field that the act does not have is a mistake.
func (c *Command) UnmarshalJSON(data []byte) (err error) {
	var v verb
	if err := json.Unmarshal(data, &v); err != nil {
		return err
	}
	*c = Command(v.asks)
	if c.Act, err = crossing.ActOf(v.Do, data); err != nil {
		return err
	}
	var said map[string]json.RawMessage
	if err := json.Unmarshal(data, &said); err != nil {
		return err
	}
	names := append(Fields(reflect.TypeFor[verb]()), Fields(reflect.TypeOf(c.Act))...)
	for _, name := range slices.Sorted(maps.Keys(said)) {
		if !slices.ContainsFunc(names, func(f reflect.StructField) bool { return f.Name == name }) {
			return fmt.Errorf("%s has no field %q", v.Do, name)
		}
	}
	return nil
}

// Fields are those of a type, by their names in JSON.
func Fields(t reflect.Type) []reflect.StructField {
	var list []reflect.StructField
	for f := range t.Fields() {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case f.Anonymous && name == "":
			list = append(list, Fields(f.Type)...)
		case name != "-":
			f.Name = name
			list = append(list, f)
		}
	}
	return list
}

// Snapshot is everything that is known at a moment.
type Snapshot struct {
	engine.View
	Proof    proof.Proof `json:"proof"`              // the spare side's last one, or as far as it is
	Proofs   int         `json:"proofs"`             // how many this keeper has begun
	Proving  bool        `json:"proving,omitempty"`  // it is being made
	About    prove.About `json:"about"`              // what it found beside its results
	Trouble  string      `json:"trouble,omitempty"`  // what keeps the keeper from its work
	Present  []Person    `json:"present,omitempty"`  // who watches, at most [PresentMost]
	Watching int         `json:"watching,omitempty"` // how many do
	Standbys []string    `json:"standbys,omitempty"` // where those are that follow
	// how long tasks took in the median, those of this service that were done more than once
	Usual    map[crossing.TaskKind]time.Duration `json:"usual,omitempty"`
	Starting Starting                            `json:"starting,omitzero"` // how it stands with the version that waits for its turn
}

// PresentMost is how many of those who watch a snapshot names.
const PresentMost = 20

// Offer is the versions of one part, the newest first.
type Offer struct {
	Part     string          `json:"part"`
	Versions []raise.Version `json:"versions"`
	Past     []crossing.Past `json:"past,omitempty"` // earlier crossings to these versions, the newest first
}

// refused is a refusal in words.
type refused struct{ *crossing.Refusal }

func (r refused) Error() string { return crossing.ErrNotNow.Error() + ": " + words.Refusal(r.Refusal) }
func (r refused) Unwrap() error { return r.Refusal }

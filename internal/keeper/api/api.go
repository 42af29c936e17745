package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/keeper"
	"vaiven/internal/words"
)

// Protocol is the version of what is spoken. It grows when one that speaks the version before
// would be misunderstood.
const Protocol = 1

// The headers of requests and answers.
const (
	ProtocolHeader = "Vaiven-Protocol" // on both
	ClientHeader   = "Vaiven-Client"   // of a request: the identity of a client that runs for a while
	ByHeader       = "Vaiven-By"       // of a request: the person's handle
	FromHeader     = "Vaiven-From"     // of a request: where that is
	SeqHeader      = "Vaiven-Seq"      // of an answer with events: the number after which they begin
)

// Info is which keeper it is.
type Info struct {
	Protocol int       `json:"protocol"`
	Version  string    `json:"version"` // of Vaiven
	Service  string    `json:"service"`
	Plan     string    `json:"plan"`   // the plan's file, absolute
	Digest   string    `json:"digest"` // of the plan's file as it was read
	Fronts   []string  `json:"fronts"` // what they are called, with their machines
	Process  int       `json:"process"`
	Since    time.Time `json:"since"`
	By       string    `json:"by"`   // who started it
	Kept     bool      `json:"kept"` // by vaiven keep: it does not end by itself
	Idle     bool      `json:"idle"` // nothing is crossing, kept or being done
	Watching int       `json:"watching"`
	Standby  *Standing `json:"standby,omitempty"` // it is no keeper, but a standby; nil if it is a keeper
}

// Standing is how it stands with a standby.
type Standing struct {
	For     string        `json:"for"`               // the keeper that it follows, as commands name it
	Follows bool          `json:"follows"`           // that keeper answers
	Since   time.Time     `json:"since"`             // since when that is so
	Seq     uint64        `json:"seq"`               // of the last event that it has taken down
	After   time.Duration `json:"after,omitzero"`    // without that keeper it takes over by itself; 0 if it never does
	Trouble string        `json:"trouble,omitempty"` // what keeps it from following, or from taking over
	Unsure  []string      `json:"unsure,omitempty"`  // fronts that cannot refuse what that keeper sends after that
}

// done is the answer to a command.
type done struct {
	Seq uint64 `json:"seq"` // of the last event that came of it
}

// said is a failure on the wire.
type said struct {
	Error   string            `json:"error"` // a sentence
	Kind    string            `json:"kind"`  // one of the kinds below
	Refusal *crossing.Refusal `json:"refusal,omitempty"`
}

// The kinds of failures.
const (
	kindRefused  = "refused"   // the state does not allow it
	kindWrong    = "wrong"     // the request is not understood
	kindProtocol = "protocol"  // it is of another version
	kindBusy     = "busy"      // it could be so later
	kindNone     = "none"      // there is none
	kindStopped  = "stopped"   // the keeper is ending
	kindStandby  = "standby"   // it is a standby, and no keeper
	kindNotTaken = "not taken" // a standby does not take over
	kindFailed   = "failed"    // it was tried
)

// ErrGone is wrapped when no keeper answers.
var ErrGone = errors.New("the keeper does not answer")

// ErrPast says that all requests went home without the keeper.
var ErrPast = errors.New("all requests were sent back past the keeper, which does not answer")

// ErrStandby is wrapped when it is a standby that answers.
var ErrStandby = errors.New("a standby runs here, and no keeper")

// ErrNotTaken is wrapped where a standby does not take over.
var ErrNotTaken = errors.New("not taken over")

// ErrApart is wrapped when a keeper does not have the last event that a standby has taken down from it.
var ErrApart = errors.New("the logbook of the keeper that is followed is not the one that was taken down here")

// ErrBusy is wrapped when the keeper cannot do that just now.
var ErrBusy = errors.New("the keeper is busy")

// Refused is a refusal with its sentence.
type Refused struct {
	*crossing.Refusal
	text string
}

// Error is the sentence.
func (r Refused) Error() string { return r.text }

// Unwrap is the refusal, which is a [crossing.ErrNotNow].
func (r Refused) Unwrap() error { return r.Refusal }

// failure is what is said of an error, and its status.
func failure(err error) (int, said) {
	var refusal *crossing.Refusal
	var wrong wrongError
	switch {
	case errors.As(err, &refusal):
		text := err.Error()
		if _, plain := err.(*crossing.Refusal); plain {
			text = crossing.ErrNotNow.Error() + ": " + words.Refusal(refusal)
		}
		return 409, said{Error: text, Kind: kindRefused, Refusal: refusal}
	case errors.As(err, &wrong):
		return 400, said{Error: err.Error(), Kind: kindWrong}
	case errors.Is(err, keeper.ErrNotRecorded):
		return 404, said{Error: err.Error(), Kind: kindNone}
	case errors.Is(err, ErrNotTaken):
		return 409, said{Error: strings.TrimPrefix(err.Error(), ErrNotTaken.Error()+": "), Kind: kindNotTaken}
	case errors.Is(err, ErrStandby):
		return 409, said{Error: strings.TrimPrefix(err.Error(), ErrStandby.Error()+": "), Kind: kindStandby}
	case errors.Is(err, ErrBusy):
		return 503, said{Error: err.Error(), Kind: kindBusy}
	}
	return 500, said{Error: err.Error(), Kind: kindFailed}
}

// noneError says that there is no recording.
type noneError string

func (e noneError) Error() string        { return string(e) }
func (e noneError) Is(target error) bool { return target == keeper.ErrNotRecorded }

// wrongError is a request that is not understood.
type wrongError string

func (e wrongError) Error() string { return string(e) }

func wrong(format string, args ...any) error { return wrongError(fmt.Sprintf(format, args...)) }

// asError is the error that a failure was.
func asError(status int, data []byte) error {
	var s said
	if err := json.Unmarshal(data, &s); err != nil || s.Error == "" {
		return fmt.Errorf("the keeper answers with status %d", status)
	}
	switch {
	case s.Kind == kindRefused && s.Refusal != nil:
		return Refused{s.Refusal, s.Error}
	case s.Kind == kindNone:
		return noneError(s.Error)
	case s.Kind == kindNotTaken:
		return fmt.Errorf("%w: %s", ErrNotTaken, s.Error)
	case s.Kind == kindStandby:
		return fmt.Errorf("%w: %s", ErrStandby, s.Error)
	case s.Kind == kindBusy:
		return fmt.Errorf("%w: %s", ErrBusy, s.Error)
	}
	return errors.New(s.Error)
}

package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"vaiven/internal/core/crossing"
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
	kindRefused  = "refused"  // the state does not allow it
	kindWrong    = "wrong"    // the request is not understood
	kindProtocol = "protocol" // it is of another version
	kindBusy     = "busy"     // it could be so later
	kindStopped  = "stopped"  // the keeper is ending
	kindFailed   = "failed"   // it was tried
)

// ErrGone is wrapped when no keeper answers.
var ErrGone = errors.New("the keeper does not answer")

// ErrPast says that all requests went home without the keeper.
var ErrPast = errors.New("all requests were sent back past the keeper, which does not answer")

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
	case errors.Is(err, ErrBusy):
		return 503, said{Error: err.Error(), Kind: kindBusy}
	}
	return 500, said{Error: err.Error(), Kind: kindFailed}
}

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
	case s.Kind == kindBusy:
		return fmt.Errorf("%w: %s", ErrBusy, s.Error)
	}
	return errors.New(s.Error)
}

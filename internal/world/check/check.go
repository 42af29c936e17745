package check

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"vaiven/internal/core/difference"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
)

// Target is what a check is made on, and from where.
type Target struct {
	From    place.Place
	Values  map[string]string // of the placeholders
	Secrets secret.Values
	Way     Way       // to ask for a path by; nil for the instance's own address
	Built   time.Time // when the build was made; zero if it is not known
	// Look is how the instance is now, as whoever runs it says; nil if it is about none.
	Look func(context.Context) (reading.Instance, error)
}

// Way is another way to a side than an instance's own address.
type Way interface {
	// Transport makes one for a single request.
	Transport() *http.Transport
	// Request makes a request for a path.
	Request(ctx context.Context, method, path string) (*http.Request, error)
}

// expand fills in placeholders and secrets, which encode writes; nil leaves them
// as they are.
func (t Target) expand(text string, encode func(string) string) string {
	return t.Secrets.Fill(text, t.Values, encode)
}

// Reading is what one try came to. Its texts hold no secrets.
type Reading struct {
	Good    bool
	Reached bool // something came back, if not what was wanted
	Unmade  bool // nothing is known: what carries connections to the instance does not answer
	Want    string
	Got     string
	Found   string // the same text for the same thing found: Got without what changes from try to try
	Answer  string // in full, as far as it was kept, if it was not good
	At      time.Time
	Took    time.Duration
}

// answerLimit is how many bytes of an answer a reading keeps.
const answerLimit = 4 << 10

// good and bad are readings without their times.
func good(want, got string) Reading { return Reading{Good: true, Reached: true, Want: want, Got: got} }
func bad(want, got, answer string) Reading {
	return Reading{Reached: true, Want: want, Got: got, Answer: answer}
}

// Read makes one reading of a check.
func (t Target) Read(ctx context.Context, c plan.Check) Reading {
	ctx, cancel := context.WithTimeout(ctx, c.Within)
	defer cancel()
	begun := time.Now()
	var r Reading
	switch w := c.What.(type) {
	case plan.HTTP:
		r = t.http(ctx, w, c.Within)
	case plan.TCP:
		r = t.tcp(ctx, w)
	case plan.TLS:
		r = t.tls(ctx, w)
	case plan.GRPC:
		r = t.grpc(ctx, w)
	case plan.DNS:
		r = t.dns(ctx, w)
	case plan.SQL:
		r = t.sql(ctx, w)
	case plan.Command:
		r = t.command(ctx, w)
	case plan.Runs:
		r = t.runs(ctx, w)
	case plan.Printed:
		r = t.printed(ctx, w)
	case plan.Told:
		r = t.told(ctx, w, c.Within)
	default:
		r = bad("a check", fmt.Sprintf("%T, which nobody knows", w), "")
	}
	r.At = time.Now()
	r.Took = r.At.Sub(begun)
	if c, carried := t.From.(place.Carrier); carried && !r.Good {
		if err := c.Carries(context.WithoutCancel(ctx)); err != nil {
			r.Unmade, r.Reached, r.Got, r.Answer = true, false, Words(err), err.Error()
		}
	}
	r.Want, r.Found = t.Secrets.Hide(r.Want), t.Secrets.Hide(r.Got)
	r.Got = r.Found
	if !r.Good {
		r.Got += fmt.Sprintf(" after %v", r.Took.Round(time.Millisecond))
	}
	r.Answer = new(difference.Mask).Headers(r.Answer)
	if r.Answer = t.Secrets.HideCut(strings.ToValidUTF8(r.Answer, "?")); len(r.Answer) > answerLimit {
		r.Answer = strings.ToValidUTF8(r.Answer[:answerLimit], "") + "…"
	}
	return r
}

// failed is a reading whose question got no answer, and says why by what was
// tried.
func failed(want string, err error) Reading {
	return Reading{Want: want, Got: Words(err), Answer: err.Error()}
}

// historyLength is how many readings are kept for display.
const historyLength = 24

// Judge reads a check until its thresholds judge it, waiting its interval in
// between. The first call after a start often fails where the second works: with
// a settle time one reading is made without being judged, and the rest after that
// time. A check that flaps for long has failed. If the context ends, what was
// read last is the result, not passed.
func (t Target) Judge(ctx context.Context, c plan.Check) proof.Result {
	res := proof.Result{Check: c.Name}
	if c.Settle > 0 {
		res = add(res, t.Read(ctx, c))
		wait(ctx, c.Settle)
	}
	judge := proof.Judge{UpAfter: c.Up, DownAfter: c.Down}
	for range 4 * (c.Up + c.Down) {
		r := t.Read(ctx, c)
		res = add(res, r)
		if judge = judge.Read(r.Good); judge.Health != proof.Unknown || ctx.Err() != nil {
			break
		}
		wait(ctx, c.Every)
	}
	res.Pass = judge.Health == proof.Up && ctx.Err() == nil
	if !res.Pass && judge.Health == proof.Unknown {
		res.Got = fmt.Sprintf("good and bad readings in turn, the last: %s", res.Got)
	}
	return res
}

// point is a reading as histories have it: its time in milliseconds, -1 if it was bad.
func (r Reading) point() float64 {
	if !r.Good {
		return -1
	}
	return r.Took.Seconds() * 1000
}

// remember is a history with one more point. It shares nothing with the first.
func remember(history []float64, point float64) []float64 {
	kept := history[max(0, len(history)-historyLength+1):]
	return append(kept[:len(kept):len(kept)], point)
}

// add takes one more reading into a result.
func add(res proof.Result, r Reading) proof.Result {
	if !r.Good {
		res.Answer = r.Answer
	}
	if res.Since.IsZero() || res.Pass != r.Good {
		res.Since = r.At
	}
	res.History = remember(res.History, r.point())
	res.Pass, res.Want, res.Got, res.Found, res.Took, res.At = r.Good, r.Want, r.Got, r.Found, r.Took, r.At
	res.Tries++
	return res
}

// wait waits, unless the context ends.
func wait(ctx context.Context, d time.Duration) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-timer.C:
	}
}

// errDenied is wrapped when somebody was reached who did not take the credential.
var errDenied = errors.New("credential not accepted")

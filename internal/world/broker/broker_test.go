package broker

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	amqp "github.com/rabbitmq/amqp091-go"

	"vaiven/internal/world/place"
)

// What carries messages and what asks by them is tried on a real broker, in the tests of the front that uses them.
// Here is what a broker would hardly do.

// The management interface's answers are told apart.
func TestAnswers(t *testing.T) {
	answers := map[string]struct {
		status int
		body   string
	}{
		"gone":      {404, `{"error":"Object Not Found","reason":"Not Found"}`},
		"forbidden": {403, `{"error":"not_authorised","reason":"User can only access"}`},
		"wrong":     {400, `{"error":"bad_request","reason":"inequivalent arg"}`}, "ill": {500, "crash"},
		"garbled": {200, `{"name":`},
		"well":    {200, `{"name":"well","messages_ready":3,"message_stats":{"publish":9,"deliver_get":7,"redeliver":2},"backing_queue_status":{"next_seq_id":11}}`},
		"new": {200, `{"name":"new","consumer_details":[{"consumer_tag":"printer","channel_details":[]},` +
			`{"consumer_tag":"other","channel_details":{"name":"other (1)","connection_name":"other"}}]}`},
		"quorum": {200, `{"name":"quorum","backing_queue_status":{"next_seq_id":"undefined"}}`},
	}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		user, password, _ := r.BasicAuth()
		if user != "vaiven" || password != "berth 14" {
			t.Errorf("asked as %q, %q", user, password)
		}
		if !strings.HasPrefix(r.URL.EscapedPath(), "/api/queues/ferries%2Fnorth/") {
			t.Errorf("asked for %s", r.URL.EscapedPath())
		}
		a := answers[filepath.Base(r.URL.Path)]
		w.WriteHeader(a.status)
		fmt.Fprint(w, a.body)
	}))
	defer s.Close()
	file := filepath.Join(t.TempDir(), "password")
	if err := os.WriteFile(file, []byte("berth 14\nand a comment\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	c := New(place.Local{}, Config{Management: s.URL + "/", Host: "ferries/north", User: "vaiven", Password: file})
	for name, want := range map[string]struct {
		is   error
		says string
	}{
		"gone": {ErrMissing, "queues/"}, "forbidden": {ErrRefused, "vaiven may not: not_authorised"},
		"wrong": {ErrRefused, "inequivalent arg"},
		"ill":   {ErrUnreachable, `"crash"`}, "garbled": {ErrUnreachable, "unexpected end"},
	} {
		if _, err := c.Queue(t.Context(), name); !errors.Is(err, want.is) || !strings.Contains(err.Error(), want.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if q, err := c.Queue(t.Context(), "well"); err != nil || q.Ready != 3 || q.Counted.Out() != 5 || q.Came() != 11 {
		t.Errorf("%+v, %v", q, err)
	}
	if q, err := c.Queue(t.Context(), "quorum"); err != nil || q.Came() != 0 {
		t.Errorf("%+v, %v", q, err)
	}
	if q, err := c.Queue(t.Context(), "new"); err != nil || len(q.Consumers) != 2 ||
		q.Consumers[0] != (Consumer{Tag: "printer"}) || q.Consumers[1].Channel.Connection != "other" {
		t.Errorf("a consumer whose channel is not known yet: %+v, %v", q, err)
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Queue(t.Context(), "well"); err != nil { // it is known
		t.Errorf("after the disk is gone: %v", err)
	}
	c = New(place.Local{}, c.config)
	if _, err := c.Queue(t.Context(), "well"); !errors.Is(err, ErrUnreachable) ||
		!strings.Contains(err.Error(), "the password") {
		t.Errorf("without a password: %v", err)
	}
}

// A broker that takes connections and says nothing is left in time, and so is one that nobody is at.
func TestSilence(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	c := New(place.Local{}, Config{Address: l.Addr().String()})
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if err := c.Do(ctx, Declare("bookings", nil)); !errors.Is(err, ErrUnreachable) &&
		!errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("it says nothing: %v", err)
	}
	l.Close()
	for what, do := range map[string]func() error{
		"an act":    func() error { return c.Do(t.Context(), Declare("bookings", nil)) },
		"a lock":    func() error { _, err := c.Lock(t.Context(), "lock"); return err },
		"a carrier": func() error { return c.Carrier("bookings", c, "elsewhere").Empty(t.Context()) },
		"a question": func() error {
			r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://bookings/sailings", nil)
			if err == nil {
				_, err = c.Asker("bookings", "", "").RoundTrip(r)
			}
			return err
		},
	} {
		if err := do(); !errors.Is(err, ErrUnreachable) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

func TestErrorsOfChannels(t *testing.T) {
	for want, err := range map[error]error{
		ErrMissing: &amqp.Error{Code: amqp.NotFound, Reason: "no queue", Server: true},
		ErrRefused: &amqp.Error{Code: amqp.PreconditionFailed, Reason: "inequivalent arg", Server: true},
		ErrUnreachable: &amqp.Error{Code: amqp.ConnectionForced, Reason: "broker forced connection closure",
			Server: true},
	} {
		if got := translated(err); !errors.Is(got, want) {
			t.Errorf("%v is %v", err, got)
		}
	}
	if err := translated(amqp.ErrClosed); !errors.Is(err, ErrUnreachable) {
		t.Error(err)
	}
}

func TestRecent(t *testing.T) {
	const most = 1000
	r := recent{most: most}
	for n := range most + 10 {
		r.add(fmt.Sprint(n), fmt.Sprint(n))
	}
	if r.has("9") || !r.has("10") || !r.has(fmt.Sprint(most+9)) || r.has("") || len(r.in) != most {
		t.Errorf("%d are known", len(r.in))
	}
}

// Numbers that came as JSON are whole again, as a broker wants them.
func TestTable(t *testing.T) {
	got := table(map[string]any{"x-max-length": float64(1000), "x-part": 0.5, "x-queue-type": "quorum"})
	if got["x-max-length"] != int64(1000) || got["x-part"] != 0.5 || got["x-queue-type"] != "quorum" ||
		table(nil) != nil || got.Validate() != nil {
		t.Errorf("%v", got)
	}
}

// What was read once is read again when it was of no use, and does where it cannot be: a disk that hangs holds up
// nobody for long.
func TestFilesThatWereRead(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var r remembered[string]
		says := func(text string, err error) func(context.Context) (string, error) {
			return func(context.Context) (string, error) { return text, err }
		}
		hangs := func(ctx context.Context) (string, error) {
			<-ctx.Done()
			return "", ctx.Err()
		}
		gone := errors.New("gone")
		if _, err := r.get(t.Context(), says("", gone)); !errors.Is(err, gone) {
			t.Errorf("what was never read: %v", err)
		}
		for n, c := range []struct {
			doubts bool
			read   func(context.Context) (string, error)
			want   string
			within time.Duration
		}{
			{false, says("berth 14", nil), "berth 14", 0},
			{false, says("berth 15", nil), "berth 14", 0}, // it is of use
			{true, says("berth 15", nil), "berth 15", 0},
			{true, says("", gone), "berth 15", 0},
			{true, hangs, "berth 15", againWithin},
			{false, hangs, "berth 15", 0}, // until it is of no use again
		} {
			r.doubts = c.doubts
			begun := time.Now()
			if got, err := r.get(t.Context(), c.read); got != c.want || err != nil || time.Since(begun) > c.within {
				t.Errorf("%d: %q, %v, after %v; want %q", n, got, err, time.Since(begun), c.want)
			}
			if r.doubts {
				t.Errorf("%d: it is read again without need", n)
			}
		}
	})
}

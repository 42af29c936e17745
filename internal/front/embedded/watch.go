package embedded

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"time"
)

// limits are how long one request may wait for whom.
type limits struct {
	idle      time.Duration // for a byte of the request's body; 0 for no limit
	grace     time.Duration // before the body's rate counts
	rate      int64         // least rate of the body, bytes a second; 0 for none
	size      int64         // largest body, bytes; 0 for no limit
	firstByte time.Duration // for an answer, or for the instance to take a piece of the body
	nextByte  time.Duration // for a piece of the answer; 0 for no limit
	tunnel    time.Duration // for a byte either way, once the connection has another protocol
}

// watch follows one request and ends it when a wait lasts too long: for a client that does not
// send its body, or for an instance that does not answer. One timer does it. Nothing of the
// client's connection is touched once the handler is over: what touches it holds mu, or is waited for. It has to be
// begun.
type watch struct {
	limits
	request *http.Request            // as the server has it
	client  *http.ResponseController // of the server's own ResponseWriter
	caller  *caller                  // nil in tests
	cancel  context.CancelCauseFunc  // of the request on its way to an instance
	body    *upload                  // nil if the request has none
	broke   atomic.Bool              // the client stopped sending or taking: what follows is nobody else's fault

	mu        sync.Mutex // protects what follows
	timer     *time.Timer
	over      bool
	answering bool      // the answer has begun
	tunnelled bool      // the connection has another protocol
	sends     time.Time // since when the client's next byte is waited for; zero if it is not
	works     time.Time // since when the instance is waited for; zero if it is not
	spent     time.Duration
	came      int64
}

// Errors of waits that lasted too long.
var (
	errSlowBody   = errors.New("the request's body comes too slowly")
	errLargeBody  = errors.New("the request's body is larger than allowed")
	errOver       = errors.New("the request is over")
	errNoAnswer   = &slowError{"the instance did not answer in time"}
	errNoProgress = &slowError{"the instance did not go on with its answer in time"}
)

// slowError is an instance that takes too long.
type slowError struct{ text string }

func (e *slowError) Error() string { return e.text }

// past unblocks whoever reads.
var past = time.Unix(1, 0)

// begin follows a request from now on. cancel ends it on its way to an instance.
func (t *watch) begin(w http.ResponseWriter, r *http.Request, c *caller, l limits, cancel context.CancelCauseFunc) {
	t.limits, t.request, t.client, t.caller, t.cancel = l, r, http.NewResponseController(w), c, cancel
	if r.Body != nil && r.Body != http.NoBody {
		// An instance may answer while it is still being asked. Where the library cannot have
		// that, it answers afterwards.
		_ = t.client.EnableFullDuplex()
		t.body = &upload{from: r.Body, watch: t}
	}
	t.timer = time.AfterFunc(t.next(time.Now()), t.look)
}

// left reports whether what went wrong is the client's doing.
func (t *watch) left() bool { return t.broke.Load() || t.request.Context().Err() != nil }

// end is the end of the handler. Who reads the body is stopped and waited for.
func (t *watch) end() {
	t.mu.Lock()
	t.over = true
	t.timer.Stop()
	if !t.sends.IsZero() {
		_ = t.client.SetReadDeadline(past)
	}
	t.mu.Unlock()
	if t.body != nil {
		t.body.mu.Lock() // until whoever reads it is through
		defer t.body.mu.Unlock()
	}
}

// sendsLeft is how long the client's next byte may be waited for.
func (t *watch) sendsLeft() time.Duration {
	left := t.idle
	if t.rate > 0 && !t.answering {
		byRate := t.grace + time.Duration(float64(t.came)/float64(t.rate)*float64(time.Second)) - t.spent
		if left == 0 || byRate < left {
			return byRate
		}
	}
	return left
}

// worksLeft is how long the instance may be waited for; 0 for no limit.
func (t *watch) worksLeft() time.Duration {
	if t.answering {
		return t.nextByte
	}
	return t.firstByte
}

// next is how long nothing can be too late, not even a wait that begins now.
func (t *watch) next(now time.Time) time.Duration {
	next := time.Hour
	if t.tunnelled {
		return min(next, t.tunnel-now.Sub(t.caller.lastMoved()))
	}
	consider := func(limit time.Duration, since time.Time) {
		switch {
		case limit == 0:
		case !since.IsZero():
			next = min(next, limit-now.Sub(since))
		case limit > 0: // a wait that is too late as it begins is refused there
			next = min(next, limit)
		}
	}
	if t.body != nil {
		consider(t.sendsLeft(), t.sends)
	}
	consider(t.worksLeft(), t.works)
	return next
}

// look ends the wait that has lasted too long, and comes again when one could have.
func (t *watch) look() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.over {
		return
	}
	now := time.Now()
	late := func(since time.Time, limit time.Duration) bool {
		return !since.IsZero() && limit != 0 && now.Sub(since) >= limit
	}
	switch {
	case t.tunnelled:
		if now.Sub(t.caller.lastMoved()) >= t.tunnel {
			t.cancel(errNoProgress)
			_ = t.caller.Close()
			return
		}
	case t.body != nil && late(t.sends, t.sendsLeft()):
		t.broke.Store(true)
		_ = t.client.SetReadDeadline(past)
		return
	case late(t.works, t.worksLeft()) && t.answering:
		t.cancel(errNoProgress)
		return
	case late(t.works, t.worksLeft()):
		t.cancel(errNoAnswer)
		return
	}
	t.timer.Reset(max(t.next(now), time.Millisecond))
}

// asks says that an instance is asked from now on.
func (t *watch) asks() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.works, t.answering = time.Now(), false
}

// answers says that the instance's answer has begun, and how long it may take to go on.
func (t *watch) answers(nextByte time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.works, t.answering, t.nextByte = time.Time{}, true, nextByte
}

// becomes says that the connection has another protocol from now on.
func (t *watch) becomes() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.caller == nil || t.over {
		return
	}
	t.caller.tunnelFrom(t.tunnel)
	t.tunnelled = true
	t.timer.Reset(t.next(time.Now()))
}

// upload is the body of a request on its way to an instance. It never touches the client once the
// handler is over. Close does nothing: the server closes what it has.
type upload struct {
	from  io.ReadCloser
	watch *watch
	mu    sync.Mutex // held while it is read
	ended bool
}

func (u *upload) Read(data []byte) (int, error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if err := u.begin(); err != nil {
		return 0, err
	}
	n, err := u.from.Read(data)
	return n, u.through(n, err)
}

// begin waits for the client from now on: the instance is not waited for meanwhile.
func (u *upload) begin() error {
	t := u.watch
	t.mu.Lock()
	defer t.mu.Unlock()
	switch left := t.sendsLeft(); {
	case t.over:
		return errOver
	case u.ended:
		return io.EOF
	case left < 0 || left == 0 && t.idle != 0:
		t.broke.Store(true)
		return errSlowBody
	}
	t.sends = time.Now()
	if !t.answering {
		t.works = time.Time{}
	}
	return nil
}

// through waits for the client no more.
func (u *upload) through(n int, err error) error {
	t := u.watch
	t.mu.Lock()
	defer t.mu.Unlock()
	now := time.Now()
	t.spent += now.Sub(t.sends)
	t.came += int64(n)
	t.sends = time.Time{}
	if !t.answering {
		t.works = now
	}
	switch {
	case t.size > 0 && t.came > t.size:
		err = errLargeBody
		t.broke.Store(true)
	case err == io.EOF:
		u.ended = true
	case err != nil:
		t.broke.Store(true)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			err = errSlowBody
		}
	}
	return err
}

func (u *upload) Close() error { return nil }

// download is the body of an answer on its way to the client.
type download struct {
	io.ReadCloser
	watch *watch
	ends  func() // called once where it came to its end; may be nil
}

func (d *download) Read(data []byte) (int, error) {
	d.watch.waits(time.Now())
	n, err := d.ReadCloser.Read(data)
	d.watch.waits(time.Time{})
	if err == io.EOF && d.ends != nil {
		ends := d.ends
		d.ends = nil
		ends()
	}
	return n, err
}

// waits notes since when the instance is waited for.
func (t *watch) waits(since time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.works = since
}

// answer is an answer to a client, as the reverse proxy writes it.
type answer struct {
	http.ResponseWriter
	watch *watch
	old   bool         // the client speaks HTTP/1.0
	last  *atomic.Bool // whether it is the last on its connection
	left  int64        // bytes of the body that are still to come, -1 if nobody knows
}

// Unwrap lets a ResponseController find what is below.
func (a *answer) Unwrap() http.ResponseWriter { return a.ResponseWriter }

// WriteHeader says no type that the instance did not say, which the library would guess, and
// nothing between to a client that cannot know of it (RFC 9110, section 15.2). That a body is waited for
// the library says itself, when it is read.
func (a *answer) WriteHeader(status int) {
	h := a.Header()
	switch {
	case status >= 200:
		if h["Content-Type"] == nil {
			h["Content-Type"] = nil
		}
		if a.last.Load() {
			h.Set("Connection", "close")
		}
		a.left = -1
		if length := h["Content-Length"]; len(length) == 1 {
			if n, err := strconv.ParseInt(length[0], 10, 64); err == nil {
				a.left = n
			}
		}
	case status == http.StatusContinue, a.old && status != http.StatusSwitchingProtocols:
		return
	}
	a.ResponseWriter.WriteHeader(status)
}

// Write passes a piece on as it comes. The last one of a known length goes out with the answer's end,
// and where the length is not known the reverse proxy sees to it.
func (a *answer) Write(data []byte) (int, error) {
	n, err := a.ResponseWriter.Write(data)
	if a.left -= int64(n); a.left > 0 && err == nil {
		err = a.watch.client.Flush()
	}
	if err != nil && !errors.Is(err, http.ErrBodyNotAllowed) && !errors.Is(err, http.ErrContentLength) {
		a.watch.broke.Store(true)
	}
	return n, err
}

// Hijack gives the connection up to another protocol.
func (a *answer) Hijack() (net.Conn, *bufio.ReadWriter, error) {
	conn, buffered, err := a.watch.client.Hijack()
	if err == nil {
		_ = conn.SetDeadline(time.Time{})
		a.watch.becomes()
	}
	return conn, buffered, err
}

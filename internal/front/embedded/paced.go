package embedded

import (
	"bufio"
	"errors"
	"io"
	"net"
	"net/http"
	"sync/atomic"
	"time"
)

// paced is an answer, and the body of its request, whose client has to keep moving: each
// read and each write has to make progress within the idle time, and a body has to come at a
// least rate, or the connection is closed. There is no limit on the whole, so that long
// streams live as long as they flow.
type paced struct {
	http.ResponseWriter
	control *http.ResponseController
	caller  *caller // nil where several requests share a connection
	idle    time.Duration
	grace   time.Duration // before a body's rate counts
	least   int64         // bytes a second of a body
	body    *pacedBody
	broke   atomic.Bool // the client stopped moving, or left: what follows is nobody else's fault
}

func newPaced(w http.ResponseWriter, r *http.Request, c *caller, s *Settings) *paced {
	p := &paced{ResponseWriter: w, control: http.NewResponseController(w), caller: c, idle: s.Idle, grace: s.HeaderTime, least: s.BodyRate}
	if r.Body != nil && r.Body != http.NoBody {
		// An instance may answer while it is still being asked. Where that cannot be
		// had, it answers afterwards.
		_ = p.control.EnableFullDuplex()
		p.body = &pacedBody{ReadCloser: r.Body, paced: p, begun: time.Now()}
		r.Body = p.body
	}
	return p
}

// extend gives the client the idle time anew. Where the connection has no
// deadlines there is nothing to extend.
func (p *paced) extend() { _ = p.control.SetWriteDeadline(time.Now().Add(p.idle)) }

// done says that the answer is given. What is still to come of the request's body is not
// waited for.
func (p *paced) done() {
	if p.body != nil && !p.body.ended.Load() {
		_ = p.control.SetReadDeadline(time.Unix(1, 0))
	}
}

// Unwrap lets a ResponseController set the deadlines of the connection below.
func (p *paced) Unwrap() http.ResponseWriter { return p.ResponseWriter }

// FlushError sends what there is, which may be the first of it after a long time.
func (p *paced) FlushError() error {
	p.extend()
	return p.control.Flush()
}

// Hijack gives the connection up to another protocol, which nobody follows here.
func (p *paced) Hijack() (net.Conn, *bufio.ReadWriter, error) {
	conn, buffered, err := p.control.Hijack()
	if err == nil && p.caller != nil {
		p.caller.tunnel.Store(true)
		_ = conn.SetDeadline(time.Time{})
	}
	return conn, buffered, err
}

// WriteHeader says no type that the instance did not say: the library would guess.
func (p *paced) WriteHeader(status int) {
	p.extend() // the answer may have taken its time, and have no body
	if h := p.Header(); status >= 200 && h["Content-Type"] == nil {
		h["Content-Type"] = nil
	}
	p.ResponseWriter.WriteHeader(status)
}

func (p *paced) Write(data []byte) (int, error) {
	p.extend()
	n, err := p.ResponseWriter.Write(data)
	if err != nil && !errors.Is(err, http.ErrBodyNotAllowed) && !errors.Is(err, http.ErrContentLength) {
		p.broke.Store(true)
	}
	return n, err
}

var errSlow = errors.New("the request's body comes too slowly")

type pacedBody struct {
	io.ReadCloser
	paced *paced
	begun time.Time
	came  int64
	ended atomic.Bool
}

// Read waits for the client for at most the idle time. The deadline is taken
// back afterwards, because the server also watches the connection by reading
// while the answer is made; but a client that let it pass has used up its time.
func (b *pacedBody) Read(data []byte) (int, error) {
	now := time.Now()
	by := now.Add(b.paced.idle)
	if due := b.begun.Add(b.paced.grace + time.Duration(float64(b.came)/float64(b.paced.least)*float64(time.Second))); due.Before(by) {
		by = due
	}
	var n int
	err := errSlow
	if by.After(now) {
		_ = b.paced.control.SetReadDeadline(by)
		n, err = b.ReadCloser.Read(data)
		b.came += int64(n)
	}
	if err != nil {
		b.ended.Store(true)
		if err != io.EOF {
			b.paced.broke.Store(true)
			return n, err
		}
	}
	_ = b.paced.control.SetReadDeadline(time.Time{})
	return n, err
}

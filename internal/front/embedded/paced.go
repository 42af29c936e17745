package embedded

import (
	"io"
	"net/http"
	"sync/atomic"
	"time"
)

// paced is an answer, and the body of its request, whose client has to keep
// moving: each read and each write has to make progress within the idle time, or
// the connection is closed. There is no limit on the whole, so that long streams
// live as long as they flow.
type paced struct {
	http.ResponseWriter
	control *http.ResponseController
	idle    time.Duration
	broke   atomic.Bool // the client stopped moving, or left: what follows is nobody else's fault
}

func newPaced(w http.ResponseWriter, r *http.Request, idle time.Duration) *paced {
	p := &paced{ResponseWriter: w, control: http.NewResponseController(w), idle: idle}
	p.extend() // an answer without a body is written without a call of Write
	if r.Body != nil && r.Body != http.NoBody {
		// An instance may answer while it is still being asked. Where that cannot be
		// had, it answers afterwards.
		_ = p.control.EnableFullDuplex()
		r.Body = &pacedBody{ReadCloser: r.Body, paced: p}
	}
	return p
}

// extend gives the client the idle time anew. Where the connection has no
// deadlines there is nothing to extend.
func (p *paced) extend() { _ = p.control.SetWriteDeadline(time.Now().Add(p.idle)) }

// Unwrap lets a ResponseController flush and hijack the answer below.
func (p *paced) Unwrap() http.ResponseWriter { return p.ResponseWriter }

// WriteHeader says no type that the instance did not say: the library would guess.
func (p *paced) WriteHeader(status int) {
	if h := p.Header(); status >= 200 && h["Content-Type"] == nil {
		h["Content-Type"] = nil
	}
	p.ResponseWriter.WriteHeader(status)
}

func (p *paced) Write(data []byte) (int, error) {
	p.extend()
	n, err := p.ResponseWriter.Write(data)
	if err != nil {
		p.broke.Store(true)
	}
	return n, err
}

type pacedBody struct {
	io.ReadCloser
	paced *paced
}

// Read waits for the client for at most the idle time. The deadline is taken
// back afterwards, because the server also watches the connection by reading
// while the answer is made; but a client that let it pass has used up its time.
func (b *pacedBody) Read(data []byte) (int, error) {
	_ = b.paced.control.SetReadDeadline(time.Now().Add(b.paced.idle))
	n, err := b.ReadCloser.Read(data)
	if err != nil && err != io.EOF {
		b.paced.broke.Store(true)
		return n, err
	}
	_ = b.paced.control.SetReadDeadline(time.Time{})
	return n, err
}

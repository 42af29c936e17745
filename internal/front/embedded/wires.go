package embedded

import (
	"bufio"
	"context"
	"io"
	"math"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/textproto"
	"slices"
	"sync"
	"syscall"
	"time"
)

// wires are kept connections to instances, for requests without a body: asked and
// answered by one goroutine, where the library's transport has three that hand over to
// each other, which is most of what it costs. Whatever else a request may be goes
// through the transport.
type wires struct {
	dial func(ctx context.Context, network, address string) (net.Conn, error)

	mu     sync.Mutex         // protects what follows
	idle   map[string][]*wire // by address, the one used last at the end
	closed bool
}

// The bounds of what is kept and read.
const (
	mostIdle       = 512 // connections to one address
	longestIdle    = 30 * time.Second
	mostHeader     = 1 << 20 // bytes of an answer's header
	mostInterim    = 5       // answers with a status of 100 to 199 before the one that counts
	wireBufferSize = 4 << 10
)

// wire is one connection.
type wire struct {
	conn  net.Conn
	raw   syscall.RawConn
	limit io.LimitedReader // of what is read for a header
	in    *bufio.Reader
	out   *bufio.Writer
	since time.Time // idle since
}

// plain reports whether a request can go over a wire.
func plain(r *http.Request) bool {
	return (r.Body == nil || r.Body == http.NoBody) && r.ContentLength == 0 && len(r.TransferEncoding) == 0 &&
		r.Method != http.MethodConnect && r.Header.Get("Upgrade") == "" && r.Header.Get("Expect") == ""
}

// repeatable are the methods that change nothing, so that a request may be sent again
// when a kept connection turns out to have been closed (RFC 9110 section 9.2.2).
var repeatable = []string{http.MethodGet, http.MethodHead, http.MethodOptions, http.MethodTrace}

// RoundTrip sends a request, and returns when its answer's header is there.
func (p *wires) RoundTrip(r *http.Request) (*http.Response, error) {
	for {
		w, kept, err := p.get(r.Context(), r.URL.Host)
		if err != nil {
			return nil, err
		}
		answer, begun, err := p.exchange(w, r)
		if err == nil {
			return answer, nil
		}
		_ = w.conn.Close()
		// The instance closed it just as it was used: there are others, and at last a new one.
		if !kept || begun || r.Context().Err() != nil || !slices.Contains(repeatable, r.Method) {
			return nil, err
		}
	}
}

// exchange sends a request over a wire. begun says whether a byte of the answer came.
func (p *wires) exchange(w *wire, r *http.Request) (answer *http.Response, begun bool, err error) {
	stop := context.AfterFunc(r.Context(), func() { _ = w.conn.Close() })
	defer func() {
		if err != nil {
			stop()
		}
	}()
	if err = r.Write(w.out); err == nil {
		err = w.out.Flush()
	}
	if err != nil {
		return nil, false, err
	}
	w.limit.N = mostHeader
	if _, err = w.in.Peek(1); err != nil {
		return nil, false, err
	}
	for range mostInterim {
		if answer, err = http.ReadResponse(w.in, r); err != nil {
			return nil, true, err
		}
		if answer.StatusCode >= 200 || answer.StatusCode == http.StatusSwitchingProtocols {
			break
		}
		if t := httptrace.ContextClientTrace(r.Context()); t != nil && t.Got1xxResponse != nil {
			if err = t.Got1xxResponse(answer.StatusCode, textproto.MIMEHeader(answer.Header)); err != nil {
				return nil, true, err
			}
		}
	}
	w.limit.N = math.MaxInt64
	body := &wireBody{inner: answer.Body, wire: w, wires: p, address: r.URL.Host, stop: stop, keep: !answer.Close}
	if answer.Body == http.NoBody {
		body.end(true)
	} else {
		answer.Body = body
	}
	return answer, true, nil
}

// get is a kept wire that is still open, or a new one.
func (p *wires) get(ctx context.Context, address string) (w *wire, kept bool, err error) {
	for {
		p.mu.Lock()
		list := p.idle[address]
		if len(list) == 0 {
			p.mu.Unlock()
			break
		}
		w = list[len(list)-1]
		p.idle[address] = list[:len(list)-1]
		p.mu.Unlock()
		if w.open() {
			return w, true, nil
		}
		_ = w.conn.Close()
	}
	conn, err := p.dial(ctx, "tcp", address)
	if err != nil {
		return nil, false, err
	}
	w = &wire{conn: conn, limit: io.LimitedReader{R: conn}, out: bufio.NewWriterSize(conn, wireBufferSize)}
	w.in = bufio.NewReaderSize(&w.limit, wireBufferSize)
	if c, ok := conn.(syscall.Conn); ok {
		w.raw, _ = c.SyscallConn() // without it, it is not looked at before it is used
	}
	return w, false, nil
}

// open reports whether the other end has neither closed the connection nor said
// anything unasked.
func (w *wire) open() bool {
	if w.raw == nil {
		return true
	}
	var err error
	var one [1]byte
	if w.raw.Read(func(fd uintptr) bool {
		_, _, err = syscall.Recvfrom(int(fd), one[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
		return true
	}) != nil {
		return false
	}
	return err == syscall.EAGAIN
}

// put keeps a wire for the next request.
func (p *wires) put(address string, w *wire) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed || len(p.idle[address]) >= mostIdle {
		_ = w.conn.Close()
		return
	}
	w.since = time.Now()
	p.idle[address] = append(p.idle[address], w)
}

// tidy closes what has been idle since before a time.
func (p *wires) tidy(before time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for address, list := range p.idle {
		list = slices.DeleteFunc(list, func(w *wire) bool {
			old := w.since.Before(before)
			if old {
				_ = w.conn.Close()
			}
			return old
		})
		if p.idle[address] = list; len(list) == 0 {
			delete(p.idle, address)
		}
	}
}

// run tidies up until the context ends, and closes all.
func (p *wires) run(ctx context.Context) {
	ticker := time.NewTicker(longestIdle / 3)
	defer ticker.Stop()
	for {
		select {
		case now := <-ticker.C:
			p.tidy(now.Add(-longestIdle))
		case <-ctx.Done():
			p.mu.Lock()
			p.closed = true
			p.mu.Unlock()
			p.tidy(time.Now().Add(time.Hour))
			return
		}
	}
}

// wireBody is the body of an answer, at whose end the wire is kept.
type wireBody struct {
	inner   io.ReadCloser
	wire    *wire
	wires   *wires
	address string
	stop    func() bool // of closing the wire when the client leaves; false if it was closed
	keep    bool
	ended   bool
}

func (b *wireBody) Read(buf []byte) (int, error) {
	n, err := b.inner.Read(buf)
	if err != nil {
		b.end(err == io.EOF)
	}
	return n, err
}

// Close gives the rest of the answer up, if there is any.
func (b *wireBody) Close() error {
	b.end(false)
	return nil
}

func (b *wireBody) end(whole bool) {
	if b.ended {
		return
	}
	b.ended = true
	if b.stop() && whole && b.keep && b.wire.in.Buffered() == 0 {
		b.wires.put(b.address, b.wire)
		return
	}
	_ = b.wire.conn.Close()
}

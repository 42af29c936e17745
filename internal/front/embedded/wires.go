package embedded

import (
	"bufio"
	"context"
	"errors"
	"io"
	"math"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/textproto"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// wires are the connections to instances, one for each request that is under way, and kept
// afterwards. They are our own, and not the library's transport's, because only so one can
// rest after an answer that had no body: an instance that sends one all the same, even a
// moment later, must not answer the next request with it.
type wires struct {
	dial      func(ctx context.Context, address string) (net.Conn, error)
	buffers   *buffers
	firstByte time.Duration // until an answer has begun
	nextByte  time.Duration // until it goes on
	tunnel    time.Duration // without a byte either way, once a connection has another protocol

	mu     sync.Mutex         // protects what follows
	kept   map[string][]*wire // by address, the one used last at the end
	odd    map[string]bool    // addresses that have sent bytes where none belong
	closed bool
}

// The bounds of what is kept and read.
const (
	mostKept       = 512 // connections to one address
	longestKept    = 30 * time.Second
	mostHeader     = 1 << 20 // bytes of an answer's header
	mostInterim    = 5       // answers with a status of 100 to 199 before the one that counts
	wireBufferSize = 4 << 10
	longestWrite   = 10 * time.Second // of a piece of a request, which the instance has but to receive
	rest           = 50 * time.Millisecond
	lastWord       = time.Second // for an answer to a request that could not be sent whole
)

// wire is one connection to an instance.
type wire struct {
	of      *wires
	address string
	conn    net.Conn
	socket  *socket
	limit   io.LimitedReader // of what is read for a header
	in      *bufio.Reader
	out     *bufio.Writer
	since   time.Time // kept since
	until   time.Time // rests until then
}

// sender writes to a wire, with the time that an instance has to take it.
type sender struct{ w *wire }

func (s sender) Write(data []byte) (int, error) {
	_ = s.w.conn.SetWriteDeadline(time.Now().Add(longestWrite))
	return s.w.conn.Write(data)
}

// ReadFrom passes a body on as it comes.
func (s sender) ReadFrom(r io.Reader) (sent int64, err error) {
	piece := s.w.of.buffers.Get()
	defer s.w.of.buffers.Put(piece)
	for {
		n, errRead := r.Read(piece)
		if n > 0 {
			n, err = s.Write(piece[:n])
			if sent += int64(n); err != nil {
				return sent, err
			}
		}
		switch errRead {
		case nil:
		case io.EOF:
			return sent, nil
		default:
			return sent, errRead
		}
	}
}

// get is a kept wire that is still open, or a new one.
func (p *wires) get(ctx context.Context, address string) (w *wire, kept bool, err error) {
	for {
		w := p.take(address)
		if w == nil {
			break
		}
		// It is to have neither been closed nor said anything unasked.
		said, err := w.socket.peek()
		if err == syscall.EAGAIN {
			return w, true, nil
		}
		if said > 0 {
			p.strays(address)
		}
		_ = w.conn.Close()
	}
	conn, err := p.dial(ctx, address)
	if ours(err) && p.give() {
		conn, err = p.dial(ctx, address)
	}
	if err != nil {
		return nil, false, &unsentError{err}
	}
	w = &wire{of: p, address: address, conn: conn, socket: socketOf(conn)}
	w.limit = io.LimitedReader{R: conn, N: math.MaxInt64}
	w.in = bufio.NewReaderSize(&w.limit, wireBufferSize)
	w.out = bufio.NewWriterSize(sender{w}, wireBufferSize)
	return w, false, nil
}

// take is the kept wire that was used last and does not rest, nil if there is none.
func (p *wires) take(address string) *wire {
	p.mu.Lock()
	defer p.mu.Unlock()
	list, now := p.kept[address], time.Now()
	for n, w := range slices.Backward(list) {
		if !now.Before(w.until) {
			p.kept[address] = slices.Delete(list, n, n+1)
			return w
		}
	}
	return nil
}

// give closes a kept wire for its descriptor's sake, and reports whether there was one.
func (p *wires) give() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	for address, list := range p.kept {
		if len(list) > 0 {
			_ = list[0].conn.Close()
			p.kept[address] = list[1:]
			return true
		}
	}
	return false
}

// ours reports whether an error says that this machine is short of something: no instance's
// failure.
func ours(err error) bool {
	return errors.Is(err, syscall.EMFILE) || errors.Is(err, syscall.ENFILE) || errors.Is(err, syscall.ENOBUFS) ||
		errors.Is(err, syscall.ENOMEM) || errors.Is(err, syscall.EADDRNOTAVAIL) || errors.Is(err, syscall.EAGAIN)
}

// strays notes an address that sends bytes where none belong. How long after an answer it
// does so nobody knows: after those without a body its wires are not used again.
func (p *wires) strays(address string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.odd) < mostOdd {
		p.odd[address] = true
	}
}

// mostOdd bounds the addresses that are noted.
const mostOdd = 10_000

// put keeps a wire for the next request, which it has to wait for if it is to rest.
func (p *wires) put(w *wire, rests bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed || rests && p.odd[w.address] || len(p.kept[w.address]) >= mostKept {
		_ = w.conn.Close()
		return
	}
	w.since, w.until = time.Now(), time.Time{}
	if rests {
		w.until = w.since.Add(rest)
	}
	p.kept[w.address] = append(p.kept[w.address], w)
}

// tidy closes what has been kept since before a time.
func (p *wires) tidy(before time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for address, list := range p.kept {
		list = slices.DeleteFunc(list, func(w *wire) bool {
			old := w.since.Before(before)
			if old {
				_ = w.conn.Close()
			}
			return old
		})
		if p.kept[address] = list; len(list) == 0 {
			delete(p.kept, address)
		}
	}
}

// run tidies up until the context ends, and closes all.
func (p *wires) run(ctx context.Context) {
	ticker := time.NewTicker(longestKept / 3)
	defer ticker.Stop()
	for {
		select {
		case now := <-ticker.C:
			p.tidy(now.Add(-longestKept))
		case <-ctx.Done():
			p.mu.Lock()
			p.closed = true
			p.mu.Unlock()
			p.tidy(time.Now().Add(time.Hour))
			return
		}
	}
}

// repeatable reports whether a request may be sent again when a kept wire turns out to have
// been closed: it changes nothing (RFC 9110, section 9.2.2), and there is no body that was
// read already.
func repeatable(r *http.Request) bool {
	switch r.Method {
	case http.MethodGet, http.MethodHead, http.MethodOptions:
		return r.Body == nil || r.Body == http.NoBody
	}
	return false
}

// ask sends a request to an address, and returns its answer when the head of that is there.
// left says whether the client is gone, or does not send what it announced.
func (p *wires) ask(r *http.Request, address string, left func() bool) (*http.Response, error) {
	for {
		w, kept, err := p.get(r.Context(), address)
		if err != nil {
			return nil, err
		}
		answer, begun, err := w.exchange(r, left)
		if err == nil {
			return answer, nil
		}
		_ = w.conn.Close()
		// The instance closed it just as it was used: there are others, and at last a new one.
		if !kept || begun || r.Context().Err() != nil || !repeatable(r) {
			return nil, err
		}
	}
}

// exchange sends a request over a wire, and waits for the head of its answer. begun says
// whether a byte of that came.
func (w *wire) exchange(r *http.Request, left func() bool) (answer *http.Response, begun bool, err error) {
	stop := context.AfterFunc(r.Context(), func() { _ = w.conn.SetDeadline(time.Unix(1, 0)) })
	body := &answerBody{w: w, stop: stop}
	if r.Body == nil || r.Body == http.NoBody {
		_ = w.conn.SetReadDeadline(time.Now().Add(w.of.firstByte))
		err = w.send(r)
	} else {
		// It may answer while it is still being asked.
		_ = w.conn.SetReadDeadline(time.Time{})
		body.sent = make(chan error, 1)
		go func() {
			err := w.send(r)
			limit := w.of.firstByte
			switch {
			case err != nil && left():
				limit = 0
			case err != nil: // an answer may be on its way all the same
				limit = lastWord
			}
			if r.Context().Err() == nil {
				_ = w.conn.SetReadDeadline(time.Now().Add(limit))
			}
			body.sent <- err
		}()
	}
	if err == nil {
		_, err = w.in.Peek(1)
	}
	if err == nil {
		begun = true
		answer, err = w.head(r)
	}
	if err != nil {
		stop()
		return nil, begun, err
	}
	if answer.StatusCode == http.StatusSwitchingProtocols {
		stop()
		_ = w.conn.SetDeadline(time.Time{})
		answer.Body = newTunnel(w)
		return answer, true, nil
	}
	body.ReadCloser = answer.Body
	body.keep = !answer.Close
	body.rests = r.Method == http.MethodHead || answer.StatusCode == http.StatusNoContent || answer.StatusCode == http.StatusNotModified
	answer.Body = body
	return answer, true, nil
}

// send writes a request.
func (w *wire) send(r *http.Request) error {
	if err := r.Write(w.out); err != nil {
		return err
	}
	return w.out.Flush()
}

// head reads the head of an answer, and passes on what comes before the one that counts.
func (w *wire) head(r *http.Request) (*http.Response, error) {
	w.limit.N = mostHeader
	defer func() { w.limit.N = math.MaxInt64 }()
	for range mostInterim {
		answer, err := http.ReadResponse(w.in, r)
		if err != nil || answer.StatusCode >= 200 || answer.StatusCode == http.StatusSwitchingProtocols {
			return answer, err
		}
		if trace := httptrace.ContextClientTrace(r.Context()); trace != nil && trace.Got1xxResponse != nil && answer.StatusCode != http.StatusContinue {
			if err := trace.Got1xxResponse(answer.StatusCode, textproto.MIMEHeader(answer.Header)); err != nil {
				return nil, err
			}
		}
	}
	return nil, errors.New("the instance does not come to an answer")
}

// answerBody is the body of an answer. Where it was read to its end, its wire is kept.
type answerBody struct {
	io.ReadCloser
	w     *wire
	stop  func() bool
	sent  chan error // nil where the request had no body
	keep  bool
	rests bool
	done  bool
}

func (b *answerBody) Read(data []byte) (int, error) {
	if b.done {
		return 0, io.EOF
	}
	_ = b.w.conn.SetReadDeadline(time.Now().Add(b.w.of.nextByte))
	n, err := b.ReadCloser.Read(data)
	if err != nil {
		b.finish(err == io.EOF)
	}
	return n, err
}

// Close gives up what was not read.
func (b *answerBody) Close() error {
	b.finish(false)
	return nil
}

func (b *answerBody) finish(whole bool) {
	if b.done {
		return
	}
	b.done = true
	if b.sent != nil {
		select {
		case err := <-b.sent:
			whole = whole && err == nil
		default:
			whole = false
		}
	}
	more := b.w.in.Buffered() > 0
	if b.stop() && whole && b.keep && !more {
		b.w.of.put(b.w, b.rests)
		return
	}
	if whole && more {
		b.w.of.strays(b.w.address)
	}
	_ = b.w.conn.Close()
}

// tunnel is a wire that has another protocol now. Where nothing moves either way for too
// long, it ends.
type tunnel struct {
	w     *wire
	moved atomic.Int64 // Unix nanoseconds
}

func newTunnel(w *wire) *tunnel {
	t := &tunnel{w: w}
	t.moved.Store(time.Now().UnixNano())
	return t
}

func (t *tunnel) Read(data []byte) (int, error) {
	for {
		by := time.Unix(0, t.moved.Load()).Add(t.w.of.tunnel)
		_ = t.w.conn.SetReadDeadline(by)
		n, err := t.w.in.Read(data)
		if n > 0 {
			t.moved.Store(time.Now().UnixNano())
			return n, err
		}
		if !errors.Is(err, os.ErrDeadlineExceeded) || time.Since(time.Unix(0, t.moved.Load())) >= t.w.of.tunnel {
			return n, err
		}
	}
}

func (t *tunnel) Write(data []byte) (int, error) {
	n, err := sender{t.w}.Write(data)
	if n > 0 {
		t.moved.Store(time.Now().UnixNano())
	}
	return n, err
}

func (t *tunnel) Close() error { return t.w.conn.Close() }

// socket looks at a connection without reading from it. It is not safe for concurrent
// use.
type socket struct {
	raw  syscall.RawConn
	look func(fd uintptr)
	said int
	err  error
}

func socketOf(conn net.Conn) *socket {
	s := &socket{err: errors.ErrUnsupported}
	if c, ok := conn.(syscall.Conn); ok {
		s.raw, _ = c.SyscallConn()
	}
	s.look = func(fd uintptr) {
		var one [1]byte
		s.said, _, s.err = syscall.Recvfrom(int(fd), one[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
	}
	return s
}

// peek is how many bytes could be read, 0 or 1, and EAGAIN if there is nothing yet;
// without bytes and error the other end has closed.
func (s *socket) peek() (int, error) {
	if s.raw == nil {
		return 0, syscall.EAGAIN // it cannot be seen: not until it is used
	}
	if err := s.raw.Control(s.look); err != nil {
		return 0, err
	}
	return s.said, s.err
}

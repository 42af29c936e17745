package embedded

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// wires are the connections to instances. The library's transport keeps and uses them; what is
// added here is how many there may be, and what a connection must not be used for again ([wire]).
type wires struct {
	places    chan struct{} // one for each that is open, those that are kept included
	dialer    net.Dialer
	transport *http.Transport
	framed    bool // they speak HTTP/1: answers follow each other on a connection
	stray     func(address string)
}

// The bounds of what is kept and read.
const (
	mostKept    = 512 // connections to one address
	longestKept = 30 * time.Second
	mostHeader  = 1 << 20          // bytes of an answer's header
	lastWord    = time.Second      // for an answer to a request that could not be sent whole
	forContinue = time.Second      // until a body is sent whose client waits for a word
	pingEvery   = 15 * time.Second // of instances that speak HTTP/2
)

// newWires makes the connections to instances, over HTTP/2 where they speak it.
func newWires(most int, http2 bool, stray func(address string)) *wires {
	w := &wires{places: make(chan struct{}, most), framed: !http2,
		dialer: net.Dialer{Timeout: time.Second, KeepAlive: 30 * time.Second}, stray: stray}
	w.transport = &http.Transport{
		DialContext: w.dial, DisableCompression: true, ExpectContinueTimeout: forContinue,
		MaxIdleConns: max(most/2, 1), MaxIdleConnsPerHost: mostKept, IdleConnTimeout: longestKept,
		MaxResponseHeaderBytes: mostHeader,
		Protocols:              new(http.Protocols),
		HTTP2: &http.HTTP2Config{SendPingTimeout: pingEvery, PingTimeout: pingEvery,
			WriteByteTimeout: pingEvery},
	}
	w.transport.Protocols.SetHTTP1(!http2)
	w.transport.Protocols.SetUnencryptedHTTP2(http2)
	return w
}

// errNoRoom is a front that has as many connections to instances as it may have.
var errNoRoom = errors.New("the front has no connection left for another request to an instance")

// unsentError is a connection that was never made: no byte of the request has been sent, so
// another instance can be asked.
type unsentError struct{ err error }

func (e *unsentError) Error() string { return e.err.Error() }
func (e *unsentError) Unwrap() error { return e.err }

// dial makes a connection if there is room for one; those that are kept give way.
func (w *wires) dial(ctx context.Context, network, address string) (net.Conn, error) {
	if err := w.take(ctx); err != nil {
		return nil, &unsentError{err}
	}
	conn, err := w.dialer.DialContext(ctx, network, address)
	if ours(err) {
		w.transport.CloseIdleConnections()
		conn, err = w.dialer.DialContext(ctx, network, address)
	}
	if err != nil {
		<-w.places
		return nil, &unsentError{err}
	}
	if !w.framed {
		return &counted{Conn: conn, of: w}, nil
	}
	return &wire{counted: counted{Conn: conn, of: w}, address: address, socket: socketOf(conn)}, nil
}

// take takes a place. A client that had to make room gives back its own in a moment.
func (w *wires) take(ctx context.Context) error {
	select {
	case w.places <- struct{}{}:
		return nil
	default:
	}
	w.transport.CloseIdleConnections()
	limit := time.NewTimer(moment)
	defer limit.Stop()
	select {
	case w.places <- struct{}{}:
		return nil
	case <-limit.C:
		return errNoRoom
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// moment is how long a request waits for a place among the connections to instances.
const moment = time.Second

// ours reports whether an error says that this machine is short of something: no instance's
// failure.
func ours(err error) bool {
	return errors.Is(err, errNoRoom) || errors.Is(err, syscall.EMFILE) || errors.Is(err, syscall.ENFILE) ||
		errors.Is(err, syscall.ENOBUFS) ||
		errors.Is(err, syscall.ENOMEM) || errors.Is(err, syscall.EADDRNOTAVAIL) || errors.Is(err, syscall.EAGAIN)
}

// ask sends a request to an address, and returns its answer when the head of that is there. The
// request is not changed.
func (w *wires) ask(r *http.Request, address string) (*http.Response, error) {
	if r.URL.Host != address {
		url := *r.URL
		url.Host = address
		r = r.WithContext(r.Context())
		r.URL = &url
	}
	if r.Body == nil || r.Body == http.NoBody {
		return w.transport.RoundTrip(r)
	}
	again, ctx := &again{from: r.Body}, r.Context()
	if w.framed {
		ctx = httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{GotConn: again.got})
	}
	r = r.WithContext(ctx)
	r.Body, _ = again.body()
	r.GetBody = again.body
	return w.transport.RoundTrip(r)
}

// bodiless reports whether the answer to a request probably has no body. An instance that sends one
// all the same must not answer the next request with it: its connection is used once.
func bodiless(r *http.Request) bool {
	if r.Header["Upgrade"] != nil {
		return false
	}
	return r.Method == http.MethodHead || r.Header["If-None-Match"] != nil || r.Header["If-Modified-Since"] != nil
}

// counted is a connection that counts as open until it is closed.
type counted struct {
	net.Conn
	of   *wires
	gone sync.Once
}

func (c *counted) Close() error {
	err := c.Conn.Close()
	c.gone.Do(func() { <-c.of.places })
	return err
}

// CloseWrite lets a tunnel's other end know that no more comes.
func (c *counted) CloseWrite() error {
	if half, ok := c.Conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return nil
}

// wire is a connection to an instance over HTTP/1. The library uses it for one request after the
// other. The wire sees to what the library does not:
//
//   - It knows where an answer ends. Bytes behind it, and bytes that come while nothing is asked, answer
//     nobody: they end the connection.
//   - An answer without a body by its status (204, 304) is the last: an instance that sends a body all
//     the same might do so late. So is one that comes before the request was sent.
//   - An instance that has closed it is noticed before a request is written.
//   - An instance that answers without having read the whole request is heard: what it does not
//     take any more is thrown away.
type wire struct {
	counted
	address string
	socket  *socket
	written atomic.Int64 // requests that were begun, of which a byte was written
	sends   atomic.Bool  // there is more to come of the request's body
	ended   atomic.Bool  // what has come is the last that is read

	mu      sync.Mutex // protects what follows
	asked   bool       // a request was begun, and its answer is not complete
	answers answers
	deaf    error // why the instance takes no more, nil if it does
}

// Errors of wires that are not used again.
var (
	errStray  = errors.New("the instance said something unasked")
	errClosed = errors.New("the instance closed the connection")
)

// Read reads what the instance says.
func (w *wire) Read(data []byte) (int, error) {
	if w.ended.Load() {
		return 0, io.EOF
	}
	n, err := w.Conn.Read(data)
	w.mu.Lock()
	defer w.mu.Unlock()
	switch {
	case n == 0:
		if w.deaf != nil {
			err = w.deaf
		}
		return 0, err
	case !w.asked:
		w.ended.Store(true)
		w.of.stray(w.address)
		return 0, errStray
	}
	end, whole, unclear := w.answers.take(data[:n])
	switch {
	case unclear != nil:
		w.ended.Store(true)
		return 0, fmt.Errorf("the instance's answer is unclear: %w", unclear)
	case !whole:
		return n, err
	}
	w.asked = false
	if end < n {
		w.of.stray(w.address)
	}
	if end < n || w.answers.bodiless() || w.sends.Load() {
		w.ended.Store(true) // the library does not use again what has ended
		return end, io.EOF
	}
	return n, err
}

// Write sends a piece of a request. The first piece behind a complete answer begins the next one.
func (w *wire) Write(data []byte) (int, error) {
	w.mu.Lock()
	first, deaf := !w.asked && !w.ended.Load(), w.deaf
	w.mu.Unlock()
	switch {
	case deaf != nil && !first:
		return len(data), nil
	case deaf != nil:
		return 0, deaf
	case first && w.gone():
		return 0, errClosed
	}
	if first { // from here on what comes is an answer
		w.mu.Lock()
		w.asked = true
		w.answers.begin()
		w.mu.Unlock()
	}
	n, err := w.Conn.Write(data)
	if n > 0 && first {
		w.written.Add(1)
	}
	if err == nil || errors.Is(err, net.ErrClosed) || n == 0 && first {
		return n, err
	}
	// An answer may be on its way all the same.
	w.mu.Lock()
	w.deaf = err
	w.mu.Unlock()
	_ = w.Conn.SetReadDeadline(time.Now().Add(lastWord))
	return len(data), nil
}

// gone reports whether the instance has closed the connection, or said something unasked.
func (w *wire) gone() bool {
	_, err := w.socket.peek()
	return err != syscall.EAGAIN
}

// ReadFrom passes a body on in large pieces.
func (w *wire) ReadFrom(r io.Reader) (sent int64, err error) {
	piece := pieces.Get()
	defer pieces.Put(piece)
	for {
		n, errRead := r.Read(piece)
		if n > 0 {
			written, err := w.Write(piece[:n])
			if sent += int64(written); err != nil {
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

// again is the body of a request that can be begun anew until a byte of the request was written:
// for a kept connection that turned out to be closed.
type again struct {
	from io.Reader

	mu     sync.Mutex // protects what follows
	kept   []byte     // what was read so far
	lost   bool       // and is not kept any more
	now    *attempt   // that reads
	wire   *wire      // that it is written to, nil before that
	before int64      // requests that were begun there before
}

// got is the library's: it has got a connection for the request.
func (a *again) got(conn httptrace.GotConnInfo) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if w, ok := conn.Conn.(*wire); ok {
		a.wire, a.before = w, w.written.Load()
		w.sends.Store(true)
	}
}

// sent reports whether a byte of the request was written. The caller holds the lock.
func (a *again) sent() bool { return a.wire != nil && a.wire.written.Load() > a.before }

// mostAgain bounds what is kept, in bytes: more than the library reads before it writes.
const mostAgain = 64 << 10

// attempt is the body as one of the library's attempts reads it.
type attempt struct {
	of *again
	at int
}

// body begins the body anew.
func (a *again) body() (io.ReadCloser, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.lost {
		return nil, errors.New("the body cannot be sent again")
	}
	a.now = &attempt{of: a}
	return a.now, nil
}

func (t *attempt) Read(data []byte) (int, error) {
	a := t.of
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.now != t {
		return 0, errOver
	}
	if t.at < len(a.kept) {
		n := copy(data, a.kept[t.at:])
		t.at += n
		return n, nil
	}
	n, err := a.from.Read(data)
	switch {
	case a.lost:
	case a.sent() || len(a.kept)+n > mostAgain:
		a.lost, a.kept = true, nil
	default:
		a.kept = append(a.kept, data[:n]...)
		t.at = len(a.kept)
	}
	if err == io.EOF && a.wire != nil {
		a.wire.sends.Store(false)
	}
	return n, err
}

func (*attempt) Close() error { return nil }

// socket looks at a connection without reading from it. It is not safe for concurrent use.
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

// pieces are buffers that bodies are copied by.
var pieces buffers

// buffers is a pool of them.
type buffers struct{ pool sync.Pool }

const bufferSize = 32 << 10

func (b *buffers) Get() []byte {
	if buf, ok := b.pool.Get().(*[bufferSize]byte); ok {
		return buf[:]
	}
	return make([]byte, bufferSize)
}

func (b *buffers) Put(buf []byte) {
	if cap(buf) >= bufferSize {
		b.pool.Put((*[bufferSize]byte)(buf[:bufferSize]))
	}
}

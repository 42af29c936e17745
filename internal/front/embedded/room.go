package embedded

import (
	"container/list"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/pires/go-proxyproto"
)

// room is how much of the front clients may use up, in all and from one address. The unit is what
// runs out, a descriptor: a client's connection is one, and so is each further request that it has
// under way over HTTP/2, which needs a connection to an instance.
//
// Where there is no room left, somebody goes, and nobody waits: first a connection that has been
// without a request for long; then, of the address that uses the most, the one on which the
// fewest bytes moved in the last minute.
type room struct {
	most, each int
	denied     *denials

	mu      sync.Mutex // protects what follows
	callers map[*caller]struct{}
	of      map[netip.Prefix]int // units that an address uses
	used    int
	idle    *list.List // of *caller without a request, for longest first
	heads   int64      // bytes of the heads of requests that have not been answered, beyond what each may have
	closed  bool
}

// The bounds of room beside those of the plan.
const (
	young = 5 * time.Second // a connection in use is not asked to make room before
	// A head takes so much in any case, and all of them together take at most headRoom more.
	headFree = 4 << 10
	headRoom = 64 << 20
	windows  = 6 // of the last minute, in which bytes are counted
	window   = time.Minute / windows
)

func newRoom(most, each int, denied *denials) *room {
	return &room{most: most, each: each, denied: denied, callers: map[*caller]struct{}{}, of: map[netip.Prefix]int{},
		idle: list.New()}
}

// caller is the connection of a client.
type caller struct {
	net.Conn
	room  *room
	peer  netip.Addr // who made the connection, or is said to have by a proxy that announces
	many  bool       // it stands for many: a proxy that is trusted
	spare bool       // it came by the spare side's door
	safe  bool       // it came over TLS
	since time.Time
	limit atomic.Int64 // nanoseconds that the client has for taking some bytes
	by    atomic.Int64 // when that ends, Unix nanoseconds
	moved atomic.Int64 // when bytes moved last, Unix nanoseconds
	bytes atomic.Int64 // that have moved

	outer   *caller // that it is within, and that counts; nil if it does itself
	framed  bool    // by frames: the library frames requests itself in HTTP/2, and before that it is TLS
	frames  framing
	refused bool         // what came last was unclear; only the reader uses it
	told    int          // of malformed
	dead    bool         // what came last was cut off within a request; only the reader uses it
	taken   atomic.Int64 // bytes of the room for heads, by the one that is read
	tunnel  atomic.Bool  // it has another protocol now
	lingers atomic.Bool  // the client may still be sending when it is closed

	// Protected by room.mu.
	element *list.Element // in room.idle
	streams int           // requests that it has under way over HTTP/2
	before  [windows]int64
	head    int64 // what it takes of room.heads
	gone    sync.Once
}

func newCaller(conn net.Conn, idle time.Duration) *caller {
	c := &caller{Conn: conn, peer: addressOf(conn.RemoteAddr()), since: time.Now()}
	c.limit.Store(int64(idle))
	c.moved.Store(time.Now().UnixNano())
	return c
}

// within is a connection over another one, which stays what counts.
func (c *caller) within(conn net.Conn) *caller {
	inner := &caller{Conn: conn, peer: c.peer, many: c.many, spare: c.spare, since: c.since, outer: c.counts(),
		room: c.counts().room}
	inner.limit.Store(c.limit.Load())
	inner.moved.Store(time.Now().UnixNano())
	return inner
}

// counts is the caller that counts: itself, or the one that it is within.
func (c *caller) counts() *caller {
	if c.outer != nil {
		return c.outer
	}
	return c
}

// addressOf is an address without its port.
func addressOf(a net.Addr) netip.Addr {
	if tcp, ok := a.(*net.TCPAddr); ok {
		addr, _ := netip.AddrFromSlice(tcp.IP)
		return addr.Unmap()
	}
	return netip.Addr{}
}

// household is whom an address counts for: of IPv6 a whole /64, which is what one subscriber has.
func household(a netip.Addr) netip.Prefix {
	bits := a.BitLen()
	if a.Is6() {
		bits = 64
	}
	p, _ := a.Prefix(bits) // the zero address has the zero prefix
	return p
}

// admit lets a connection in, and reports whether it did. An address that has too many in use
// already, or a front that is closed, gets no further one.
func (m *room) admit(c *caller) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.closed || !m.fits(c) {
		return false
	}
	for m.used >= m.most {
		if !m.makeRoom(netip.Prefix{}, c) {
			return false
		}
	}
	c.room = m
	m.callers[c] = struct{}{}
	m.of[household(c.peer)]++
	m.used++
	c.element = m.idle.PushBack(c) // until it asks for something
	return true
}

// fits reports whether an address may use another unit; a connection of its own makes room. The
// caller holds the lock.
func (m *room) fits(c *caller) bool {
	if c.many || m.of[household(c.peer)] < m.each || m.makeRoom(household(c.peer), c) {
		return true
	}
	m.denied.count(perClient, c.peer)
	return false
}

// announce says whose connection it really is, by the proxy that brings it, and reports whether
// there is room for that one.
func (m *room) announce(c *caller, peer netip.Addr, many bool) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if _, in := m.callers[c]; !in {
		return false
	}
	m.leave(c, 1)
	c.peer, c.many = peer, many
	ok := m.fits(c)
	m.of[household(peer)]++
	m.used++
	return ok
}

// enter counts a request over HTTP/2, and reports whether there is room for it. The first one that
// a connection has under way is counted with that.
func (m *room) enter(c *caller) bool {
	c = c.counts()
	m.mu.Lock()
	defer m.mu.Unlock()
	if _, in := m.callers[c]; !in {
		return true // it ends anyway
	}
	if c.streams > 0 {
		if !c.many && m.of[household(c.peer)] >= m.each {
			m.denied.count(perClient, c.peer)
			return false
		}
		if m.used >= m.most && (m.busiest() == household(c.peer) || !m.makeRoom(netip.Prefix{}, c)) {
			m.denied.count(noRoom, c.peer)
			return false
		}
		m.of[household(c.peer)]++
		m.used++
	}
	c.streams++
	return true
}

// exit is the end of a request over HTTP/2.
func (m *room) exit(c *caller) {
	c = c.counts()
	m.mu.Lock()
	defer m.mu.Unlock()
	if _, in := m.callers[c]; in {
		if c.streams--; c.streams > 0 {
			m.leave(c, 1)
		}
	}
}

// leave gives back units; the caller holds the lock.
func (m *room) leave(c *caller, units int) {
	at := household(c.peer)
	m.used -= units
	if m.of[at] -= units; m.of[at] <= 0 {
		delete(m.of, at)
	}
}

// busiest is the address that uses the most; the caller holds the lock.
func (m *room) busiest() (at netip.Prefix) {
	most := 0
	for p, n := range m.of {
		if n > most || n == most && p.Addr().Less(at.Addr()) {
			at, most = p, n
		}
	}
	return at
}

// makeRoom closes a connection other than one, of an address if that is valid, and reports whether
// it found one. The caller holds the lock.
func (m *room) makeRoom(of netip.Prefix, but *caller) bool {
	if c := m.idlest(of, but); c != nil {
		m.drop(c)
		return true
	}
	only := of
	if !only.IsValid() {
		only = m.busiest()
	}
	victim := m.laziest(only, but, young)
	if victim == nil && !of.IsValid() {
		if victim = m.laziest(netip.Prefix{}, but, young); victim == nil {
			victim = m.laziest(netip.Prefix{}, but, 0)
		}
	}
	if victim == nil {
		return false
	}
	m.denied.count(madeRoom, victim.peer)
	m.drop(victim)
	return true
}

// idlest is, of the connections that have been without a request for longest, one of the address that uses the
// most: a flood of connections drives out itself.
func (m *room) idlest(of netip.Prefix, but *caller) (c *caller) {
	seen, most := 0, 0
	for e := m.idle.Front(); e != nil && seen < looked; e = e.Next() {
		other := e.Value.(*caller)
		at := household(other.peer)
		if other == but || of.IsValid() && at != of {
			continue
		}
		if seen++; c == nil || m.of[at] > most {
			c, most = other, m.of[at]
		}
	}
	return c
}

// looked is how many connections are looked at for that.
const looked = 32

// laziest is the connection on which the fewest bytes moved in the last minute, of an address if
// that is valid, and of those that are as old.
func (m *room) laziest(of netip.Prefix, but *caller, age time.Duration) (c *caller) {
	fewest, now := int64(0), time.Now()
	for other := range m.callers {
		if other == but || of.IsValid() && household(other.peer) != of || now.Sub(other.since) < age {
			continue
		}
		if n := (other.bytes.Load() - other.before[0]) / int64(1+other.streams); c == nil || n < fewest {
			c, fewest = other, n
		}
	}
	return c
}

// drop closes a connection; the caller holds the lock.
func (m *room) drop(c *caller) {
	m.remove(c)
	_ = c.Conn.Close()
}

// remove takes a connection out; the caller holds the lock.
func (m *room) remove(c *caller) {
	if _, in := m.callers[c]; !in {
		return
	}
	delete(m.callers, c)
	m.leave(c, max(c.streams, 1))
	m.heads -= c.head
	c.head = 0
	if c.element != nil {
		m.idle.Remove(c.element)
		c.element = nil
	}
}

// turn begins the next window in which bytes are counted. It is called once a [window].
func (m *room) turn() {
	m.mu.Lock()
	defer m.mu.Unlock()
	for c := range m.callers {
		copy(c.before[:], c.before[1:])
		c.before[windows-1] = c.bytes.Load()
	}
}

// takeHead counts bytes of a head that is under way beyond what each may have, and reports whether there
// is room for them.
func (m *room) takeHead(c *caller, bytes int64) bool {
	if bytes <= 0 {
		return true
	}
	c = c.counts()
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.heads+bytes > headRoom {
		m.denied.count(headsFull, c.peer)
		return false
	}
	if _, in := m.callers[c]; in {
		m.heads += bytes
		c.head += bytes
	}
	return true
}

// giveHead gives back what was taken for a head.
func (m *room) giveHead(c *caller, bytes int64) {
	if bytes <= 0 {
		return
	}
	c = c.counts()
	m.mu.Lock()
	defer m.mu.Unlock()
	less := min(bytes, c.head)
	m.heads -= less
	c.head -= less
}

// note follows the server's connections; it is an http.Server's ConnState.
func (m *room) note(conn net.Conn, state http.ConnState) {
	c := callerOf(conn)
	if c == nil || state == http.StateNew { // it was let in as such
		return
	}
	c = c.counts()
	m.mu.Lock()
	defer m.mu.Unlock()
	if _, in := m.callers[c]; !in {
		return
	}
	if c.element != nil {
		m.idle.Remove(c.element)
		c.element = nil
	}
	if state == http.StateIdle {
		c.element = m.idle.PushBack(c)
	}
}

// left is how many connections there are, and how many of them are in use.
func (m *room) left() (all, busy int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return len(m.callers), len(m.callers) - m.idle.Len()
}

// callerOf is the caller behind a connection of the server's.
func callerOf(conn net.Conn) *caller {
	if t, ok := conn.(*tls.Conn); ok {
		conn = t.NetConn()
	}
	c, _ := conn.(*caller)
	return c
}

// close ends all connections, and lets none in any more.
func (m *room) close() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.closed = true
	for c := range m.callers {
		_ = c.Conn.Close()
	}
}

// lastMoved is when bytes moved last, either way.
func (c *caller) lastMoved() time.Time { return time.Unix(0, c.moved.Load()) }

// progress notes bytes that moved.
func (c *caller) progress(n int) {
	c.moved.Store(time.Now().UnixNano())
	c.bytes.Add(int64(n))
}

// tunnelFrom says that the connection has another protocol, and how long the client may take no bytes.
func (c *caller) tunnelFrom(limit time.Duration) {
	c.tunnel.Store(true)
	c.limit.Store(int64(limit))
	c.counts().limit.Store(int64(limit))
}

// Read reads what the client sends. What is unclear is read as something that the library
// refuses wherever it stands. Behind a request that was cut off nothing is read: it would be read
// as another request.
func (c *caller) Read(data []byte) (int, error) {
	switch {
	case c.dead:
		return 0, errCutOff
	case c.refused && len(data) > 0:
		if c.told >= len(malformed) {
			return 0, errUnclear
		}
		n := copy(data, malformed[c.told:])
		c.told += n
		return n, nil
	}
	n, err := c.Conn.Read(data)
	if n > 0 {
		c.progress(n)
	}
	if !c.framed || c.tunnel.Load() {
		return n, err
	}
	if err != nil && !c.frames.idle() {
		c.dead = true
		c.lingers.Store(isTimeout(err))
	}
	if n == 0 {
		return 0, err
	}
	good, unclear := c.frames.take(data[:n])
	if unclear == nil && c.headFits() {
		return n, err
	}
	c.refused = true
	if unclear != nil {
		c.room.denied.count(unclearRequest, c.peer)
	} else {
		good = 0
	}
	if good == 0 && len(data) > 0 {
		return c.Read(data)
	}
	return good, nil
}

// headFits takes room for the head that is being read, and reports whether there is some.
func (c *caller) headFits() bool {
	more := int64(c.frames.headSize()-headFree) - c.taken.Load()
	if more <= 0 {
		return true
	}
	c.taken.Add(more)
	return c.room.takeHead(c, more)
}

// headDone gives back what the head of a request over HTTP/1 took: the request is through.
func (c *caller) headDone() { c.room.giveHead(c, c.taken.Swap(0)) }

// Write writes to the client, who has to take some of it within a time.
func (c *caller) Write(data []byte) (sent int, err error) {
	if c.outer != nil {
		if sent, err = c.Conn.Write(data); sent > 0 {
			c.progress(sent)
		}
		return sent, err
	}
	for {
		now, limit := time.Now(), time.Duration(c.limit.Load())
		if by := now.Add(limit); by.UnixNano()-c.by.Load() > int64(limit/4) { // not each time: it costs
			c.by.Store(by.UnixNano())
			_ = c.Conn.SetWriteDeadline(by)
		}
		n, err := c.Conn.Write(data[sent:])
		if n > 0 {
			c.progress(n)
		}
		sent += n
		if n == 0 || sent == len(data) || !isTimeout(err) {
			return sent, err
		}
	}
}

// errCutOff is what a connection ends with behind a request that was cut off.
var errCutOff = errors.New("the request before was cut off")

// SetDeadline sets both deadlines; that of writing is set anew with the next write.
func (c *caller) SetDeadline(by time.Time) error {
	c.by.Store(0)
	return c.Conn.SetDeadline(by)
}

// SetWriteDeadline sets the deadline of writing, until the next write.
func (c *caller) SetWriteDeadline(by time.Time) error {
	c.by.Store(0)
	return c.Conn.SetWriteDeadline(by)
}

func isTimeout(err error) bool {
	var t net.Error
	return errors.As(err, &t) && t.Timeout()
}

// Close closes the connection, and gives back its room. A client that may still be sending has a
// moment to read the answer (RFC 9112, section 9.6).
func (c *caller) Close() error {
	if c.lingers.Swap(false) && c.CloseWrite() == nil {
		go func() {
			_ = c.Conn.SetReadDeadline(time.Now().Add(lingering))
			_, _ = io.CopyN(io.Discard, c.Conn, mostLingering)
			_ = c.Close()
		}()
		return nil
	}
	err := c.Conn.Close()
	if c.room != nil {
		c.gone.Do(func() {
			c.room.mu.Lock()
			defer c.room.mu.Unlock()
			c.room.remove(c.counts())
		})
	}
	return err
}

// What a client that was still sending may send before its connection is closed for good.
const (
	lingering     = 500 * time.Millisecond
	mostLingering = 256 << 10
)

// CloseWrite lets the server end an answer before it closes the connection.
func (c *caller) CloseWrite() error {
	conn := c.Conn
	if announced, ok := conn.(*proxyproto.Conn); ok {
		conn = announced.Raw()
	}
	if half, ok := conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return nil
}

// reserve is how many descriptors are kept for what is neither a client's connection nor an
// instance's: files, the admin socket, the doors.
const reserve = 64

// fitting is how many connections of clients the process has descriptors for, at most as many
// as wanted: each may need another one to an instance.
func fitting(wanted int) int {
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err != nil {
		return wanted
	}
	// What the process has open already, such as what it was given when it was started.
	open, _ := os.ReadDir("/proc/self/fd")
	free := (int64(min(limit.Cur, 1<<40)) - reserve - int64(len(open))) / 2
	return int(max(min(int64(wanted), free), 1))
}

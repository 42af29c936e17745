package embedded

import (
	"container/list"
	"crypto/tls"
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

// crowd bounds the connections of clients, in all and of one address. Where there are too
// many, room is made whatever they are doing: first the one goes that has been without a
// request for longest, then the one on which nothing has moved for longest.
type crowd struct {
	most, each int

	mu      sync.Mutex // protects what follows
	members map[*caller]struct{}
	of      map[netip.Addr]int // how many an address has
	idle    *list.List         // of *caller without a request, for longest first
	waiting chan struct{}      // closed when the next one leaves; nil if nobody waits for it
	closed  bool
}

// still is how long nothing has to have moved on a connection in use for it to make room.
const still = time.Second

func newCrowd(most, each int) *crowd {
	return &crowd{most: most, each: each, members: map[*caller]struct{}{}, of: map[netip.Addr]int{}, idle: list.New()}
}

// caller is the connection of a client.
type caller struct {
	net.Conn
	crowd *crowd
	peer  netip.Addr // who made the connection
	many  bool       // it stands for many: a proxy that is trusted
	spare bool       // it came by the spare side's door
	safe  bool       // it came over TLS
	moved atomic.Int64

	outer   *caller // that it is within, and that counts; nil if it does itself
	framed  bool    // by frames: the library frames requests itself in HTTP/2, and before that it is TLS
	frames  framing
	refused bool          // what came last was unclear; only the reader uses it
	told    int           // of malformed
	tunnel  atomic.Bool   // it has another protocol now
	element *list.Element // in crowd.idle; protected by crowd.mu
	gone    sync.Once
}

func newCaller(conn net.Conn) *caller {
	c := &caller{Conn: conn, peer: addressOf(conn.RemoteAddr())}
	c.moved.Store(time.Now().UnixNano())
	return c
}

// within is a connection over another one, which stays what the crowd counts.
func (c *caller) within(conn net.Conn) *caller {
	inner := &caller{Conn: conn, peer: c.peer, many: c.many, spare: c.spare, outer: c}
	if c.outer != nil {
		inner.outer = c.outer
	}
	return inner
}

// addressOf is an address without its port.
func addressOf(a net.Addr) netip.Addr {
	if tcp, ok := a.(*net.TCPAddr); ok {
		addr, _ := netip.AddrFromSlice(tcp.IP)
		return addr.Unmap()
	}
	return netip.Addr{}
}

// admit lets a connection in, as soon as there is room. It reports whether it did: an
// address that has too many in use already, or a crowd that is closed, gets no further one.
func (c *crowd) admit(conn *caller) bool {
	for {
		c.mu.Lock()
		if c.closed || !conn.many && c.of[conn.peer] >= c.each && !c.makeRoom(conn.peer) {
			c.mu.Unlock()
			return false
		}
		if len(c.members) < c.most || c.makeRoom(netip.Addr{}) {
			conn.crowd = c
			c.members[conn] = struct{}{}
			c.of[conn.peer]++
			conn.element = c.idle.PushBack(conn) // until it asks for something
			c.mu.Unlock()
			return true
		}
		if c.waiting == nil {
			c.waiting = make(chan struct{})
		}
		left := c.waiting
		c.mu.Unlock()
		select {
		case <-left:
		case <-time.After(still / 10):
		}
	}
}

// makeRoom closes a connection, of an address if that is valid. It reports whether there is
// room now.
func (c *crowd) makeRoom(of netip.Addr) bool {
	var last *caller
	for e := c.idle.Front(); e != nil && last == nil; e = e.Next() {
		if conn := e.Value.(*caller); !of.IsValid() || conn.peer == of {
			last = conn
		}
	}
	if last == nil {
		at := time.Now().Add(-still).UnixNano()
		for conn := range c.members {
			if moved := conn.moved.Load(); moved <= at && (!of.IsValid() || conn.peer == of) {
				last, at = conn, moved
			}
		}
	}
	if last == nil {
		return false
	}
	c.remove(last)
	_ = last.Conn.Close()
	return true
}

// remove takes a connection out; the caller holds the lock.
func (c *crowd) remove(conn *caller) {
	if _, in := c.members[conn]; !in {
		return
	}
	delete(c.members, conn)
	if c.of[conn.peer]--; c.of[conn.peer] <= 0 {
		delete(c.of, conn.peer)
	}
	if conn.element != nil {
		c.idle.Remove(conn.element)
		conn.element = nil
	}
	if c.waiting != nil {
		close(c.waiting)
		c.waiting = nil
	}
}

// note follows the server's connections; it is an http.Server's ConnState.
func (c *crowd) note(conn net.Conn, state http.ConnState) {
	caller := callerOf(conn)
	if caller == nil || state == http.StateNew { // it was let in as such
		return
	}
	if caller.outer != nil {
		caller = caller.outer
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, in := c.members[caller]; !in {
		return
	}
	if caller.element != nil {
		c.idle.Remove(caller.element)
		caller.element = nil
	}
	if state == http.StateIdle {
		caller.element = c.idle.PushBack(caller)
	}
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
func (c *crowd) close() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.closed = true
	for conn := range c.members {
		_ = conn.Conn.Close()
	}
}

// Read reads what the client sends. What is unclear is read as something that the library
// refuses wherever it stands.
func (c *caller) Read(data []byte) (int, error) {
	if c.refused && len(data) > 0 {
		if c.told >= len(malformed) {
			return 0, errUnclear
		}
		n := copy(data, malformed[c.told:])
		c.told += n
		return n, nil
	}
	n, err := c.Conn.Read(data)
	if n == 0 {
		return n, err
	}
	c.moved.Store(time.Now().UnixNano())
	if !c.framed || c.tunnel.Load() {
		return n, err
	}
	good, unclear := c.frames.take(data[:n])
	if unclear == nil {
		return n, err
	}
	c.refused = true
	if good == 0 && len(data) > 0 {
		return c.Read(data)
	}
	return good, nil
}

// Write writes to the client.
func (c *caller) Write(data []byte) (int, error) {
	n, err := c.Conn.Write(data)
	if n > 0 {
		c.moved.Store(time.Now().UnixNano())
	}
	return n, err
}

// Close closes the connection, and makes room.
func (c *caller) Close() error {
	c.gone.Do(func() {
		if c.crowd != nil {
			c.crowd.mu.Lock()
			defer c.crowd.mu.Unlock()
			c.crowd.remove(c)
		}
	})
	return c.Conn.Close()
}

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
// instance's: files, the admin socket, the two doors.
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
	room := (int64(min(limit.Cur, 1<<40)) - reserve - int64(len(open))) / 2
	return int(max(min(int64(wanted), room), 1))
}

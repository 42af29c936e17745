package embedded

import (
	"container/list"
	"errors"
	"net"
	"net/http"
	"sync"
	"syscall"
)

// crowd bounds the connections of clients. When there are too many, the one
// that has been idle for longest is closed to let a new one in, so that a client
// that opens many and uses none shuts nobody out.
type crowd struct {
	free chan struct{} // one token for each connection that may still be opened

	mu   sync.Mutex // protects idle and at
	idle *list.List // of net.Conn, idle for longest first
	at   map[net.Conn]*list.Element
}

func newCrowd(most int) *crowd {
	c := &crowd{free: make(chan struct{}, most), idle: list.New(), at: map[net.Conn]*list.Element{}}
	for range most {
		c.free <- struct{}{}
	}
	return c
}

// note follows the server's connections; it is an http.Server's ConnState.
func (c *crowd) note(conn net.Conn, state http.ConnState) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if e := c.at[conn]; e != nil {
		c.idle.Remove(e)
		delete(c.at, conn)
	}
	if state == http.StateIdle || state == http.StateNew {
		c.at[conn] = c.idle.PushBack(conn)
	}
}

// makeRoom closes the connection that has been idle for longest, if any is.
func (c *crowd) makeRoom() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if e := c.idle.Front(); e != nil {
		conn := c.idle.Remove(e).(net.Conn)
		delete(c.at, conn)
		_ = conn.Close()
	}
}

// crowdListener accepts connections as long as the crowd has room.
type crowdListener struct {
	net.Listener
	crowd *crowd
}

// Accept waits for a connection, then for room.
func (l *crowdListener) Accept() (net.Conn, error) {
	conn, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	select {
	case <-l.crowd.free:
	default:
		l.crowd.makeRoom()
		<-l.crowd.free
	}
	return &crowdConn{Conn: conn, leave: sync.OnceFunc(func() { l.crowd.free <- struct{}{} })}, nil
}

type crowdConn struct {
	net.Conn
	leave func()
}

func (c *crowdConn) Close() error {
	defer c.leave()
	return c.Conn.Close()
}

// SyscallConn lets the connection be looked at without reading from it.
func (c *crowdConn) SyscallConn() (syscall.RawConn, error) {
	if raw, ok := c.Conn.(syscall.Conn); ok {
		return raw.SyscallConn()
	}
	return nil, errors.ErrUnsupported
}

// CloseWrite lets the server end an answer before it closes the connection.
func (c *crowdConn) CloseWrite() error { return closeWrite(c.Conn) }

// closeWrite ends what is written to a connection, where it has such a half.
func closeWrite(conn net.Conn) error {
	if half, ok := conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return nil
}

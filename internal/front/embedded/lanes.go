package embedded

import (
	"context"
	"errors"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"
)

// lanes are the connections of clients. Each is a goroutine that carries requests as
// long as they are as almost all are; see [lane]. The first that is not goes to the
// library's server, with its connection.
type lanes struct {
	proxy    *proxy
	crowd    *crowd
	headTime time.Duration // for a request's head, from its first byte
	idle     time.Duration
	most     int // bytes of a request's head
	over     *takeover
	closing  atomic.Bool
	ended    sync.WaitGroup

	mu  sync.Mutex // protects all
	all map[*lane]bool
}

func newLanes(c Config, p *proxy, listener *crowdListener) *lanes {
	return &lanes{
		proxy: p, crowd: listener.crowd, headTime: c.HeaderTime, idle: c.Idle, most: min(laneBuffer, int(c.HeaderSize)),
		over: &takeover{address: listener.Addr(), conns: make(chan net.Conn), done: make(chan struct{})},
		all:  map[*lane]bool{},
	}
}

// serve accepts connections until the listener is closed.
func (s *lanes) serve(listener net.Listener) error {
	wait := time.Millisecond
	for {
		conn, err := listener.Accept()
		if errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil { // there may be no descriptor left; connections that end free some
			wait = min(2*wait, time.Second)
			time.Sleep(wait)
			continue
		}
		wait = time.Millisecond
		if l := newLane(s, conn); s.add(l) {
			go l.run()
		} else {
			_ = conn.Close()
		}
	}
}

func (s *lanes) add(l *lane) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closing.Load() {
		return false
	}
	s.all[l] = true
	s.ended.Add(1)
	s.crowd.note(l.conn, http.StateNew)
	return true
}

func (s *lanes) remove(l *lane) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.crowd.note(l.conn, http.StateClosed)
	delete(s.all, l)
	s.ended.Done()
}

// shutdown lets requests that are under way finish until the context ends. Connections
// without one are closed at once.
func (s *lanes) shutdown(ctx context.Context) {
	s.mu.Lock()
	s.closing.Store(true)
	for l := range s.all {
		l.wake()
	}
	s.mu.Unlock()
	done := make(chan struct{})
	go func() {
		s.ended.Wait()
		close(done)
	}()
	select {
	case <-done:
		return
	case <-ctx.Done():
	}
	s.mu.Lock()
	for l := range s.all {
		_ = l.conn.Close()
	}
	s.mu.Unlock()
	<-done
}

// takeover is the listener of the library's server: it accepts what lanes hand over.
type takeover struct {
	address net.Addr
	conns   chan net.Conn
	once    sync.Once
	done    chan struct{}
}

// hand gives a connection over, with what has been read of it.
func (t *takeover) hand(conn net.Conn, read []byte) {
	select {
	case t.conns <- &taken{Conn: conn, read: read}:
	case <-t.done:
		_ = conn.Close()
	}
}

func (t *takeover) Accept() (net.Conn, error) {
	select {
	case c := <-t.conns:
		return c, nil
	case <-t.done:
		return nil, net.ErrClosed
	}
}

func (t *takeover) Close() error {
	t.once.Do(func() { close(t.done) })
	return nil
}

func (t *takeover) Addr() net.Addr { return t.address }

// taken is a connection of which something has been read already.
type taken struct {
	net.Conn
	read []byte // and not yet by its new owner
}

func (c *taken) Read(data []byte) (int, error) {
	if len(c.read) > 0 {
		n := copy(data, c.read)
		c.read = c.read[n:]
		return n, nil
	}
	return c.Conn.Read(data)
}

// CloseWrite lets the server end an answer before it closes the connection.
func (c *taken) CloseWrite() error { return closeWrite(c.Conn) }

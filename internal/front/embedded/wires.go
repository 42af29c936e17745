package embedded

import (
	"bufio"
	"context"
	"errors"
	"io"
	"math"
	"net"
	"os"
	"slices"
	"sync"
	"syscall"
	"time"
)

// wires are kept connections to instances, for lanes.
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
	watched        = 500 * time.Millisecond // at most until it is noticed that a waiting client left
	longestWrite   = 10 * time.Second       // for one request, which the instance has but to receive
)

// wire is one connection.
type wire struct {
	address         string
	conn            net.Conn
	socket          *socket
	limit           io.LimitedReader // of what is read for a header
	in              *bufio.Reader
	since           time.Time   // idle since
	there           func() bool // whether anybody waits for the answer
	readBy, writeBy time.Time   // deadlines
}

// errLeft is an answer that nobody waits for any more.
var errLeft = errors.New("the client left")

// patient reads from a wire as long as somebody waits.
type patient struct{ *wire }

func (p patient) Read(data []byte) (int, error) {
	for {
		if now := time.Now(); p.readBy.Sub(now) < watched/2 {
			p.readBy = now.Add(watched)
			_ = p.conn.SetReadDeadline(p.readBy)
		}
		n, err := p.conn.Read(data)
		if n > 0 || !errors.Is(err, os.ErrDeadlineExceeded) {
			return n, err
		}
		if !p.there() {
			return 0, errLeft
		}
	}
}

func (w *wire) write(data []byte) error {
	extend(w.conn.SetWriteDeadline, &w.writeBy, longestWrite)
	_, err := w.conn.Write(data)
	return err
}

// get is a kept wire that is still open, or a new one.
func (p *wires) get(address string) (w *wire, kept bool, err error) {
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
		// It is to have neither been closed nor said anything unasked.
		if _, err := w.socket.peek(); err == syscall.EAGAIN {
			return w, true, nil
		}
		_ = w.conn.Close()
	}
	conn, err := p.dial(context.Background(), "tcp", address)
	if err != nil {
		return nil, false, err
	}
	w = &wire{address: address, conn: conn, socket: socketOf(conn)}
	w.limit = io.LimitedReader{R: patient{w}, N: math.MaxInt64}
	w.in = bufio.NewReaderSize(&w.limit, wireBufferSize)
	return w, false, nil
}

// put keeps a wire for the next request.
func (p *wires) put(w *wire) {
	p.mu.Lock()
	defer p.mu.Unlock()
	w.there = nil
	if p.closed || len(p.idle[w.address]) >= mostIdle {
		_ = w.conn.Close()
		return
	}
	w.since = time.Now()
	p.idle[w.address] = append(p.idle[w.address], w)
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

package embedded

import (
	"errors"
	"net"
	"os"
	"sync"
	"time"
)

// latch stops those who accept at listeners without closing these: another process accepts there.
// The zero value is open.
type latch struct {
	mu   sync.Mutex
	shut chan struct{} // closed when it opens again; nil while it is open
}

// deadliner is a listener whose Accept can be ended.
type deadliner interface{ SetDeadline(time.Time) error }

// accept waits for a connection at a listener, and while the latch is closed for that to open.
func (l *latch) accept(at net.Listener, done <-chan struct{}) (net.Conn, error) {
	for {
		l.mu.Lock()
		shut := l.shut
		l.mu.Unlock()
		if shut != nil {
			select {
			case <-shut:
			case <-done:
				return nil, net.ErrClosed
			}
			continue
		}
		conn, err := at.Accept()
		if errors.Is(err, os.ErrDeadlineExceeded) {
			continue
		}
		return conn, err
	}
}

// close ends accepting at some listeners.
func (l *latch) close(at ...net.Listener) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.shut != nil {
		return
	}
	l.shut = make(chan struct{})
	limit(at, past)
}

// open begins it again.
func (l *latch) open(at ...net.Listener) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.shut == nil {
		return
	}
	limit(at, time.Time{})
	close(l.shut)
	l.shut = nil
}

func limit(at []net.Listener, by time.Time) {
	for _, listener := range at {
		if d, ok := listener.(deadliner); ok {
			_ = d.SetDeadline(by)
		}
	}
}

package linktest

import (
	"net"
	"sync"
	"testing"
)

// Wire is a connection to a server that can be cut: what is sent over it then arrives when it is
// mended, and not before.
type Wire struct {
	Address string // host:port at which it is entered

	mu     sync.Mutex // protects what follows
	mended *sync.Cond
	silent bool
}

// Through makes a wire to an address; it ends with the test.
func Through(t testing.TB, address string) *Wire {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	w := &Wire{Address: l.Addr().String()}
	w.mended = sync.NewCond(&w.mu)
	t.Cleanup(func() {
		_ = l.Close()
		w.Mend()
	})
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			go w.carry(near, address)
		}
	}()
	return w
}

func (w *Wire) carry(near net.Conn, address string) {
	w.wait()
	far, err := net.Dial("tcp", address)
	if err != nil {
		_ = near.Close()
		return
	}
	pass := func(to, from net.Conn) {
		buffer := make([]byte, 32<<10)
		for {
			count, err := from.Read(buffer)
			w.wait()
			if count > 0 {
				if _, err := to.Write(buffer[:count]); err != nil {
					break
				}
			}
			if err != nil {
				break
			}
		}
		_, _ = to.Close(), from.Close()
	}
	go pass(far, near)
	pass(near, far)
}

// wait waits as long as it is cut.
func (w *Wire) wait() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for w.silent {
		w.mended.Wait()
	}
}

// Silence cuts all connections, also those that are made from now on.
func (w *Wire) Silence() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.silent = true
}

// Mend lets everything pass again.
func (w *Wire) Mend() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.silent = false
	w.mended.Broadcast()
}

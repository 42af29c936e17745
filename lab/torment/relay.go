package main

import (
	"io"
	"net"
	"sync"
)

// relay passes connections on, until it is cut.
type relay struct {
	address, to string

	mu    sync.Mutex // protects what follows
	l     net.Listener
	conns map[net.Conn]bool
}

func newRelay(to string) (*relay, error) {
	r := &relay{to: to, conns: map[net.Conn]bool{}}
	var err error
	if r.address, err = freeAddress(); err != nil {
		return nil, err
	}
	return r, r.mend()
}

// mend passes connections on from now on.
func (r *relay) mend() error {
	l, err := net.Listen("tcp", r.address)
	if err != nil {
		return err
	}
	r.mu.Lock()
	r.l = l
	r.mu.Unlock()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go r.pass(conn)
		}
	}()
	return nil
}

func (r *relay) pass(conn net.Conn) {
	defer conn.Close()
	there, err := net.Dial("tcp", r.to)
	if err != nil {
		return
	}
	defer there.Close()
	r.mu.Lock()
	r.conns[conn] = true
	r.mu.Unlock()
	defer func() {
		r.mu.Lock()
		delete(r.conns, conn)
		r.mu.Unlock()
	}()
	done := make(chan struct{}, 2)
	for _, pair := range [][2]net.Conn{{conn, there}, {there, conn}} {
		go func() {
			_, _ = io.Copy(pair[0], pair[1])
			done <- struct{}{}
		}()
	}
	<-done
}

// cut ends all connections, and takes no more.
func (r *relay) cut() {
	r.mu.Lock()
	defer r.mu.Unlock()
	_ = r.l.Close()
	for conn := range r.conns {
		_ = conn.Close()
	}
}

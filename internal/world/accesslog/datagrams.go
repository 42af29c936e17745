package accesslog

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"syscall"
)

// Datagrams reads the lines of a log that come one by one to an address of this machine, as a program that logs to
// syslog sends them. Who reads first has the address; whoever else reads is told so, until it is free. It is
// not safe for concurrent use.
type Datagrams struct {
	address string
	conn    net.PacketConn // nil while somebody else has the address

	mu     sync.Mutex // protects what follows
	come   []byte     // lines, each with its end
	failed error      // why nothing comes any more
}

// ErrTaken is wrapped when another process reads what is sent to an address.
var ErrTaken = errors.New("another process reads it")

const (
	mostCome   = 16 << 20 // bytes that are kept until somebody reads them
	roomInside = 4 << 20  // bytes that the system is to keep until we do
)

// NewDatagrams makes one that takes the address, host:port, with the first reading.
func NewDatagrams(address string) *Datagrams { return &Datagrams{address: address} }

// Read calls back with each line that has come since the last time.
func (d *Datagrams) Read(_ context.Context, each func(line []byte)) error {
	if d.conn == nil {
		conn, err := net.ListenPacket("udp", d.address)
		if errors.Is(err, syscall.EADDRINUSE) {
			return fmt.Errorf("%s: %w", d.address, ErrTaken)
		}
		if err != nil {
			return err
		}
		if u, ok := conn.(*net.UDPConn); ok {
			_ = u.SetReadBuffer(roomInside) // what it gives is what there is
		}
		d.conn = conn
		go d.take(conn)
	}
	d.mu.Lock()
	come, failed := d.come, d.failed
	d.come = nil
	d.mu.Unlock()
	for len(come) > 0 {
		end := bytes.IndexByte(come, '\n')
		each(come[:end])
		come = come[end+1:]
	}
	return failed
}

// take takes in what is sent, for as long as the process lasts.
func (d *Datagrams) take(conn net.PacketConn) {
	buf := make([]byte, longestLine)
	for {
		n, _, err := conn.ReadFrom(buf)
		d.mu.Lock()
		if err != nil {
			d.failed = err
			d.mu.Unlock()
			return
		}
		if line := bytes.TrimRight(buf[:n], "\r\n\x00"); len(d.come)+n < mostCome {
			d.come = append(append(d.come, bytes.ReplaceAll(line, []byte{'\n'}, []byte{' '})...), '\n')
		}
		d.mu.Unlock()
	}
}

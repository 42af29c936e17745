package embedded

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"

	"github.com/pires/go-proxyproto"
)

// doors are where clients come in. A connection is brought to where the library's server can
// take it: announced by a proxy, over TLS or not.
type doors struct {
	room     *room
	settings *Settings
	shows    *certificates // nil without TLS
	ready    chan net.Conn // that something had to come before
	done     chan struct{}
	once     sync.Once
	closed   latch // while it is, another process takes in who comes
}

func newDoors(s *Settings, m *room, shows *certificates) *doors {
	return &doors{room: m, settings: s, shows: shows, ready: make(chan net.Conn), done: make(chan struct{})}
}

// door is one of them, as the library's server serves it. Connections that something comes
// before are served at [doors.received].
type door struct {
	net.Listener
	doors *doors
	spare bool // it leads to the spare side
}

// Accept waits for a connection, and for nothing else: where there is no room, somebody goes.
func (d door) Accept() (net.Conn, error) {
	wait := time.Millisecond
	for {
		conn, err := d.doors.closed.accept(d.Listener, d.doors.done)
		if errors.Is(err, net.ErrClosed) {
			return nil, err
		}
		if err != nil { // there may be no descriptor left; connections that end free some
			wait = min(2*wait, time.Second)
			select {
			case <-time.After(wait):
			case <-d.doors.done:
				return nil, net.ErrClosed
			}
			continue
		}
		wait = time.Millisecond
		s := d.doors.settings
		c := newCaller(conn, s.Idle)
		c.spare = d.spare
		announced := trusts(s.Announced, c.peer)
		c.many = announced || trusts(s.TrustedProxies, c.peer)
		if !d.doors.room.admit(c) {
			_ = conn.Close()
			continue
		}
		if d.doors.shows == nil && !announced {
			c.framed = true
			return c, nil
		}
		go d.doors.receive(c, announced)
	}
}

// Close leaves the listener to whoever it was handed to.
func (d door) Close() error { return d.Listener.Close() }

// receive takes in what comes before a connection's first request. What the crowd counts stays
// as it is, and what comes over it stands within.
func (d *doors) receive(c *caller, announced bool) {
	limit := time.Now().Add(d.settings.HeaderTime)
	if announced {
		p := proxyproto.NewConn(c, proxyproto.WithPolicy(proxyproto.REQUIRE),
			proxyproto.SetReadHeaderTimeout(d.settings.HeaderTime))
		if p.ProxyHeader() == nil {
			d.room.denied.count(notAnnounced, c.peer)
			_ = c.Close()
			return
		}
		peer := addressOf(p.RemoteAddr())
		if !d.room.announce(c, peer, trusts(d.settings.TrustedProxies, peer)) {
			_ = c.Close()
			return
		}
		c = c.within(p)
	}
	if d.shows == nil {
		c.framed = true
		d.hand(c)
		return
	}
	_ = c.SetDeadline(limit)
	ctx, cancel := context.WithDeadline(context.Background(), limit)
	defer cancel()
	conn := tls.Server(c, d.shows.config)
	if err := conn.HandshakeContext(ctx); err != nil {
		d.room.denied.count(noHandshake, c.peer)
		var plain tls.RecordHeaderError
		if errors.As(err, &plain) && plain.Conn != nil {
			_, _ = io.WriteString(c, plainAtTLS)
			_ = c.CloseWrite()
		}
		_ = c.Close()
		return
	}
	_ = c.SetDeadline(time.Time{})
	if conn.ConnectionState().NegotiatedProtocol == "h2" {
		d.hand(conn)
		return
	}
	c = c.within(conn)
	c.safe, c.framed = true, true
	d.hand(c)
}

const plainAtTLS = "HTTP/1.1 400 Bad Request\r\nContent-Type: text/plain; charset=utf-8\r\nConnection: " +
	"close\r\n\r\nThis port speaks HTTPS, and the request came without. Ask with https:// in front.\n"

// hand gives a connection to the server.
func (d *doors) hand(conn net.Conn) {
	select {
	case d.ready <- conn:
	case <-d.done:
		_ = conn.Close()
	}
}

// close ends what waits at any door.
func (d *doors) close() { d.once.Do(func() { close(d.done) }) }

// received is the listener of connections that something had to come before.
type received struct {
	*doors
	net.Listener // whose address it has
}

func (r received) Accept() (net.Conn, error) {
	select {
	case c := <-r.ready:
		return c, nil
	case <-r.done:
		return nil, net.ErrClosed
	}
}

func (r received) Close() error {
	r.close()
	return nil
}

// connContext gives requests the caller they come from.
func connContext(ctx context.Context, conn net.Conn) context.Context {
	if c := callerOf(conn); c != nil {
		return context.WithValue(ctx, callerKey{}, c)
	}
	return ctx
}

// parseNetwork parses an address, or a network of them.
func parseNetwork(text string) (netip.Prefix, error) {
	if p, err := netip.ParsePrefix(text); err == nil {
		return p.Masked(), nil
	}
	a, err := netip.ParseAddr(text)
	if err != nil {
		return netip.Prefix{}, err
	}
	return netip.PrefixFrom(a, a.BitLen()), nil
}

package embedded

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"sync"
	"time"

	"github.com/pires/go-proxyproto"
)

// doors are where clients come in. A connection is brought to where the library's server can
// take it: announced by a proxy, over TLS or not.
type doors struct {
	crowd    *crowd
	settings *Settings
	shows    *certificates // nil without TLS
	ready    chan net.Conn // that something had to come before
	done     chan struct{}
	once     sync.Once
}

func newDoors(s *Settings, c *crowd, shows *certificates) *doors {
	return &doors{crowd: c, settings: s, shows: shows, ready: make(chan net.Conn), done: make(chan struct{})}
}

// door is one of them, as the library's server serves it. Connections that something comes
// before are served at [doors.received].
type door struct {
	net.Listener
	doors *doors
	spare bool // it leads to the spare side
}

// Accept waits for a connection, and for room.
func (d door) Accept() (net.Conn, error) {
	wait := time.Millisecond
	for {
		conn, err := d.Listener.Accept()
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
		c := newCaller(conn)
		c.spare = d.spare
		s := d.doors.settings
		announced := trusts(s.Announced, c.peer)
		c.many = announced || trusts(s.TrustedProxies, c.peer)
		if !d.doors.crowd.admit(c) {
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

// receive takes in what comes before a connection's first request. What the crowd counts stays
// as it is, and what comes over it stands within.
func (d *doors) receive(c *caller, announced bool) {
	limit := time.Now().Add(d.settings.HeaderTime)
	if announced {
		p := proxyproto.NewConn(c, proxyproto.WithPolicy(proxyproto.REQUIRE), proxyproto.SetReadHeaderTimeout(d.settings.HeaderTime))
		if p.ProxyHeader() == nil {
			_ = c.Close()
			return
		}
		c = c.within(p)
		c.peer = addressOf(p.RemoteAddr())
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
		var plain tls.RecordHeaderError
		if errors.As(err, &plain) && plain.Conn != nil {
			_, _ = io.WriteString(c.Conn, plainAtTLS)
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

const plainAtTLS = "HTTP/1.1 400 Bad Request\r\nContent-Type: text/plain; charset=utf-8\r\nConnection: close\r\n\r\nThis port speaks HTTPS, and the request came without. Ask with https:// in front.\n"

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

// certificates are those of a front, read anew when their files change.
type certificates struct {
	config *tls.Config // that asks for the one of now
	files  []Certificate

	mu     sync.Mutex  // protects what follows
	read   *tls.Config // with the certificates; the same for all who resume what they began
	stamps []time.Time
	looked time.Time
}

// Certificate is a certificate's file, with those that vouch for it, and its key's.
type Certificate struct{ File, Key string }

// lookEvery is how often the files are looked at, at most.
const lookEvery = time.Second

func newCertificates(files []Certificate) (*certificates, error) {
	if len(files) == 0 {
		return nil, nil
	}
	c := &certificates{files: files}
	if err := c.load(); err != nil {
		return nil, err
	}
	c.config = &tls.Config{GetConfigForClient: func(*tls.ClientHelloInfo) (*tls.Config, error) { return c.now(), nil }}
	return c, nil
}

// now are the certificates as their files have them. What cannot be read stays as it was.
func (c *certificates) now() *tls.Config {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.looked) >= lookEvery {
		c.looked = now
		if c.changed() {
			if err := c.load(); err != nil {
				slog.Warn("a certificate was changed and cannot be read: the one before stays", "err", err)
			}
		}
	}
	return c.read
}

func (c *certificates) stamp() []time.Time {
	var list []time.Time
	for _, f := range c.files {
		for _, name := range []string{f.File, f.Key} {
			var at time.Time
			if info, err := os.Stat(name); err == nil {
				at = info.ModTime()
			}
			list = append(list, at)
		}
	}
	return list
}

func (c *certificates) changed() bool {
	for n, at := range c.stamp() {
		if !at.Equal(c.stamps[n]) {
			return true
		}
	}
	return false
}

func (c *certificates) load() error {
	stamps := c.stamp()
	var list []tls.Certificate // the library chooses among them by the name that is asked for
	for _, f := range c.files {
		pair, err := tls.LoadX509KeyPair(f.File, f.Key)
		if err != nil {
			return err
		}
		list = append(list, pair)
	}
	c.read = &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}, Certificates: list}
	c.stamps = stamps
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

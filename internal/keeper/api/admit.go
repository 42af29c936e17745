package api

import (
	"context"
	"errors"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"sync"
	"time"
)

// AdmittedHeader is who came by a key with a forced command. It counts from the account alone that the plan names as
// its gate, and is taken out of what comes through there.
const AdmittedHeader = "Vaiven-Admitted"

// Admit carries what is asked on a pair of streams to a keeper, as somebody who came by a key, until in ends.
func Admit(ctx context.Context, in io.Reader, out io.Writer, dial func(context.Context) (net.Conn, error), name string,
) error {
	proxy := &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.Out.URL.Scheme, r.Out.URL.Host = "http", "keeper"
			r.Out.Header.Set(AdmittedHeader, name)
		},
		Transport: &http.Transport{
			DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx) },
		},
		FlushInterval: -1, ErrorLog: log.New(io.Discard, "", 0),
	}
	l := &single{conn: &streams{Reader: in, Writer: out}, closed: make(chan struct{})}
	server := http.Server{Handler: proxy, ReadHeaderTimeout: idleLimit, MaxHeaderBytes: headMost,
		ErrorLog: log.New(io.Discard, "", 0),
		ConnState: func(_ net.Conn, s http.ConnState) {
			if s == http.StateClosed {
				_ = l.Close()
			}
		}}
	stop := context.AfterFunc(ctx, func() { _ = l.Close() })
	defer stop()
	err := server.Serve(l)
	if errors.Is(err, net.ErrClosed) || errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	return errors.Join(err, server.Close())
}

// single is a listener with one connection.
type single struct {
	conn   net.Conn
	once   sync.Once
	mu     sync.Mutex // protects taken
	taken  bool
	closed chan struct{}
}

// Accept is the connection, and then waits for its end.
func (s *single) Accept() (net.Conn, error) {
	s.mu.Lock()
	first := !s.taken
	s.taken = true
	s.mu.Unlock()
	if first {
		return s.conn, nil
	}
	<-s.closed
	return nil, net.ErrClosed
}

// Close ends it.
func (s *single) Close() error {
	s.once.Do(func() { close(s.closed) })
	return nil
}

// Addr is none of the network's.
func (s *single) Addr() net.Addr { return &net.UnixAddr{Net: "unix"} }

// streams are a connection made of two streams, which know no deadlines: whoever is at their other end ends them.
type streams struct {
	io.Reader
	io.Writer
}

// Close leaves the streams to whose they are.
func (streams) Close() error                     { return nil }
func (streams) LocalAddr() net.Addr              { return &net.UnixAddr{Net: "unix"} }
func (streams) RemoteAddr() net.Addr             { return &net.UnixAddr{Net: "unix"} }
func (streams) SetDeadline(time.Time) error      { return nil }
func (streams) SetReadDeadline(time.Time) error  { return nil }
func (streams) SetWriteDeadline(time.Time) error { return nil }

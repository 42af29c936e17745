package embedded

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"vaiven/internal/plan"
)

// Config is what a front is made of. All sizes and times have to be above zero.
type Config struct {
	Listen      string // host:port for requests
	Socket      string // path of the admin socket, made with mode 0600
	State       string // file that keeps the split over a restart
	Key         plan.Key
	Sticky      bool   // a cookie keeps a client on its side until that is drained or goes home
	Service     string // names the cookie
	Secret      []byte // the prober's secret; empty: no answers name their side
	Tell        bool   // name side, instance and version in every answer
	HeaderSize  int64
	HeaderTime  time.Duration
	Idle        time.Duration
	Connections int
}

// Server is a front.
type Server struct {
	config   Config
	proxy    *proxy
	requests *crowdListener
	admin    net.Listener
	lanes    *lanes

	store *store

	change sync.Mutex // held for a moment while the table is replaced
}

// NewServer reads the kept state and opens both listeners; requests wait until
// Run is called. A socket that a dead front left behind is replaced.
func NewServer(c Config) (*Server, error) {
	store := newStore(c.State)
	t, err := store.load()
	if err != nil {
		return nil, err
	}
	s := &Server{config: c, proxy: newProxy(c, t), store: store}
	if s.admin, err = listenSocket(c.Socket); err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("listen for requests: %w", err), s.admin.Close())
	}
	s.requests = &crowdListener{Listener: listener, crowd: newCrowd(c.Connections)}
	s.lanes = newLanes(c, s.proxy, s.requests)
	return s, nil
}

// Address is where requests are listened for, with the real port.
func (s *Server) Address() string { return s.requests.Addr().String() }

// listenSocket opens the admin socket. The mode is set by the umask at creation,
// so that there is no moment at which others may connect.
func listenSocket(path string) (net.Listener, error) {
	if conn, err := net.DialTimeout("unix", path, time.Second); err == nil {
		return nil, errors.Join(fmt.Errorf("a front is running already at %s", path), conn.Close())
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("remove the socket of a front that is gone: %w", err)
	}
	// Bound under another name in a folder that only the owner may enter, then
	// moved: the socket never exists with a wider mode.
	dir, err := os.MkdirTemp(filepath.Dir(path), ".socket-")
	if err != nil {
		return nil, fmt.Errorf("make the admin socket: %w", err)
	}
	defer os.RemoveAll(dir)
	private := filepath.Join(dir, "s")
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Name: private, Net: "unix"})
	if err != nil {
		return nil, fmt.Errorf("make the admin socket: %w", err)
	}
	listener.SetUnlinkOnClose(false)
	err = errors.Join(os.Chmod(private, 0o600), os.Rename(private, path))
	if err != nil {
		return nil, errors.Join(fmt.Errorf("make the admin socket: %w", err), listener.Close())
	}
	return listener, nil
}

// keepSocket makes the admin socket again when somebody removes it, as those who tidy up
// folders of temporary files do.
func (s *Server) keepSocket(ctx context.Context, admin *http.Server) {
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		if _, err := os.Lstat(s.config.Socket); !errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if l, err := listenSocket(s.config.Socket); err == nil {
			go func() { _ = admin.Serve(l) }() // ends when the server is closed
		}
	}
}

// Run answers requests until the context ends, then lets open requests finish
// for at most ten seconds.
func (s *Server) Run(ctx context.Context) error {
	quiet := log.New(io.Discard, "", 0) // clients' broken connections are not news
	requests := &http.Server{
		Handler:           s.proxy,
		ReadHeaderTimeout: s.config.HeaderTime,
		IdleTimeout:       s.config.Idle,
		MaxHeaderBytes:    int(s.config.HeaderSize),
		ConnState:         s.requests.crowd.note,
		ErrorLog:          quiet,
	}
	admin := &http.Server{Handler: s.adminHandler(), ReadHeaderTimeout: time.Second, ErrorLog: quiet}
	kept, drop := context.WithCancel(context.WithoutCancel(ctx))
	tidied := make(chan struct{})
	go func() {
		defer close(tidied)
		s.proxy.wires.run(kept)
	}()
	stored := make(chan struct{})
	go func() {
		defer close(stored)
		s.store.run(kept)
	}()
	defer func() {
		drop()
		<-tidied
		select {
		case <-stored:
		case <-time.After(late): // a disk that hangs
		}
	}()
	go s.keepSocket(ctx, admin)
	failed := make(chan error, 3)
	go func() { failed <- s.lanes.serve(s.requests) }()
	go func() { failed <- requests.Serve(s.lanes.over) }()
	go func() { failed <- admin.Serve(s.admin) }()

	var err error
	running := cap(failed)
	select {
	case <-ctx.Done():
	case err = <-failed:
		running--
	}
	grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	requests.SetKeepAlivesEnabled(false) // answers say that there will be no other
	_ = s.requests.Close()
	s.lanes.shutdown(grace)
	if requests.Shutdown(grace) != nil {
		_ = requests.Close() // what did not finish in time is cut off
	}
	_ = admin.Close()
	for range running {
		<-failed
	}
	s.proxy.transport.CloseIdleConnections()
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	if gone := os.Remove(s.config.Socket); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	return err
}

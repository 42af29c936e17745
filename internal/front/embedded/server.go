package embedded

import (
	"context"
	"crypto/rand"
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
	Listen  string // host:port for requests
	Socket  string // path of the admin socket, made with mode 0600
	State   string // file that keeps the split over a restart
	Key     plan.Key
	Sticky  bool   // a cookie keeps a client on its side until that is drained or goes home
	Service string // names the cookie
	Secret  []byte // the prober's; sessions are signed with it. Empty: no answers name their side, and sessions do not last beyond the process
	Spare   plan.SpareDoor
	Settings
}

// Server is a front.
type Server struct {
	config Config
	proxy  *proxy
	crowd  *crowd
	doors  *doors
	main   net.Listener
	extra  net.Listener // the spare side's door, nil if it has no address
	admin  net.Listener
	store  *store

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
	c.Connections = fitting(c.Connections)
	if c.PerClient == 0 {
		c.PerClient = max(c.Connections/4, 1)
	}
	if len(c.Secret) == 0 && c.Sticky {
		c.Secret = []byte(rand.Text()) // it is told to no prober
	}
	shows, err := newCertificates(c.Certificates)
	if err != nil {
		return nil, fmt.Errorf("read a certificate: %w", err)
	}
	s := &Server{config: c, proxy: newProxy(c, t), store: store, crowd: newCrowd(c.Connections, c.PerClient)}
	if err := s.proxy.spare.load(); err != nil {
		return nil, fmt.Errorf("read the secret of the spare side's door: %w", err)
	}
	if s.admin, err = listenSocket(c.Socket); err != nil {
		return nil, err
	}
	if s.main, err = net.Listen("tcp", c.Listen); err != nil {
		return nil, errors.Join(fmt.Errorf("listen for requests: %w", err), s.admin.Close())
	}
	s.doors = newDoors(&s.config.Settings, s.crowd, shows)
	if c.Spare.Listen != "" {
		if s.extra, err = net.Listen("tcp", c.Spare.Listen); err != nil {
			return nil, errors.Join(fmt.Errorf("listen at the spare side's door: %w", err), s.admin.Close(), s.main.Close())
		}
	}
	return s, nil
}

// Address is where requests are listened for, with the real port.
func (s *Server) Address() string { return s.main.Addr().String() }

// SpareAddress is the spare side's door, "" if it has no address of its own.
func (s *Server) SpareAddress() string {
	if s.extra == nil {
		return ""
	}
	return s.extra.Addr().String()
}

// Connections is how many connections of clients there is room for.
func (s *Server) Connections() int { return s.config.Connections }

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
		ConnState:         s.crowd.note,
		ConnContext:       connContext,
		ErrorLog:          quiet,
		HTTP2:             &http.HTTP2Config{MaxConcurrentStreams: 128, SendPingTimeout: s.config.Idle, WriteByteTimeout: s.config.Idle},
	}
	admin := &http.Server{Handler: s.adminHandler(), ReadHeaderTimeout: time.Second, ReadTimeout: 2 * time.Second, IdleTimeout: time.Minute, ErrorLog: quiet}
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
	failed := make(chan error, 4)
	running := 3
	go func() { failed <- requests.Serve(door{s.main, s.doors, false}) }()
	go func() { failed <- requests.Serve(received{s.doors, s.main}) }()
	go func() { failed <- admin.Serve(s.admin) }()
	if s.extra != nil {
		running++
		go func() { failed <- requests.Serve(door{s.extra, s.doors, true}) }()
	}

	var err error
	select {
	case <-ctx.Done():
	case err = <-failed:
		running--
	}
	grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	requests.SetKeepAlivesEnabled(false) // answers say that there will be no other
	s.doors.close()
	if requests.Shutdown(grace) != nil {
		_ = requests.Close() // what did not finish in time is cut off
	}
	s.crowd.close() // and what is not the server's any more
	_ = admin.Close()
	for range running {
		<-failed
	}
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	if gone := os.Remove(s.config.Socket); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	return err
}

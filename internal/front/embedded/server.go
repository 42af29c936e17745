package embedded

import (
	"context"
	"encoding/json"
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

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/durable"
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

	// change is held while the table is replaced, and protects notice.
	change sync.Mutex
	notice string // what is wrong with the state file, "" if nothing
}

// kept is the state file.
type kept struct {
	Split    reading.Split       `json:"split"`
	Sides    [2][]reading.Server `json:"sides"`
	Released [2]bool             `json:"released,omitzero"` // sides whose sessions do not stay
}

// NewServer reads the kept state and opens both listeners; requests wait until
// Run is called. A socket that a dead front left behind is replaced.
func NewServer(c Config) (*Server, error) {
	t := &table{split: reading.Split{Revision: 1, Since: time.Now()}}
	for _, side := range split.Sides {
		t.sides[side].tally = &tally{}
	}
	t, err := restore(c.State, t)
	if err != nil {
		return nil, err
	}
	s := &Server{config: c, proxy: newProxy(c, t)}
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

func restore(file string, empty *table) (*table, error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return empty, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the front's state: %w", err)
	}
	var k kept
	if err := json.Unmarshal(data, &k); err != nil || !k.Split.Share.Valid() {
		return nil, fmt.Errorf("the front's state in %s is damaged (%v): move it away to start with all requests on blue", file, err)
	}
	t := *empty
	for _, side := range split.Sides {
		t = *t.withInstances(side, k.Sides[side])
		t.sides[side].released = k.Released[side]
	}
	t.split = k.Split
	return &t, nil
}

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
	defer func() {
		drop()
		<-tidied
	}()
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

// keep writes the table to the state file, atomically.
func (s *Server) keep(t *table) error {
	k := kept{Split: t.split}
	for _, side := range split.Sides {
		k.Released[side] = t.sides[side].released
		for _, i := range t.sides[side].instances {
			k.Sides[side] = append(k.Sides[side], i.described())
		}
	}
	data, err := json.MarshalIndent(k, "", "\t")
	if err != nil {
		return err
	}
	return durable.WriteFile(s.config.State, append(data, '\n'))
}

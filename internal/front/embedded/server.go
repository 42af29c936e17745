package embedded

import (
	"cmp"
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
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// Config is what a front is made of. All sizes and times have to be above zero.
type Config struct {
	Listen string // host:port for requests
	Socket string // path of the admin socket, made with mode 0600
	State  string // file that keeps the split over a restart
	// HomeSocket is the path of a second socket, for a Unix group, at which one can go home and nothing else; "" for
	// none
	HomeSocket string
	HomeGroup  int
	// Home is which side that is just now; false where that is not known, and then either is. Not needed without such a
	// socket.
	Home    func() (split.Side, bool)
	Key     plan.Key
	Sticky  bool   // a cookie keeps a client on its side until that is drained or goes home
	Service string // names the cookie
	// the prober's; sessions are signed with it. Empty: no answers name their side, and sessions do not last beyond the
	// process
	Secret []byte
	Spare  plan.SpareDoor
	// that the process was started with, as by systemd; those that are at one of the addresses above are used
	Inherited []net.Listener
	TakeOver  bool          // from the front that runs at the socket, without an outage
	Grace     time.Duration // that it has for its requests and tunnels; 0 for ten minutes
	Settings
}

// defaultGrace is how long a front that is replaced may take to finish.
const defaultGrace = 10 * time.Minute

// Server is a front.
type Server struct {
	config Config
	proxy  *proxy
	room   *room
	doors  *doors
	counts *denials
	main   net.Listener
	extra  net.Listener // the spare side's door, nil if it has no address
	admin  net.Listener // protected by sockMu
	store  *store

	inherited bool // the admin socket is somebody else's to remove

	latch    latch // of the admin socket, while another process accepts there
	replaced chan struct{}
	ended    sync.Once
	handing  atomic.Bool // the listeners are being handed over, or were

	change    sync.Mutex   // held for a moment while the table is replaced; protects what follows
	before    *predecessor // the process that this one replaces, nil if there is none any more
	successor *link        // the process that replaces this one, nil if none does

	sockMu sync.Mutex // protects admin
}

// NewServer reads the kept state and opens the listeners, or takes both over from the front that runs;
// requests wait until Run is called. A socket that a dead front left behind is replaced.
func NewServer(c Config) (s *Server, err error) {
	shows, err := newCertificates(c.Certificates, c.ClientCA)
	if err != nil {
		return nil, err
	}
	c.Connections = fitting(c.Connections)
	if c.PerClient == 0 {
		c.PerClient = max(c.Connections/4, 1)
	}
	store, counts := newStore(c.State), &denials{}
	t, err := store.load()
	if err != nil {
		return nil, err
	}
	var got *takenOver
	if c.TakeOver {
		got, err = takeOver(c.Socket)
		switch {
		case front.Unreachable(err): // there is none
			err = nil
		case err != nil:
			return nil, err
		default:
			defer func() {
				if err != nil {
					got.close()
				}
			}()
			empty := *t
			for _, side := range split.Sides {
				empty.sides[side] = pool{tally: &tally{}}
			}
			t = got.Table.table(&empty)
		}
	}
	if len(c.Secret) == 0 && c.Sticky {
		c.Secret = []byte(rand.Text()) // it is told to no prober
		if got != nil && len(got.Secret) > 0 {
			c.Secret = got.Secret
		}
	}
	s = &Server{
		config: c, proxy: newProxy(c, t, counts), store: store, room: newRoom(c.Connections, c.PerClient, counts),
		counts: counts, replaced: make(chan struct{}),
	}
	s.doors = newDoors(&s.config.Settings, s.room, shows)
	if err := s.proxy.spare.load(); err != nil {
		return nil, fmt.Errorf("read the secret of the spare side's door: %w", err)
	}
	if got != nil {
		s.before = &predecessor{link: got.link, process: got.Process}
		if s.proxy.clients != nil {
			s.proxy.clients.Import(got.Known)
		}
	}
	if err := s.listen(got); err != nil {
		for _, l := range s.sockets() {
			if l != nil {
				_ = l.Close()
			}
		}
		return nil, err
	}
	return s, nil
}

// listen opens the listeners, as far as they were not got.
func (s *Server) listen(got *takenOver) (err error) {
	c := &s.config
	if got != nil {
		if err := got.fits(map[string]string{mainListener: c.Listen, spareListener: c.Spare.Listen}); err != nil {
			return err
		}
	}
	wanted := []string{c.Socket, c.Listen, c.Spare.Listen}
	for _, l := range c.Inherited {
		if !slices.ContainsFunc(wanted, func(at string) bool { return at != "" && listensAt(l, at) }) {
			return fmt.Errorf("this process was started with a listener at %s, and the plan has none there: it "+
				"listens at %s, and is steered at %s", l.Addr(), c.Listen, c.Socket)
		}
	}
	find := func(name, at string, open func() (net.Listener, error)) (net.Listener, error) {
		for n, l := range c.Inherited {
			if listensAt(l, at) {
				c.Inherited = slices.Delete(c.Inherited, n, n+1)
				s.inherited = s.inherited || name == controlListener
				return l, nil
			}
		}
		if l := got.listener(name); l != nil {
			return l, nil
		}
		return open()
	}
	listen := func(at string) func() (net.Listener, error) {
		return func() (net.Listener, error) { return net.Listen("tcp", at) }
	}
	if s.admin, err = find(controlListener, c.Socket,
		func() (net.Listener, error) { return listenSocket(c.Socket) }); err != nil {
		return err
	}
	if s.main, err = find(mainListener, c.Listen, listen(c.Listen)); err != nil {
		return fmt.Errorf("listen for requests: %w", err)
	}
	if c.Spare.Listen != "" {
		if s.extra, err = find(spareListener, c.Spare.Listen, listen(c.Spare.Listen)); err != nil {
			return fmt.Errorf("listen at the spare side's door: %w", err)
		}
	}
	return nil
}

// Replaces is the process that this one replaces, 0 if none.
func (s *Server) Replaces() int {
	if s.before == nil {
		return 0
	}
	return s.before.process
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
	return makeSocket(path, func(made string) error { return os.Chmod(made, 0o600) })
}

// makeSocket makes a socket in the place of what is at a path, as soon as it is what it is to be.
func makeSocket(path string, be func(made string) error) (net.Listener, error) {
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
	if err = be(private); err == nil {
		err = os.Rename(private, path)
	}
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
		if _, err := os.Lstat(s.config.Socket); !errors.Is(err, fs.ErrNotExist) || s.proxy.retiring.Load() {
			continue
		}
		if l, err := listenSocket(s.config.Socket); err == nil {
			s.sockMu.Lock()
			s.admin = l
			s.sockMu.Unlock()
			go func() { _ = admin.Serve(control{l, s}) }() // ends when the server is closed
		}
	}
}

// control is the admin socket, at which nobody accepts while another process does.
type control struct {
	net.Listener
	s *Server
}

// Accept waits for somebody who steers.
func (c control) Accept() (net.Conn, error) { return c.s.latch.accept(c.Listener, c.s.doors.done) }

// mostStreams is how many requests a client may have under way on one connection.
const mostStreams = 128

// look does what is due every now and then, until the context ends.
func (s *Server) look(ctx context.Context) {
	defer s.proxy.wires.transport.CloseIdleConnections()
	ticker := time.NewTicker(window)
	defer ticker.Stop()
	for n := 0; ; n++ {
		s.doors.shows.warn(time.Now())
		s.room.turn()
		if t := s.proxy.current(); t.steady() && n%windows == 0 {
			for _, side := range split.Sides {
				t.sides[side].tally.turn()
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// last tells the process that has taken over what was counted, as it will not be asked any more.
func (s *Server) last() {
	s.change.Lock()
	successor := s.successor
	s.change.Unlock()
	if successor != nil {
		r := s.reading(context.Background())
		for n := range r.Sides {
			r.Sides[n].Open = 0
		}
		successor.send(message{Last: true, Reading: &r})
		_ = successor.conn.SetWriteDeadline(time.Now().Add(time.Second))
		successor.flush()
	}
}

// Run answers requests until the context ends, then lets open requests finish
// for at most ten seconds; or until another process has taken over and what was begun is finished.
func (s *Server) Run(ctx context.Context) error {
	quiet := log.New(io.Discard, "", 0) // clients' broken connections are not news
	requests := &http.Server{
		Handler:           s.proxy,
		ReadHeaderTimeout: s.config.HeaderTime,
		IdleTimeout:       s.config.Idle,
		MaxHeaderBytes:    int(s.config.HeaderSize),
		ConnState:         s.room.note,
		ConnContext:       connContext,
		ErrorLog:          quiet,
		HTTP2: &http.HTTP2Config{MaxConcurrentStreams: min(mostStreams, s.config.PerClient),
			SendPingTimeout: s.config.Idle, WriteByteTimeout: s.config.Idle},
	}
	admin := &http.Server{Handler: s.adminHandler(), ReadHeaderTimeout: time.Second, ReadTimeout: 2 * time.Second,
		IdleTimeout: time.Minute, ErrorLog: quiet}
	kept, drop := context.WithCancel(context.WithoutCancel(ctx))
	tidied := make(chan struct{})
	go func() {
		defer close(tidied)
		s.look(kept)
	}()
	told := make(chan struct{})
	go func() {
		defer close(told)
		s.counts.run(kept)
	}()
	stored := make(chan struct{})
	go func() {
		defer close(stored)
		s.store.run(kept)
	}()
	defer func() {
		drop()
		<-tidied
		<-told
		select {
		case <-stored:
		case <-time.After(late): // a disk that hangs
		}
	}()
	homes := s.serveHome(ctx)
	defer homes()
	steered := control{s.admin, s}
	go s.keepSocket(ctx, admin)
	failed := make(chan error, 4)
	running := 3
	go func() { failed <- requests.Serve(door{s.main, s.doors, false}) }()
	go func() { failed <- requests.Serve(received{s.doors, s.main}) }()
	go func() { failed <- admin.Serve(steered) }()
	if s.extra != nil {
		running++
		go func() { failed <- requests.Serve(door{s.extra, s.doors, true}) }()
	}
	if s.before != nil {
		s.before.begin(s, cmp.Or(s.config.Grace, defaultGrace))
	}

	var err error
	select {
	case <-ctx.Done():
	case <-s.replaced:
		s.last()
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
	s.room.close() // and what is not the server's any more
	_ = admin.Close()
	for range running {
		<-failed
	}
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	if s.inherited || s.finished() {
		return err // the socket is somebody else's
	}
	if gone := os.Remove(s.config.Socket); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	return err
}

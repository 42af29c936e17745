package fronttest

import (
	"bufio"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

// Instance is a server behind the proxy that says its name.
type Instance struct {
	reading.Server
	Side     split.Side
	Answered atomic.Int64
	held     atomic.Int64
	open     atomic.Int64
	Knows    atomic.Bool // it was told the secret of the door to the spare side
	server   *httptest.Server
	hold     chan struct{} // requests of /hold wait for it to be closed
}

// nameHeader is where an instance says who it is.
const nameHeader = "X-Instance"

// Page is where an instance says how many requests it has answered, and how many it is answering.
const (
	Page    = "/metrics"
	Counter = "sailings_requests_total"
	Gauge   = "sailings_requests_open"
)

// DoorHeader is what opens the spare side's own door, where a front has one.
const DoorHeader = "X-Vessa-Try"

// NewDoor is such a door, with its secret in a folder.
func NewDoor(dir string) plan.SpareDoor {
	return plan.SpareDoor{Header: DoorHeader, Cookie: "vessa_try", File: filepath.Join(dir, "spare.secret")}
}

func (i *Instance) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == Page {
		fmt.Fprintf(w, "# TYPE %s counter\n%[1]s{code=\"200\"} %d\n# TYPE %s gauge\n%[3]s %d\n", Counter,
			i.Answered.Load(), Gauge, i.open.Load())
		return
	}
	i.open.Add(1)
	defer i.open.Add(-1)
	switch r.URL.Path {
	case cutPage:
		i.breaksOff(w, cutLength)
		return
	case longPage:
		i.breaksOff(w, longLength)
		return
	}
	if r.URL.Path == "/hold" {
		i.held.Add(1)
		select {
		case <-i.hold:
		case <-r.Context().Done():
			return
		}
	}
	if r.Header.Get(DoorHeader) != "" {
		i.Knows.Store(true)
	}
	i.Answered.Add(1)
	w.Header().Set(nameHeader, i.Name)
	fmt.Fprintf(w, "answer of %s\n", i.Name)
}

// World is the instances of both sides, and who asks for them.
type World struct {
	t      *testing.T
	Listen string // where the proxy takes requests
	all    map[string]*Instance
	mu     sync.Mutex // protects all
	first  int        // port of the instances
	hosts  bool       // each has an address of its own, and all have the first port
	anew   bool       // a connection is placed, and not each request on it: nobody keeps one

	Raised func(*Instance) // is told of each that is raised; nil for nobody
}

// NewWorld is one without instances.
func NewWorld(t *testing.T) *World {
	first, _ := testkit.Ports(t, instances)
	w := &World{t: t, all: map[string]*Instance{}, first: first}
	t.Cleanup(func() { // after all that is begun later has ended: who asks, and the proxy
		for _, i := range w.all {
			i.Stop()
		}
	})
	return w
}

// instances is how many a world may raise.
const instances = 16

// Addresses are all that its instances may have.
func (w *World) Addresses() []string {
	list := make([]string, instances)
	for n := range list {
		list[n] = w.address(n)
	}
	return list
}

// address is that of an instance, by its number.
func (w *World) address(n int) string {
	if w.hosts { // a network of the machine's own for each world
		return fmt.Sprintf("127.%d.%d.%d:%d", 1+w.first>>8%254, w.first&0xff, 1+n, w.first)
	}
	return Address(w.first + n)
}

// Port is what instances listen at, where each has an address of its own.
func (w *World) Port() string { return fmt.Sprint(w.first) }

// Raise starts instances of a side, numbered from a first one on.
func (w *World) Raise(side split.Side, first, n int) []reading.Server {
	w.t.Helper()
	names := make([]string, n)
	for k := range names {
		names[k] = fmt.Sprintf("%v-%d", side, first+k)
	}
	return w.RaiseAs(side, names...)
}

// RaiseAs starts instances of a side with names of their own.
func (w *World) RaiseAs(side split.Side, names ...string) []reading.Server {
	w.t.Helper()
	var list []reading.Server
	for _, name := range names {
		i := &Instance{Side: side, hold: make(chan struct{})}
		i.Name, i.Version = name, "4.2.0"
		w.mu.Lock()
		address := w.address(len(w.all))
		w.mu.Unlock()
		l, err := net.Listen("tcp", address)
		if err != nil {
			w.t.Fatal(err)
		}
		i.server = &httptest.Server{Listener: l, Config: &http.Server{Handler: i}}
		i.server.Start()
		i.Address = address
		w.mu.Lock()
		w.all[i.Name] = i
		w.mu.Unlock()
		if list = append(list, i.Server); w.Raised != nil {
			w.Raised(i)
		}
	}
	return list
}

// All are those that there are.
func (w *World) All() []*Instance {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.Collect(maps.Values(w.all))
}

// Stop ends an instance, with the connections that it has.
func (i *Instance) Stop() {
	i.server.CloseClientConnections()
	i.server.Close()
}

// Instance is the one of a name, nil if there is none.
func (w *World) Instance(name string) *Instance {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.all[name]
}

// client sends requests over one connection after the other, and counts.
type client struct {
	world *World
	keep  bool // the connection for the next request
	conn  net.Conn
	read  *bufio.Reader
}

// outcome is what became of a request.
type outcome struct {
	instance *Instance
	closed   bool // a kept connection was found closed, and the request sent again
	err      error
}

const patience = 20 * time.Second

// ask sends one request with headers, each a whole line.
func (c *client) ask(path string, headers ...string) outcome {
	var o outcome
	for {
		kept := c.conn != nil
		var answered bool
		o.instance, answered, o.err = c.once(path, headers)
		if o.err == nil && c.keep {
			return o
		}
		if c.conn != nil {
			_ = c.conn.Close()
		}
		c.conn = nil
		if o.err == nil || !kept || answered {
			return o
		}
		o.closed = true // and once more
	}
}

func (c *client) once(path string, headers []string) (i *Instance, answered bool, err error) {
	if c.world.anew && c.conn != nil {
		_ = c.conn.Close()
		c.conn = nil
	}
	if c.conn == nil {
		if c.conn, err = net.DialTimeout("tcp", c.world.Listen, patience); err != nil {
			return nil, false, err
		}
		c.read = bufio.NewReader(c.conn)
	}
	_ = c.conn.SetDeadline(time.Now().Add(patience))
	text := "GET " + path + " HTTP/1.1\r\nHost: sailings.test\r\n"
	for _, h := range headers {
		text += h + "\r\n"
	}
	if !c.keep {
		text += "Connection: close\r\n"
	}
	if _, err = io.WriteString(c.conn, text+"\r\n"); err != nil {
		return nil, false, err
	}
	if _, err = c.read.Peek(1); err != nil {
		return nil, false, err
	}
	r, err := http.ReadResponse(c.read, nil)
	if err != nil {
		return nil, true, err
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, true, err
	}
	if r.Close {
		_ = c.conn.Close()
		c.conn = nil
	}
	i = c.world.Instance(r.Header.Get(nameHeader))
	switch {
	case r.StatusCode != http.StatusOK:
		return nil, true, fmt.Errorf("status %s: %.200q", r.Status, body)
	case i == nil || string(body) != fmt.Sprintf("answer of %s\n", i.Name):
		return nil, true, fmt.Errorf("a wrong answer of %q: %.80q", r.Header.Get(nameHeader), body)
	}
	return i, true, nil
}

// Load is requests that flow until it is stopped.
type Load struct {
	t        *testing.T
	stop     chan struct{}
	once     sync.Once
	wait     sync.WaitGroup
	Answers  [2]atomic.Int64 // by side
	Lost     atomic.Int64
	Closed   atomic.Int64 // idle connections
	mu       sync.Mutex   // protects first
	first    error        // that was lost
	forgiven atomic.Bool  // losses do not count for now: there is no proxy
}

// Flow starts requests on kept connections and on new ones.
func (w *World) Flow() *Load {
	l := &Load{t: w.t, stop: make(chan struct{})}
	for n := range 6 {
		l.wait.Go(func() {
			c := &client{world: w, keep: n < 4}
			ticker := time.NewTicker(30 * time.Millisecond)
			defer ticker.Stop()
			for {
				select {
				case <-l.stop:
					if c.conn != nil {
						_ = c.conn.Close()
					}
					return
				case <-ticker.C:
				}
				forgiven := l.forgiven.Load()
				o := c.ask("/sailings")
				if o.closed && !forgiven && !l.forgiven.Load() {
					l.Closed.Add(1)
				}
				switch {
				case o.err == nil:
					l.Answers[o.instance.Side].Add(1)
				case !forgiven && !l.forgiven.Load():
					l.Lost.Add(1)
					l.mu.Lock()
					if l.first == nil {
						l.first = o.err
					}
					l.mu.Unlock()
				}
			}
		})
	}
	return l
}

// End stops the requests and says what was lost.
func (l *Load) End() (lost int64, first error) {
	l.once.Do(func() { close(l.stop) })
	l.wait.Wait()
	return l.Lost.Load(), l.first
}

// Count asks n times, on one connection or on new ones, and counts by instance.
func (w *World) Count(n int, keep bool, headers func(n int) []string) (map[string]int, [2]int) {
	w.t.Helper()
	names, sides := map[string]int{}, [2]int{}
	var mu sync.Mutex // protects both
	var wait sync.WaitGroup
	const workers = 4
	for k := range workers {
		wait.Go(func() {
			c := &client{world: w, keep: keep}
			for i := k; i < n; i += workers {
				var h []string
				if headers != nil {
					h = headers(i)
				}
				o := c.ask("/count", h...)
				if o.err != nil {
					w.t.Errorf("request %d: %v", i, o.err)
					return
				}
				mu.Lock()
				names[o.instance.Name]++
				sides[o.instance.Side]++
				mu.Unlock()
			}
			if c.conn != nil {
				_ = c.conn.Close()
			}
		})
	}
	wait.Wait()
	return names, sides
}

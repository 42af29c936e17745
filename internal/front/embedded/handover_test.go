package embedded

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/lab/testkit"
)

// replace starts another front that takes over from the one of a configuration.
func replace(t *testing.T, config Config, grace time.Duration) *Server {
	t.Helper()
	config.TakeOver, config.Grace = true, grace
	s, err := NewServer(config)
	if err != nil {
		t.Fatal(err)
	}
	if s.Replaces() == 0 {
		t.Fatal("there was nobody to take over from")
	}
	return s
}

// listening is a configuration with an address of its own, on which a front can be followed by another.
func listening(t *testing.T, change func(*Config)) Config {
	t.Helper()
	dir := t.TempDir()
	c := Config{Listen: testkit.Address(t), Socket: dir + "/s", State: dir + "/state.json", Key: testKey,
		Secret: []byte("secret"), Service: "sailings", Settings: *Defaults()}
	c.Idle = 2 * time.Second
	if change != nil {
		change(&c)
	}
	return c
}

// first starts the front that will be replaced, and returns what says that it has ended.
func first(t *testing.T, c Config) (ended chan struct{}) {
	t.Helper()
	s, err := NewServer(c)
	if err != nil {
		t.Fatal(err)
	}
	ended = make(chan struct{})
	go func() {
		defer close(ended)
		if err := s.Run(t.Context()); err != nil {
			t.Errorf("the front that is replaced: %v", err)
		}
	}()
	t.Cleanup(func() { <-ended })
	return ended
}

// A front is replaced under load again and again: no connection is refused, no request lost, and the
// counts go on.
func TestAFrontIsReplacedUnderLoad(t *testing.T) {
	c := listening(t, func(c *Config) { c.Sticky = true })
	blue, green := newBackend(t, "blue-1", "1", nil), newBackend(t, "green-1", "2", nil)
	ended := first(t, c)
	client := Dial(c.Socket)
	putInstances(t, client, split.Blue, blue)
	putInstances(t, client, split.Green, green)
	setShare(t, client, 4000)
	before := read(t, client)
	session := func() string {
		_, h, body := get(t, &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}, "http://"+c.Listen)
		cookie, _, _ := strings.Cut(h.Get("Set-Cookie"), ";")
		return cookie + " " + body
	}
	cookie, side, _ := strings.Cut(session(), " ")

	var clients crowdOfClients
	var watch atomic.Int64
	clients.ask(8, "http://"+c.Listen, false, &watch, func(int64, int64, string) {})
	clients.ask(4, "http://"+c.Listen, true, &watch, func(int64, int64, string) {})
	least := int64(0)
	for range 3 {
		was := clients.asked.Load()
		testkit.Eventually(t, "some more requests", func() bool { return clients.asked.Load() > was+200 })
		next := replace(t, c, 20*time.Second)
		runServer(t, next)
		<-ended
		ended = make(chan struct{})
		go func() { defer close(ended); <-next.replaced }()
		var r reading.Front
		testkit.Eventually(t, "the one before has said what it counts",
			func() bool { r = read(t, client); return r.Blind == "" })
		if r.Split != before.Split || r.Order != before.Order {
			t.Errorf("the split was %+v and is %+v", before.Split, r.Split)
		}
		n := r.Sides[split.Blue].Instances[0].Requests + r.Sides[split.Green].Instances[0].Requests
		if n < least+200 || r.Sides[split.Blue].Lost+r.Sides[split.Green].Lost > 0 {
			t.Errorf("%d requests are counted after %d, and %d lost", n, least,
				r.Sides[split.Blue].Lost+r.Sides[split.Green].Lost)
		}
		least = n
	}
	if _, h, body := get(t, http.DefaultClient, "http://"+c.Listen, "Cookie", cookie); body != side ||
		h.Get("Set-Cookie") != "" {
		t.Errorf("a session on %s is on %s after the fronts were replaced", side, body)
	}
	clients.end()
	if n := clients.lost.Load(); n > 0 {
		t.Errorf("%d of %d requests were lost, such as: %s", n, clients.asked.Load(), *clients.reason.Load())
	}
	r := read(t, client)
	served := blue.served.Load() + green.served.Load()
	if n := r.Sides[split.Blue].Instances[0].Requests + r.Sides[split.Green].Instances[0].Requests; n != served {
		t.Errorf("the last front counts %d requests, the instances %d", n, served)
	}
}

// What the old process still has is followed: a slow request and a tunnel end there, a change reaches it,
// and home is said when both are home.
func TestTheProcessBeforeIsSteeredUntilItEnds(t *testing.T) {
	release := make(chan struct{})
	slow := newBackend(t, "green-1", "2", func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/slow" {
			<-release
		}
		fmt.Fprint(w, "green-1")
	})
	free := sync.OnceFunc(func() { close(release) })
	t.Cleanup(free)
	blue := newBackend(t, "blue-1", "1", nil)
	c := listening(t, nil)
	ended := first(t, c)
	client := Dial(c.Socket)
	putInstances(t, client, split.Blue, blue)
	putInstances(t, client, split.Green, slow)
	setShare(t, client, split.Whole)
	conn := dial(t, "http://"+c.Listen)
	fmt.Fprint(conn, "GET /slow HTTP/1.1\r\nHost: x\r\n\r\n")
	testkit.Eventually(t, "the slow request is open",
		func() bool { return read(t, client).Sides[split.Green].Open == 1 })

	next := replace(t, c, 30*time.Second)
	runServer(t, next)
	if n := read(t, client).Sides[split.Green].Open; n != 1 {
		t.Errorf("%d requests are open, want the one of the process before", n)
	}
	home, err := client.Home(t.Context(), front.Homing{Side: split.Blue})
	if err != nil || home.Share != 0 {
		t.Fatalf("home with two processes: %+v, %v", home, err)
	}
	// On its connection, which it kept, the process before sends to blue now as well.
	fmt.Fprint(conn, "GET / HTTP/1.1\r\nHost: x\r\n\r\n")
	if left, err := client.Drain(t.Context(), split.Green); err != nil || left.Open != 1 {
		t.Errorf("the side that was left answers %d, %v; want 1", left.Open, err)
	}
	free()
	in := bufio.NewReader(conn)
	w, err := http.ReadResponse(in, nil)
	if err != nil {
		t.Fatal(err)
	}
	if body, _ := io.ReadAll(w.Body); string(body) != "green-1" || !w.Close {
		t.Errorf("the slow request got %q, closes %v", body, w.Close)
	}
	<-ended
	r := read(t, client)
	if r.Sides[split.Green].Open != 0 || r.Sides[split.Green].Instances[0].Requests != 1 || len(r.Apart) > 0 {
		t.Errorf("with the process before gone there is %+v, apart %v", r.Sides[split.Green], r.Apart)
	}
}

// If the new process dies the old one accepts again; what went home meanwhile stays home.
func TestASuccessorThatDies(t *testing.T) {
	c := listening(t, nil)
	blue := newBackend(t, "blue-1", "1", nil)
	green := newBackend(t, "green-1", "2", nil)
	first(t, c)
	client := Dial(c.Socket)
	putInstances(t, client, split.Blue, blue)
	putInstances(t, client, split.Green, green)
	setShare(t, client, 5000)

	// One that never gets ready: home reaches the old one and the new one.
	got, err := takeOver(c.Socket)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := takeOver(c.Socket); !errors.Is(err, front.ErrRefused) {
		t.Errorf("two take over at once: %v", err)
	}
	heard := make(chan message, 1)
	go got.link.read(func(m message) {
		if m.Table != nil {
			got.link.send(message{Done: m.Number})
			heard <- m
		}
	})
	if d, err := client.Home(t.Context(), front.Homing{Side: split.Green}); err != nil || d.Share != split.Whole {
		t.Errorf("home while another process takes over: %+v, %v", d, err)
	}
	if m := <-heard; m.Table.Order.Side != split.Green {
		t.Errorf("the new process is told %+v", m.Table)
	}
	got.close()
	testkit.Eventually(t, "the old one takes changes again", func() bool {
		r, err := client.Read(t.Context())
		return err == nil && r.Split.Share == split.Whole
	})
	setShare(t, client, 5000)

	// One that accepts and dies.
	got, err = takeOver(c.Socket)
	if err != nil {
		t.Fatal(err)
	}
	go got.link.read(func(message) {})
	got.link.send(message{Accepting: time.Minute})
	asked := make(chan error, 1)
	go func() { // it waits in the backlog until somebody accepts
		w, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true},
			Timeout: 20 * time.Second}).Get("http://" + c.Listen)
		if err == nil {
			w.Body.Close()
		}
		asked <- err
	}()
	got.close()
	if err := <-asked; err != nil {
		t.Errorf("a connection that waited while nobody accepted: %v", err)
	}
	testkit.Eventually(t, "the old one is steered again", func() bool {
		r, err := client.Read(t.Context())
		return err == nil && r.Split.Share == 5000
	})
}

// A process before that does not answer is not home, and it is said.
func TestAProcessBeforeThatHangsIsNotHome(t *testing.T) {
	t.Parallel()
	c := listening(t, nil)
	blue, green := newBackend(t, "blue-1", "1", nil), newBackend(t, "green-1", "2", nil)
	ours, theirs := net.Pipe()
	t.Cleanup(func() { ours.Close(); theirs.Close() })
	s, err := NewServer(c)
	if err != nil {
		t.Fatal(err)
	}
	s.before = &predecessor{link: newLink(ours, ours), process: 4711}
	go func() { _, _ = io.Copy(io.Discard, theirs) }()
	runServer(t, s)
	client := Dial(c.Socket)
	putError := client.SetInstances(t.Context(), split.Blue, []address{blue.address})
	if !errors.Is(putError, front.ErrNotLoaded) {
		t.Errorf("with a process before that does not answer, a change says %v", putError)
	}
	_ = client.SetInstances(t.Context(), split.Green, []address{green.address})
	if _, err := client.Home(t.Context(), front.Homing{Side: split.Green}); !errors.Is(err, front.ErrNotLoaded) ||
		!strings.Contains(err.Error(), "4711") {
		t.Errorf("home says %v", err)
	}
	if status, _, body := get(t, http.DefaultClient, "http://"+c.Listen); status != 200 || body != "green-1" {
		t.Errorf("new connections get %d %q", status, body)
	}
	ours.Close()
	testkit.Eventually(t, "home, with the process before gone", func() bool {
		_, err := client.Home(t.Context(), front.Homing{Side: split.Green})
		return err == nil
	})
}

// A plan whose addresses have changed is not one that takes over.
func TestTakingOverKeepsTheAddress(t *testing.T) {
	c := listening(t, func(c *Config) { c.Spare = plan.SpareDoor{Listen: "127.0.0.1:0"} })
	first(t, c)
	c.TakeOver = true
	other := c
	other.Listen = "127.0.0.1:1"
	if _, err := NewServer(other); err == nil || !strings.Contains(err.Error(), "takes a restart") {
		t.Errorf("another address: %v", err)
	}
	testkit.Eventually(t, "the front that runs goes on", func() bool {
		_, err := Dial(c.Socket).Read(t.Context())
		return err == nil
	})
	for _, at := range []struct {
		wanted string
		want   bool
	}{{c.Listen, true}, {"127.0.0.1:1", false}, {"0.0.0.0:" + c.Listen[strings.LastIndex(c.Listen, ":")+1:], false}} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		l.Close()
		tcp, _ := net.ResolveTCPAddr("tcp", c.Listen)
		if got := listensAt(fixed{l, tcp}, at.wanted); got != at.want {
			t.Errorf("%s is at %s: %v", tcp, at.wanted, got)
		}
	}
}

// fixed is a listener with another address.
type fixed struct {
	net.Listener
	at net.Addr
}

func (f fixed) Addr() net.Addr { return f.at }

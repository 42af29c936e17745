package embedded

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/lab/testkit"
)

// address is an instance as the front is told it.
type address = reading.Server

// backend is an instance: it says its name, and waits when it is told to.
type backend struct {
	*httptest.Server
	address
	served atomic.Int64
}

func newBackend(t *testing.T, name, version string, handler http.HandlerFunc) *backend {
	t.Helper()
	b := &backend{}
	b.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b.served.Add(1)
		if handler != nil {
			handler(w, r)
			return
		}
		fmt.Fprint(w, name)
	}))
	t.Cleanup(b.Close)
	b.address = reading.Server{Name: name, Address: b.Listener.Addr().String(), Version: version}
	return b
}

// open starts a front with one backend a side.
func open(t *testing.T, change func(*Config)) (url string, c *Client, config Config) {
	t.Helper()
	dir := t.TempDir()
	config = Config{
		Listen: "127.0.0.1:0", Socket: filepath.Join(dir, "s"), State: filepath.Join(dir, "state.json"),
		Key: plan.Key{From: plan.KeyRandom}, Secret: []byte("secret"),
		Settings: *Defaults(),
	}
	config.HeaderSize, config.Idle, config.Connections, config.PerClient = 16<<10, 30*time.Second, 1000, 1000
	if change != nil {
		change(&config)
	}
	url, _ = run(t, config)
	return url, Dial(config.Socket), config
}

// run starts a front and returns what stops it.
func run(t *testing.T, config Config) (url string, stop func()) {
	t.Helper()
	s, err := NewServer(config)
	if err != nil {
		t.Fatal(err)
	}
	return "http://" + s.Address(), runServer(t, s)
}

// runServer runs a front until it is stopped, or the test ends.
func runServer(t *testing.T, s *Server) (stop func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Run(ctx) }()
	stop = sync.OnceFunc(func() {
		cancel()
		if err := <-done; err != nil {
			t.Errorf("front: %v", err)
		}
	})
	t.Cleanup(stop)
	return stop
}

// testKey is the key of fronts that say nothing of one.
var testKey = plan.Key{From: plan.KeyRandom}

func putInstances(t *testing.T, c *Client, side split.Side, backends ...*backend) {
	t.Helper()
	list := make([]reading.Server, len(backends))
	for i, b := range backends {
		list[i] = b.address
	}
	if err := c.SetInstances(t.Context(), side, list); err != nil {
		t.Fatal(err)
	}
}

func setShare(t *testing.T, c *Client, share split.Share) {
	t.Helper()
	r := read(t, c)
	s, err := c.Set(t.Context(), share, front.AsRead(r))
	if err != nil || s.Share != share || s.Revision != r.Split.Revision+1 {
		t.Fatalf("set %v after revision %d: %+v, %v", share, r.Split.Revision, s, err)
	}
}

func read(t *testing.T, c *Client) reading.Front {
	t.Helper()
	r, err := c.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// get makes a request and returns status, header and body. It gives up long
// before the test binary would.
func get(t *testing.T, client *http.Client, url string, headers ...string) (int, http.Header, string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		t.Fatal(err)
	}
	for i := 0; i < len(headers); i += 2 {
		r.Header.Add(headers[i], headers[i+1])
	}
	w, err := client.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer w.Body.Close()
	body, err := io.ReadAll(w.Body)
	if err != nil {
		t.Fatal(err)
	}
	return w.StatusCode, w.Header, string(body)
}

// dial opens a connection to a front, to speak by hand.
func dial(t *testing.T, url string) net.Conn {
	t.Helper()
	conn, err := net.Dial("tcp", strings.TrimPrefix(url, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	if err := conn.SetDeadline(time.Now().Add(20 * time.Second)); err != nil {
		t.Fatal(err)
	}
	return conn
}

func twoSides(t *testing.T, change func(*Config)) (url string, c *Client, blue, green *backend) {
	t.Helper()
	blue, green = newBackend(t, "blue-1", "4.2.0", nil), newBackend(t, "green-1", "4.3.0", nil)
	url, c, _ = open(t, change)
	putInstances(t, c, split.Blue, blue)
	putInstances(t, c, split.Green, green)
	return url, c, blue, green
}

func TestTheShareIsWhatGreenGets(t *testing.T) {
	url, c, blue, green := twoSides(t, nil)
	for _, share := range []split.Share{0, 3000, split.Whole} {
		setShare(t, c, share)
		blue.served.Store(0)
		green.served.Store(0)
		const requests = 2000
		for range requests {
			if status, _, _ := get(t, http.DefaultClient, url); status != 200 {
				t.Fatalf("at %v: status %d", share, status)
			}
		}
		got := float64(green.served.Load()) / requests
		// By the binomial distribution it is off by more than five standard deviations once in 1.7 million times.
		most := 5 * math.Sqrt(share.Fraction()*(1-share.Fraction())/requests)
		if math.Abs(got-share.Fraction()) > most {
			t.Errorf("at %v green got %.3f of %d requests", share, got, requests)
		}
	}
	r := read(t, c)
	if n := r.Sides[split.Blue].Instances[0].Requests + r.Sides[split.Green].Instances[0].Requests; n != 6000 {
		t.Errorf("the front counts %d requests, 6000 were made", n)
	}
	h, err := r.Sides[split.Green].Instances[0].Histogram()
	if err != nil || h.TotalCount() != r.Sides[split.Green].Instances[0].Requests {
		t.Errorf("%d latencies for %d requests, %v", h.TotalCount(), r.Sides[split.Green].Instances[0].Requests, err)
	}
}

// A client that is on green stays there while the share on green grows.
func TestAClientOnGreenStaysThere(t *testing.T) {
	for _, key := range []plan.Key{{From: plan.KeyCookie, Name: "passenger"},
		{From: plan.KeyHeader, Name: "X-Passenger"}} {
		t.Run(key.String(), func(t *testing.T) {
			t.Parallel()
			url, c, _, _ := twoSides(t, func(c *Config) { c.Key = key })
			wasGreen := map[int]bool{}
			for _, share := range []split.Share{0, 1000, 3000, 6000, split.Whole} {
				setShare(t, c, share)
				for n := range 60 {
					header := []string{"Cookie", fmt.Sprintf("passenger=p%d", n)}
					if key.From == plan.KeyHeader {
						header = []string{"X-Passenger", fmt.Sprintf("p%d", n)}
					}
					_, _, body := get(t, http.DefaultClient, url, header...)
					green := body == "green-1"
					if wasGreen[n] && !green {
						t.Fatalf("passenger %d went back to blue at %v", n, share)
					}
					wasGreen[n] = green
				}
			}
			// All of them came to green, and none turned bad.
			var green reading.Clients
			testkit.Eventually(t, "the blocks in which they all are on green are over", func() bool {
				r := read(t, c)
				green = r.Sides[split.Green].Clients
				return r.Tells.Clients && green.Asked >= 60
			})
			turned, err := reading.TurnedOf(green.Turns)
			if err != nil {
				t.Fatal(err)
			}
			if asked := turned[reading.AnyAnswer][0][0]; green.Seen < 60 || green.Asked != 60 || green.Good != 60 ||
				asked.Of != 60 || asked.Bad != 0 {
				t.Errorf("clients on green: %+v", green)
			}
		})
	}
	t.Run("client", func(t *testing.T) {
		url, c, blue, green := twoSides(t, func(c *Config) { c.Key = plan.Key{From: plan.KeyClient} })
		setShare(t, c, 5000)
		for range 50 {
			get(t, http.DefaultClient, url)
		}
		if b, g := blue.served.Load(), green.served.Load(); b != 0 && g != 0 {
			t.Errorf("one client was split: %d on blue, %d on green", b, g)
		}
	})
}

func TestOnlyProbesAreToldTheSide(t *testing.T) {
	blue := newBackend(t, "blue-1", "4.2.0", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set(front.SideHeader, "green") // a forger
		fmt.Fprint(w, r.Header.Get(front.ProbeHeader))
	})
	url, c, _ := open(t, nil)
	putInstances(t, c, split.Blue, blue)
	_, h, body := get(t, http.DefaultClient, url, front.ProbeHeader, "secret")
	if h.Get(front.SideHeader) != "blue" || h.Get(front.InstanceHeader) != "blue-1" ||
		h.Get(front.VersionHeader) != "4.2.0" {
		t.Errorf("a probe is told %q, %q, %q", h.Get(front.SideHeader), h.Get(front.InstanceHeader),
			h.Get(front.VersionHeader))
	}
	if body != "yes" {
		t.Errorf("the instance sees %q: it must see that it is a probe, and not the secret", body)
	}
	for _, guess := range []string{"", "wrong", "yes"} {
		_, h, body := get(t, http.DefaultClient, url, front.ProbeHeader, guess)
		if h.Get(front.SideHeader)+h.Get(front.InstanceHeader)+h.Get(front.VersionHeader) != "" || body != "" {
			t.Errorf("with the marker %q a stranger is told %v, and the instance %q", guess, h, body)
		}
	}
	telling, c, _ := open(t, func(c *Config) { c.Tell = true })
	putInstances(t, c, split.Blue, blue)
	if _, h, _ := get(t, http.DefaultClient, telling); h.Get(front.SideHeader) != "blue" {
		t.Error("a front that tells everybody does not")
	}
}

func TestRequestsArriveUnchanged(t *testing.T) {
	blue := newBackend(t, "blue-1", "4.2.0", func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, "%s %s %s %s %q %s", r.Method, r.RequestURI, r.Host, r.Header.Get("X-Forwarded-For"),
			r.Header.Get("Accept-Encoding"), body)
	})
	url, c, _ := open(t, nil)
	putInstances(t, c, split.Blue, blue)
	r, _ := http.NewRequest(http.MethodPost, url+"/a%2Fb?x=1;y=2&z=%20", strings.NewReader("a body"))
	r.Host = "sailings.example"
	r.Header.Set("X-Forwarded-For", "192.0.2.7")
	r.Header.Set("Accept-Encoding", "br")
	w, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer w.Body.Close()
	got, _ := io.ReadAll(w.Body)
	if want := `POST /a%2Fb?x=1;y=2&z=%20 sailings.example 127.0.0.1 "br" a body`; string(got) != want {
		t.Errorf("the instance got\n%s\nwant\n%s", got, want)
	}
}

// A connection that fails before a byte was sent is tried on another instance of
// the same side, bodies included.
func TestADeadInstanceCostsNothing(t *testing.T) {
	echo := func(w http.ResponseWriter, r *http.Request) { io.Copy(w, r.Body) }
	alive, dead := newBackend(t, "blue-1", "1", echo), newBackend(t, "blue-2", "1", echo)
	green := newBackend(t, "green-1", "2", nil)
	url, c, _ := open(t, nil)
	putInstances(t, c, split.Blue, alive, dead)
	putInstances(t, c, split.Green, green)
	dead.Close()
	for n := range 100 {
		body := fmt.Sprintf("body %d", n)
		w, err := http.Post(url, "text/plain", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		got, _ := io.ReadAll(w.Body)
		w.Body.Close()
		if w.StatusCode != 200 || string(got) != body {
			t.Fatalf("request %d: %d %q", n, w.StatusCode, got)
		}
	}
	if green.served.Load() != 0 {
		t.Error("a request of blue was answered by green")
	}
	r := read(t, c)
	if r.Sides[split.Blue].Lost != 0 {
		t.Errorf("%d requests count as lost", r.Sides[split.Blue].Lost)
	}
	if f := r.Sides[split.Blue].Instances[1].Failures; f == 0 || f > 50 {
		t.Errorf("the dead instance was tried %d times of 100: it has to be noticed, and then avoided", f)
	}
}

func TestASideWithNobodyLosesRequestsAndSaysSo(t *testing.T) {
	blue := newBackend(t, "blue-1", "1", nil)
	url, c, _ := open(t, nil)
	if status, h, _ := get(t, http.DefaultClient, url, front.ProbeHeader, "secret"); status != 503 ||
		h.Get(front.LostHeader) == "" {
		t.Errorf("without instances: %d, %q", status, h.Get(front.LostHeader))
	}
	putInstances(t, c, split.Blue, blue)
	blue.Close()
	if status, _, _ := get(t, http.DefaultClient, url); status != 502 {
		t.Errorf("with all instances dead: status %d, want 502", status)
	}
	if lost := read(t, c).Sides[split.Blue].Lost; lost != 2 {
		t.Errorf("%d count as lost, want 2", lost)
	}
}

func TestLeastOutstanding(t *testing.T) {
	release := make(chan struct{})
	slow := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) { <-release })
	quick := newBackend(t, "blue-2", "1", nil)
	out := newBackend(t, "blue-3", "1", nil)
	url, c, _ := open(t, nil)
	outside := out.address
	outside.Out = true
	// The slow one holds more requests than can be under way to the quick one: an
	// answer may reach its client before the front has counted it as through.
	const held = 8
	putInstances(t, c, split.Blue, slow)
	var wait sync.WaitGroup
	defer wait.Wait()
	defer close(release)
	for range held {
		wait.Go(func() {
			if w, err := http.Get(url); err == nil {
				w.Body.Close()
			}
		})
	}
	testkit.Eventually(t, "all are held", func() bool { return slow.served.Load() == held })
	if err := c.SetInstances(t.Context(), split.Blue,
		[]reading.Server{slow.address, quick.address, outside}); err != nil {
		t.Fatal(err)
	}
	for range 50 {
		get(t, http.DefaultClient, url)
	}
	if n := slow.served.Load(); n > held {
		t.Errorf("an instance with %d open requests got %d more while another was free", held, n-held)
	}
	if n := out.served.Load(); n != 0 {
		t.Errorf("an instance that is out got %d requests", n)
	}
}

func TestTheRevisionGuardsTheSplit(t *testing.T) {
	_, c, _, _ := twoSides(t, nil)
	r := read(t, c)
	setShare(t, c, 1000)
	if _, err := c.Set(t.Context(), 5000, front.AsRead(r)); !errors.Is(err, front.ErrChanged) {
		t.Errorf("a stale revision: %v, want ErrChanged", err)
	}
	if got := read(t, c).Split.Share; got != 1000 {
		t.Errorf("after a refusal the share is %v, want 10 %%", got)
	}
	if _, err := c.Home(t.Context(), front.Homing{Side: split.Blue}); err != nil {
		t.Errorf("going home: %v", err)
	}
	if got := read(t, c).Split; got.Share != 0 {
		t.Errorf("at home the share is %v", got.Share)
	}
}

func TestTheFrontRefusesWhatWouldLoseRequests(t *testing.T) {
	blue := newBackend(t, "blue-1", "1", nil)
	_, c, _ := open(t, nil)
	putInstances(t, c, split.Blue, blue)
	rev := read(t, c).Split.Revision
	for _, refused := range []struct {
		name string
		do   func() error
	}{
		{"a share for a side without instances",
			func() error { _, err := c.Set(t.Context(), 1000, front.Expect{Revision: rev}); return err }},
		{"a share beyond the whole",
			func() error { _, err := c.Set(t.Context(), 20_000, front.Expect{Revision: rev}); return err }},
		{"to empty a side with a share", func() error { return c.SetInstances(t.Context(), split.Blue, nil) }},
		{"to drain a side with a share", func() error { _, err := c.Drain(t.Context(), split.Blue); return err }},
		{"an instance without address", func() error {
			return c.SetInstances(t.Context(), split.Green, []reading.Server{{Name: "green-1"}})
		}},
	} {
		if err := refused.do(); !errors.Is(err, front.ErrRefused) {
			t.Errorf("%s: %v, want ErrRefused", refused.name, err)
		}
	}
	if got := read(t, c).Split; got.Revision != rev || got.Share != 0 {
		t.Errorf("refusals changed the split to %+v", got)
	}
}

// What hangs is told by how long it has, and a client that gives up is counted,
// with a body in its request and without.
func TestWhatHangsIsTold(t *testing.T) {
	release := make(chan struct{})
	blue := newBackend(t, "blue-1", "1", nil)
	green := newBackend(t, "green-1", "2", func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-release:
		case <-r.Context().Done():
		}
	})
	url, c, _ := open(t, nil)
	putInstances(t, c, split.Blue, blue)
	putInstances(t, c, split.Green, green)
	setShare(t, c, split.Whole)
	conns := []net.Conn{dial(t, url), dial(t, url), dial(t, url), dial(t, url)}
	for n, conn := range conns {
		text := "GET / HTTP/1.1\r\nHost: x\r\n\r\n"
		if n%2 == 1 {
			text = "POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n"
		}
		if _, err := io.WriteString(conn, text); err != nil {
			t.Fatal(err)
		}
	}
	count := func() reading.Count { return read(t, c).Sides[split.Green].Instances[0] }
	testkit.Eventually(t, "all four have waited for a while", func() bool {
		return count().Longer(250*time.Millisecond) == 4
	})
	if i := count(); i.Longer(time.Minute) != 0 || i.Left != 0 || i.Requests != 0 {
		t.Errorf("it tells %+v", i)
	}
	conns[0].Close()
	conns[1].Close()
	testkit.Eventually(t, "two of their clients have left",
		func() bool { i := count(); return i.Left == 2 && i.Longer(0) == 2 })
	close(release)
	testkit.Eventually(t, "the others are answered",
		func() bool { i := count(); return i.Requests == 2 && i.Longer(0) == 0 })
	if i := count(); i.Left != 2 || i.Failures != 0 {
		t.Errorf("in the end it tells %+v", i)
	}
}

// A request is older than the steps that it is counted by say at least, and never younger.
func TestWaits(t *testing.T) {
	var w waits
	begun := waitsBegan.Add(time.Hour)
	early, late := w.begin(begun), w.begin(begun.Add(400*time.Millisecond))
	for at, want := range map[time.Duration][2]int64{ // longer than 250 ms, and than a second
		400 * time.Millisecond: {1, 0}, 700 * time.Millisecond: {2, 0}, 1100 * time.Millisecond: {2, 1},
		1500 * time.Millisecond: {2, 2}, 3 * time.Minute: {2, 2},
	} {
		list := w.longer(begun.Add(at))
		if list[1] != want[0] || list[3] != want[1] {
			t.Errorf("after %v: %v, want %v", at, list, want)
		}
	}
	w.end(early)
	w.end(late)
	if list := w.longer(begun.Add(time.Second)); slices.Max(list) != 0 {
		t.Errorf("all through, it says %v", list)
	}
	if list := w.longer(waitsBegan); slices.Max(list) != 0 {
		t.Errorf("at first it says %v", list)
	}
}

func TestDrainCountsOpenRequests(t *testing.T) {
	release := make(chan struct{})
	entered := make(chan struct{}, 8)
	hold := func(w http.ResponseWriter, r *http.Request) {
		entered <- struct{}{}
		<-release
		fmt.Fprint(w, "done")
	}
	blue, green := newBackend(t, "blue-1", "1", nil), newBackend(t, "green-1", "2", hold)
	url, c, _ := open(t, nil)
	putInstances(t, c, split.Blue, blue)
	putInstances(t, c, split.Green, green)
	setShare(t, c, split.Whole)
	var wait sync.WaitGroup
	for range 3 {
		wait.Go(func() {
			if _, _, body := get(t, http.DefaultClient, url); body != "done" {
				t.Errorf("an open request ended with %q", body)
			}
		})
	}
	for range 3 {
		<-entered
	}
	setShare(t, c, 0)
	if left, err := c.Drain(t.Context(), split.Green); err != nil || left.Open != 3 {
		t.Errorf("draining: %+v, %v, want 3 open", left, err)
	}
	close(release)
	wait.Wait()
	testkit.Eventually(t, "nothing is open any more", func() bool {
		left, err := c.Drain(t.Context(), split.Green)
		return err == nil && left.Open == 0
	})
}

func TestTheSplitSurvivesARestart(t *testing.T) {
	blue, green := newBackend(t, "blue-1", "1", nil), newBackend(t, "green-1", "2", nil)
	_, c, config := open(t, nil)
	putInstances(t, c, split.Blue, blue)
	putInstances(t, c, split.Green, green)
	setShare(t, c, 2500)
	want := read(t, c)

	again := config
	again.Socket += "2" // the first one still runs, as after a kill its file would
	url, _ := run(t, again)
	got := read(t, Dial(again.Socket))
	if got.Split.Share != want.Split.Share || got.Split.Revision != want.Split.Revision {
		t.Errorf("after a restart the split is %+v, want %+v", got.Split, want.Split)
	}
	if status, _, _ := get(t, http.DefaultClient, url); status != 200 {
		t.Errorf("after a restart a request gets %d", status)
	}
}

func TestStateAndSocketThatAreNotRight(t *testing.T) {
	_, _, config := open(t, nil)
	if _, err := NewServer(config); err == nil || !strings.Contains(err.Error(), "running already") {
		t.Errorf("a second front on the same socket: %v", err)
	}
	info, err := os.Stat(config.Socket)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the socket has mode %v, %v, want 0600", info.Mode().Perm(), err)
	}
	config.Socket += "2"
	if err := os.WriteFile(config.State, []byte(`{"split":{"share":99999}}`), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := NewServer(config); err == nil || !strings.Contains(err.Error(), "damaged") {
		t.Errorf("a damaged state file: %v", err)
	}
	// The socket of a front that was killed is in nobody's way.
	config.State += "2"
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: config.Socket, Net: "unix"})
	if err != nil {
		t.Fatal(err)
	}
	l.SetUnlinkOnClose(false)
	l.Close()
	run(t, config)
	if _, err := Dial(config.Socket).Read(t.Context()); err != nil {
		t.Errorf("after a killed front: %v", err)
	}
	if _, err := Dial(config.Socket + "3").Read(t.Context()); !errors.Is(err, front.ErrUnreachable) {
		t.Errorf("nobody there: %v, want ErrUnreachable", err)
	}
}

// With a disk that cannot be written a change is refused whole, and going home
// works all the same.
func TestGoingHomeDoesNotNeedADisk(t *testing.T) {
	blue, green := newBackend(t, "blue-1", "1", nil), newBackend(t, "green-1", "2", nil)
	_, c, config := open(t, func(c *Config) {
		dir := filepath.Join(filepath.Dir(c.State), "disk")
		if err := os.Mkdir(dir, 0o700); err != nil {
			t.Fatal(err)
		}
		c.State = filepath.Join(dir, "state.json")
	})
	putInstances(t, c, split.Blue, blue)
	putInstances(t, c, split.Green, green)
	setShare(t, c, 5000)
	if err := os.RemoveAll(filepath.Dir(config.State)); err != nil {
		t.Fatal(err)
	}
	r := read(t, c)
	if _, err := c.Set(t.Context(), 6000, front.AsRead(r)); !errors.Is(err, front.ErrRefused) {
		t.Errorf("a change that cannot be kept: %v, want ErrRefused", err)
	}
	if got := read(t, c).Split; !reflect.DeepEqual(got, r.Split) {
		t.Errorf("the refused change is in force: %+v", got)
	}
	if _, err := c.Home(t.Context(), front.Homing{Side: split.Blue}); err != nil {
		t.Fatalf("going home: %v", err)
	}
	if got := read(t, c); got.Split.Share != 0 {
		t.Errorf("at home: %v", got.Split.Share)
	}
	testkit.Eventually(t, "it is said that it would not survive",
		func() bool { return strings.Contains(read(t, c).Notice, "would not survive") })
}

func TestStreamsFlowBothWays(t *testing.T) {
	blue := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		control := http.NewResponseController(w)
		control.EnableFullDuplex()
		lines := bufio.NewScanner(r.Body)
		for lines.Scan() {
			fmt.Fprintf(w, "heard %s\n", lines.Text())
			control.Flush()
		}
	})
	url, c, _ := open(t, nil)
	putInstances(t, c, split.Blue, blue)
	// By hand: Go's client does not read an answer before its request is through.
	conn := dial(t, url)
	fmt.Fprint(conn, "POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n")
	answers := bufio.NewReader(conn)
	for _, word := range []string{"one", "two", "three"} {
		fmt.Fprintf(conn, "%x\r\n%s\n\r\n", len(word)+1, word)
		for {
			line, err := answers.ReadString('\n')
			if err != nil {
				t.Fatalf("waiting for %q: %v", word, err)
			}
			if strings.TrimSpace(line) == "heard "+word {
				break
			}
		}
	}
}

// An upgraded connection, as WebSocket makes one, passes bytes both ways.
func TestUpgradesPassThrough(t *testing.T) {
	blue := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Upgrade") != "websocket" || r.Header.Get("Sec-WebSocket-Key") == "" {
			http.Error(w, "no upgrade", http.StatusBadRequest)
			return
		}
		conn, rw, err := http.NewResponseController(w).Hijack()
		if err != nil {
			return
		}
		defer conn.Close()
		fmt.Fprint(rw, "HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\r\n")
		rw.Flush()
		io.Copy(conn, rw) // an echo
	})
	url, c, _ := open(t, nil)
	putInstances(t, c, split.Blue, blue)
	conn := dial(t, url)
	fmt.Fprint(conn, "GET /live HTTP/1.1\r\nHost: x\r\nConnection: Upgrade\r\nUpgrade: "+
		"websocket\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n")
	in := bufio.NewReader(conn)
	w, err := http.ReadResponse(in, nil)
	if err != nil || w.StatusCode != http.StatusSwitchingProtocols {
		t.Fatalf("upgrade: %v, %v", w, err)
	}
	frame := []byte{0x82, 0x04, 1, 2, 0, 255}
	for range 3 {
		conn.Write(frame)
		got := make([]byte, len(frame))
		if _, err := io.ReadFull(in, got); err != nil || string(got) != string(frame) {
			t.Fatalf("echo %v, %v", got, err)
		}
	}
}

// Clients that send slowly, ask for too much or take up connections harm nobody
// else.
func TestBadClientsHarmNobodyElse(t *testing.T) {
	blue := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body)
		if r.URL.Path == "/large" {
			for range 4096 {
				if _, err := w.Write(make([]byte, 16<<10)); err != nil {
					return
				}
			}
		}
		fmt.Fprint(w, "fine")
	})
	url, c, _ := open(t, func(c *Config) {
		c.HeaderTime, c.Idle, c.Connections, c.PerClient = 300*time.Millisecond, 300*time.Millisecond, 20, 20
	})
	putInstances(t, c, split.Blue, blue)
	closed := func(name string, conn net.Conn) {
		t.Helper()
		if _, err := io.Copy(io.Discard, conn); err != nil && errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("%s: the connection is still open", name)
		}
	}
	large := dial(t, url)
	fmt.Fprintf(large, "GET / HTTP/1.1\r\nHost: x\r\nX-Large: %s\r\n\r\n", strings.Repeat("x", 64<<10))
	if w, err := http.ReadResponse(bufio.NewReader(large), nil); err == nil &&
		w.StatusCode != http.StatusRequestHeaderFieldsTooLarge {
		t.Errorf("a header of 64 KiB: status %d, want 431", w.StatusCode)
	}
	half := dial(t, url)
	fmt.Fprint(half, "GET / HTTP/1.1\r\nHost:")
	body := dial(t, url)
	fmt.Fprint(body, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 1000\r\n\r\nonly this")
	deaf := dial(t, url)
	fmt.Fprint(deaf, "GET /large HTTP/1.1\r\nHost: x\r\n\r\n") // and never reads
	for range 60 {
		dial(t, url) // and never says a word
	}
	for range 20 {
		fresh := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}, Timeout: 10 * time.Second}
		if status, _, got := get(t, fresh, url); status != 200 || got != "fine" {
			t.Fatalf("a good client gets %d %q", status, got)
		}
	}
	closed("half a header", half)
	closed("half a body", body)
	testkit.Eventually(t, "the client that does not read is let go",
		func() bool { return read(t, c).Sides[split.Blue].Open == 0 })
}

// On a full disk a going home is in force, and stays so when the front is started again.
func TestHomeOnAFullDiskSurvives(t *testing.T) {
	dir := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=24k", "tmpfs", dir).CombinedOutput(); err != nil {
		t.Skipf("no small disk can be had: %s", out)
	}
	t.Cleanup(func() { // after the front has ended, which has files open there
		if out, err := exec.Command("umount", dir).CombinedOutput(); err != nil {
			t.Errorf("umount: %v: %s", err, out)
		}
	})
	blue, green := newBackend(t, "blue-1", "1", nil), newBackend(t, "green-1", "2", nil)
	_, c, config := open(t, func(c *Config) { c.State = filepath.Join(dir, "state.json") })
	putInstances(t, c, split.Blue, blue)
	putInstances(t, c, split.Green, green)
	setShare(t, c, 5000)
	for n := 0; os.WriteFile(filepath.Join(dir, fmt.Sprint("fill-", n)), make([]byte, 4096), 0o600) == nil; n++ {
	}
	r := read(t, c)
	if _, err := c.Set(t.Context(), 7500, front.AsRead(r)); !errors.Is(err, front.ErrRefused) {
		t.Fatalf("the disk is not full: %v", err)
	}
	if d, err := c.Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"}); err != nil || d.Share != 0 {
		t.Fatalf("home: %+v, %v", d, err)
	}
	testkit.Eventually(t, "the order is on the disk", func() bool {
		again := newStore(config.State)
		o, ok := again.loadOrder()
		return ok && o.Generation == 1
	})
	config.Listen, config.Socket = "127.0.0.1:0", filepath.Join(t.TempDir(), "s")
	other, stop := run(t, config)
	defer stop()
	_ = other
	after := read(t, Dial(config.Socket))
	if after.Split.Share != 0 || after.Order.By != "marit" || len(after.Sides[split.Green].Instances) != 1 {
		t.Errorf("started again it has %v on green by the order %+v", after.Split.Share, after.Order)
	}
}

// An order that was written in part is none.
func TestADamagedOrderIsNone(t *testing.T) {
	s := newStore(filepath.Join(t.TempDir(), "state.json"))
	whole := orderText(reading.Order{Generation: 7, Side: split.Green, At: time.Now(), By: "marit",
		Why: strings.Repeat("ü", 400)})
	if len(whole) != orderSize {
		t.Fatalf("an order takes %d bytes, not %d", len(whole), orderSize)
	}
	for n := 0; n < len(whole); n += 31 {
		if err := os.WriteFile(s.orderFile(), whole[:n], 0o600); err != nil {
			t.Fatal(err)
		}
		if o, ok := s.loadOrder(); ok && (o.Generation != 7 || o.Side != split.Green) {
			t.Errorf("of %d bytes it reads %+v", n, o)
		}
	}
	if err := os.WriteFile(s.orderFile(), whole, 0o600); err != nil {
		t.Fatal(err)
	}
	if o, ok := s.loadOrder(); !ok || o.Generation != 7 || o.By != "marit" {
		t.Errorf("the whole of it is read as %+v, %v", o, ok)
	}
}

// Going home waits for no disk that hangs, nor does reading; and what was about to be
// written before does not come into force after it.
func TestADiskThatHangs(t *testing.T) {
	blue, green := newBackend(t, "blue-1", "1", nil), newBackend(t, "green-1", "2", nil)
	dir := t.TempDir()
	_, c, config := open(t, func(c *Config) { c.State = filepath.Join(dir, "state.json") })
	putInstances(t, c, split.Blue, blue)
	putInstances(t, c, split.Green, green)
	setShare(t, c, 5000)
	// A pipe that nobody reads in place of the file that is written over hangs as a dead
	// disk does; so does a rename onto a name that is a folder, for the other file.
	if err := errors.Join(os.Remove(config.State+".home"), syscall.Mkfifo(config.State+".home", 0o600)); err != nil {
		t.Fatal(err)
	}
	home, cancel := context.WithTimeout(t.Context(), time.Minute) // the disk hangs for longer
	defer cancel()
	if d, err := c.Home(home, front.Homing{Side: split.Blue}); err != nil || d.Share != 0 {
		t.Errorf("home: %+v, %v", d, err)
	}
	if r := read(t, c); r.Split.Share != 0 || r.Order.Generation != 1 {
		t.Errorf("it has %+v, %+v", r.Split, r.Order)
	}
	if f, err := os.OpenFile(config.State+".home", os.O_RDONLY|syscall.O_NONBLOCK, 0); err == nil { // let it go on
		defer f.Close()
	}
}

// The admin socket is made again when somebody removes it.
func TestTheSocketIsMadeAgain(t *testing.T) {
	t.Parallel()
	blue := newBackend(t, "blue-1", "1", nil)
	_, c, config := open(t, nil)
	putInstances(t, c, split.Blue, blue)
	if err := os.Remove(config.Socket); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "it is there again", func() bool {
		_, err := Dial(config.Socket).Read(t.Context())
		return err == nil
	})
	info, err := os.Stat(config.Socket)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("its mode is %v, %v", info.Mode(), err)
	}
	if d, err := Dial(config.Socket).Home(t.Context(), front.Homing{Side: split.Blue}); err != nil || d.Share != 0 {
		t.Errorf("home through it: %+v, %v", d, err)
	}
}

// What was refused changed nothing, in memory neither.
func TestRefusedInstancesChangeNothing(t *testing.T) {
	one, two := newBackend(t, "blue-1", "1", nil), newBackend(t, "blue-2", "1", nil)
	dir := filepath.Join(t.TempDir(), "state")
	if err := os.Mkdir(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	_, c, _ := open(t, func(c *Config) { c.State = filepath.Join(dir, "state.json") })
	putInstances(t, c, split.Blue, one, two)
	if err := os.RemoveAll(dir); err != nil { // no disk
		t.Fatal(err)
	}
	wanted := []reading.Server{one.address, two.address}
	wanted[0].Out = true
	if err := c.SetInstances(t.Context(), split.Blue, wanted); !errors.Is(err, front.ErrRefused) {
		t.Fatalf("without a disk: %v", err)
	}
	if r := read(t, c); r.Sides[split.Blue].Instances[0].Out {
		t.Error("blue-1 is out all the same")
	}
}

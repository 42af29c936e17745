package prober

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/proving/door"
	"vaiven/internal/world/secret"
	"vaiven/lab/testkit"
)

// runProber runs a prober on a server until the test has seen enough.
func runProber(t *testing.T, c Config, h http.HandlerFunc) *Prober {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	c.Fronts = []string{s.Listener.Addr().String()}
	return run(t, c)
}

func run(t *testing.T, c Config) *Prober {
	t.Helper()
	c.Rate, c.Timeout, c.Status, c.Path, c.Door = 500, 5*time.Second, 200, "/",
		door.New(plan.Entrance{}, secret.Values{})
	p := New(c)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		p.Run(ctx)
	}()
	t.Cleanup(func() {
		cancel()
		<-done
	})
	return p
}

func TestTheDoorLogTellsSidesAndFaultsApart(t *testing.T) {
	var n atomic.Int64
	p := runProber(t, Config{Secret: "secret"}, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get(front.ProbeHeader) != "secret" || r.Header.Get("Cache-Control") != "no-cache, no-store" {
			t.Errorf("a probe without marker or past no caches: %v", r.Header)
		}
		h := w.Header()
		h.Set(front.SideHeader, "blue")
		h.Set(front.InstanceHeader, "blue-1")
		h.Set(front.VersionHeader, "4.2.0")
		switch n.Add(1) % 5 {
		case 1:
			h.Set(front.SideHeader, "green")
			h.Set(front.VersionHeader, "4.3.0")
		case 2:
			w.WriteHeader(http.StatusInternalServerError) // the instance's own
		case 3:
			h.Set(front.LostHeader, `"no instance"`) // the front's
			w.WriteHeader(http.StatusServiceUnavailable)
		case 4:
			h.Set("Age", "12")
		}
	})
	var r reading.Door
	testkit.Eventually(t, "fifty answers", func() bool { r = p.Report(time.Now()); return r.Answers >= 50 })
	kinds := map[string]int{}
	for _, m := range r.Recent {
		kinds[fmt.Sprint(m.Side, m.Kind, m.Cache)]++
	}
	for _, want := range []string{"greenfalse", "bluefalse", "bluefailingfalse", "bluelostfalse", "bluetrue"} {
		if kinds[want] == 0 {
			t.Errorf("no mark %q among %v", want, kinds)
		}
	}
	if r.Failing == 0 || r.Lost == 0 || r.LastLost() != `"no instance"` || r.Versions["4.3.0"] == 0 {
		t.Errorf("report %+v", r)
	}
	if r.LastBegun["green"].IsZero() || r.LongestGap <= 0 {
		t.Errorf("last begun %v, longest gap %v", r.LastBegun, r.LongestGap)
	}
}

func TestAnotherFrontNamesItsSideInItsOwnWay(t *testing.T) {
	p := runProber(t, Config{Side: plan.Field{Header: "X-Colour"}, Version: plan.Field{JSON: "version"}},
		func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("X-Colour", "green")
			fmt.Fprint(w, `{"version":"4.3.0"}`)
		})
	testkit.Eventually(t, "answers by side and version", func() bool {
		r := p.Report(time.Now())
		return r.Versions["4.3.0"] > 0 && len(r.Recent) > 0 && r.Recent[0].Side == "green"
	})
}

// Behind the address there are two proxies, of which one was forgotten when the other was
// told to send everything to green.
func TestAForgottenProxyIsMet(t *testing.T) {
	var connections atomic.Int64
	number := func(ctx context.Context, _ net.Conn) context.Context {
		return context.WithValue(ctx, connection{}, connections.Add(1))
	}
	s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set(front.SideHeader, "green")
		if r.Context().Value(connection{}).(int64)%2 == 0 {
			w.Header().Set(front.SideHeader, "blue")
		}
	}))
	s.Config.ConnContext = number
	s.Start()
	t.Cleanup(s.Close)
	p := run(t, Config{Fronts: []string{s.Listener.Addr().String()}})
	testkit.Eventually(t, "enough answers", func() bool {
		seen := p.Report(time.Now()).Seen(time.Time{})
		return seen[0]+seen[1] > 200
	})
	if seen := p.Report(time.Now()).Seen(time.Time{}); seen[0] < 50 {
		t.Errorf("%d answers of the forgotten proxy, of %d", seen[0], seen[0]+seen[1])
	}
}

type connection struct{}

func TestAGatewayThatNamesNoInstanceLostTheRequest(t *testing.T) {
	p := runProber(t, Config{}, func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusBadGateway) })
	testkit.Eventually(t, "a lost one", func() bool { r := p.Report(time.Now()); return r.Lost > 0 && r.Failing == 0 })
	// Nobody there at all is lost too, and a gap that lasts is counted while it does.
	q := New(Config{Door: door.New(plan.Entrance{}, secret.Values{}), Path: "/", Fronts: []string{"127.0.0.1:1"},
		Rate: 1, Timeout: time.Second, Status: 200})
	q.probe(q.clients[0], q.config.Fronts[0], "")
	now := time.Now()
	q.lastGood = now.Add(-3 * time.Second)
	r := q.Report(now)
	if r.Lost != 1 || r.LongestGap != 3*time.Second || r.LastLost() != "connection refused" {
		t.Errorf("report %+v", r)
	}
	// That says nothing of a side; a gateway that answers for nobody does, of whichever it was.
	if e := r.Over(time.Time{}); e.Unreached != 1 || e.Nobody.Of != 0 || r.Recent[0].Kind != reading.Unreached {
		t.Errorf("what came of it is %+v", e)
	}
	if e := p.Report(time.Now()).Over(time.Time{}); e.Nobody.Of == 0 || e.Nobody.Bad != e.Nobody.Of || e.Unreached > 0 {
		t.Errorf("what came of those to the gateway is %+v", e)
	}
}

// A good answer has what the plan wants in it, and comes in time; who answers what is told
// by side.
func TestWhatAGoodAnswerIs(t *testing.T) {
	var n atomic.Int64
	hang := make(chan struct{})
	c := Config{Contains: "ship", JSON: []plan.JSONValue{{Path: "company", Want: "Linea Vessa"}},
		Slow: 200 * time.Millisecond, Timeout: time.Second}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set(front.SideHeader, "green")
		w.Header().Set(front.InstanceHeader, "green-1")
		switch n.Add(1) {
		case 1:
			fmt.Fprint(w, `{"company":"Linea Vessa","ship":"Aurelia"}`)
		case 2:
			fmt.Fprint(w, `{"company":"Linea Vessa"}`)
		case 3:
			fmt.Fprint(w, `{"company":"Somebody","ship":"Aurelia"}`)
		case 4:
			time.Sleep(300 * time.Millisecond) // longer than an answer may take
			fmt.Fprint(w, `{"company":"Linea Vessa","ship":"Aurelia"}`)
		case 5:
			w.Header().Set("Age", "9")
			fmt.Fprint(w, `{}`)
		default:
			<-hang
		}
	}))
	defer s.Close()
	defer close(hang)
	c.Fronts, c.Path, c.Door, c.Status, c.Rate = []string{s.Listener.Addr().String()}, "/",
		door.New(plan.Entrance{}, secret.Values{}), 200, 1
	p := New(c)
	for range 6 {
		p.probe(p.clients[0], c.Fronts[0], "")
	}
	r := p.Report(time.Now())
	var kinds []reading.Answer
	for _, m := range r.Recent {
		kinds = append(kinds, m.Kind)
	}
	want := []reading.Answer{reading.GoodAnswer, reading.FailingAnswer, reading.FailingAnswer, reading.SlowAnswer,
		reading.FailingAnswer, reading.LostAnswer}
	if !slices.Equal(kinds, want) || r.Slow != 1 || r.Failing != 3 || r.Lost != 1 ||
		!strings.Contains(r.Bad[len(r.Bad)-2].Why, `a body with "ship"`) {
		t.Errorf("%q, %+v", kinds, r)
	}
	// What came from a cache is no side's.
	if e := r.Over(time.Time{}); e.Sides != [2]reading.Tally{{}, {Of: 4, Bad: 3}} ||
		e.Nobody != (reading.Tally{Of: 1, Bad: 1}) || e.Unreached > 0 {
		t.Errorf("by side it is %+v", e)
	}
}

func TestTheLogForgetsButTheCountsDoNot(t *testing.T) {
	p := New(Config{})
	for n := range 2000 {
		p.record(time.Now(), reading.Mark{Side: "blue"}, fmt.Sprint("v", n), "")
	}
	r := p.Report(time.Now())
	if r.Answers != 2000 || len(r.Recent) != recentLength || len(r.Versions) > 20 {
		t.Errorf("%d answers, %d marks, %d versions", r.Answers, len(r.Recent), len(r.Versions))
	}
}

func TestTheSecretIsMadeOnce(t *testing.T) {
	file := filepath.Join(t.TempDir(), "secret")
	first, err := Secret(file)
	if err != nil || len(first) < 20 {
		t.Fatalf("secret %q, %v", first, err)
	}
	again, err := Secret(file)
	if err != nil || again != first {
		t.Errorf("a second time it is %q, %v", again, err)
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("mode %v, %v", info.Mode(), err)
	}
	if _, err := Secret(t.TempDir()); err == nil {
		t.Error("a folder was read as a secret")
	}
}

// Answers are known by their side: as they name it, or by the version that only one
// side runs.
func TestAnswersAreCountedBySide(t *testing.T) {
	p := New(Config{Version: plan.Field{Header: "X-Version"}})
	answer := func(name, value string) *http.Response { return &http.Response{Header: http.Header{name: {value}}} }
	for _, c := range []struct {
		runs    [2]Runs
		answer  *http.Response
		version string
		want    string
	}{
		{[2]Runs{{true, "1"}, {true, "2"}}, answer("X-Version", "2"), "2", "green"},
		{[2]Runs{{true, "1"}, {true, "2"}}, answer("X-Version", "1"), "1", "blue"},
		{[2]Runs{{true, "1"}, {true, "1"}}, answer("X-Version", "1"), "1", ""},
		{[2]Runs{{true, ""}, {true, "2"}}, answer("X-Version", "3"), "3", ""},
		{[2]Runs{{true, "1"}, {true, "2"}}, answer("Vaiven-Side", "blue"), "2", "blue"},
		{[2]Runs{{true, ""}, {true, "2"}}, answer("X-Version", "2"), "2", ""},
		{[2]Runs{{false, ""}, {true, "2"}}, answer("X-Version", "2"), "2", "green"},
	} {
		p.Sides(c.runs)
		if got := p.side(c.answer, nil, c.version); got != c.want {
			t.Errorf("runs %v, answer %v: %q, want %q", c.runs, c.answer.Header, got, c.want)
		}
	}
	begun := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	for n := range 100 {
		p.record(begun.Add(time.Duration(n)*100*time.Millisecond), reading.Mark{Side: []string{"blue", "green"}[n/50]},
			"", "")
	}
	if got := p.Report(begun).Seen(begun); got != [2]int64{50, 50} {
		t.Errorf("seen %v", got)
	}
	if got := p.Report(begun).Seen(begun.Add(5 * time.Second)); got != [2]int64{0, 50} {
		t.Errorf("seen in the second half: %v", got)
	}
}

// A secret's file that somebody made and did not come to write is no secret.
func TestAnEmptySecretIsMadeAnew(t *testing.T) {
	file := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	secret, err := Secret(file)
	if err != nil || len(secret) < 20 {
		t.Fatalf("the secret is %q, %v", secret, err)
	}
	if again, err := Secret(file); err != nil || again != secret {
		t.Errorf("then it is %q, %v", again, err)
	}
}

// As many requests are sent as a person wants, by so many clients, each of which is one to the front.
func TestAsManyAsAsked(t *testing.T) {
	for _, fresh := range []bool{false, true} {
		var mu sync.Mutex
		clients, sessions, connections := map[string]int{}, map[string]int{}, map[string]int{}
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			mu.Lock()
			defer mu.Unlock()
			value := r.Header.Get("X-Passenger")
			clients[value]++
			connections[r.RemoteAddr]++
			if c, err := r.Cookie("session"); err == nil {
				sessions[c.Value]++
			}
			http.SetCookie(w, &http.Cookie{Name: "session", Value: value})
			w.Header().Set(front.SideHeader, "green")
			if len(clients)%4 == 0 {
				w.Header().Set(front.SideHeader, "blue")
			}
		}))
		p := New(Config{Fronts: []string{s.Listener.Addr().String()}, Path: "/", Status: 200, Timeout: 5 * time.Second,
			Rate: 1, Key: plan.Key{From: plan.KeyHeader, Name: "X-Passenger"}})
		p.Send(t.Context(), Sending{Requests: 100, Clients: 10, Fresh: fresh})
		s.Close()
		if r := p.Report(time.Now()); r.Answers != 100 || r.Failing+r.Lost > 0 ||
			r.Seen(time.Time{})[split.Green] == 0 {
			t.Errorf("fresh %v: %+v", fresh, r)
		}
		if len(clients) != 10 || len(sessions) != 10 || fresh && len(connections) != 100 ||
			!fresh && len(connections) != 10 {
			t.Errorf("fresh %v: %d clients, %d with their session, on %d connections", fresh, len(clients),
				len(sessions), len(connections))
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	p := New(Config{Fronts: []string{"127.0.0.1:1"}, Path: "/", Status: 200, Rate: 1})
	p.Send(ctx, Sending{Requests: 1000, Per: time.Hour})
	if r := p.Report(time.Now()); r.Answers > 1 {
		t.Errorf("of one that was ended: %+v", r)
	}
}

// What the live side's answers have before anything moves is wanted after; what they have not is not.
func TestLikelyContent(t *testing.T) {
	for _, c := range []struct {
		name, live, then string
		failing          bool
	}{
		{"the same", "sailings of today", "sailings of today", false},
		{"wrong with a good status", "sailings of today", "an error page", true},
		{"it names the version", "version 4.2.0", "version 4.3.0", false},
	} {
		var body atomic.Pointer[string]
		body.Store(&c.live)
		p := runProber(t, Config{Likely: plan.HTTP{Contains: "sailings"}},
			func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, *body.Load()) })
		p.Learn(true)
		more := func(n int64) reading.Door {
			before := p.Report(time.Now()).Answers
			testkit.Eventually(t, "answers", func() bool { return p.Report(time.Now()).Answers >= before+n })
			return p.Report(time.Now())
		}
		if d := more(2 * heldLeast); d.Failing > 0 {
			t.Errorf("%s: while it learns %d fail", c.name, d.Failing)
		}
		p.Learn(false)
		body.Store(&c.then)
		if d := more(50); (d.Failing > 0) != c.failing {
			t.Errorf("%s: then %d fail: %+v", c.name, d.Failing, d.Bad)
		}
	}
}

package check

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
)

func instance(t *testing.T, name string, h http.HandlerFunc) reading.Instance {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return reading.Instance{Name: name, Part: "web", Side: split.Green, Address: s.Listener.Addr().String(),
		Running: true}
}

func nobody(t *testing.T) reading.Instance {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l.Close()
	return reading.Instance{Name: "green-9", Part: "web", Address: l.Addr().String(), Running: true}
}

// here is where all that is checked is reached from.
func here(reading.Instance) place.Place { return place.Local{} }

// on is how a check is made on an instance from here.
func on(i reading.Instance) Target {
	return Target{From: place.Local{}, Values: i.Values("sailings")}
}

func read(t *testing.T, target Target, what plan.Asking) Reading {
	t.Helper()
	return target.Read(t.Context(), plan.Check{Within: 10 * time.Second, What: what})
}

// said is a reading in the words that an operator sees.
func said(r Reading) string { return fmt.Sprintf("want %s, got %s", r.Want, r.Got) }

func TestHTTP(t *testing.T) {
	good := plan.HTTP{Method: "GET", URL: "/sailings", Status: 200}
	i := instance(t, "green-1", func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == "/slow":
			<-r.Context().Done()
		case r.URL.Path == "/gone":
			http.Redirect(w, r, "/sailings", http.StatusFound)
		case r.URL.Path == "/locked":
			w.WriteHeader(http.StatusUnauthorized)
		case r.Header.Get("Pragma") != "no-cache" || r.Method == "POST" && r.Host != "sailings.example":
			http.Error(w, "not past caches", http.StatusBadRequest)
		default:
			w.Header().Set("X-Version", "4.3.0")
			fmt.Fprint(w, `{"version":"4.3.0","sailings":[{"ship":"Aurelia","berths":12,"car":true,"note":null}]}`)
		}
	})
	i.Version = "4.3.0"
	for _, c := range []struct {
		name   string
		change func(*plan.HTTP)
		pass   bool
		want   string // in what is wanted or got
	}{
		{"as it should be", func(*plan.HTTP) {}, true, "status 200"},
		{"any good status", func(h *plan.HTTP) { h.Status = 0 }, true, "status 200"},
		{"another status", func(h *plan.HTTP) { h.Status = 201 }, false, "want status 201, got status 200"},
		{"a redirect is not followed", func(h *plan.HTTP) { h.URL = "/gone" }, false, "got status 302"},
		{"unless asked", func(h *plan.HTTP) { h.URL, h.Redirects = "/gone", true }, true, "status 200"},
		{"text that is there", func(h *plan.HTTP) { h.Contains = "Aurelia" }, true, ""},
		{"text that is not", func(h *plan.HTTP) { h.Contains = "Brisa" }, false, `a body with "Brisa"`},
		{"a value", func(h *plan.HTTP) { h.JSON = []plan.JSONValue{{Path: "sailings.0.ship", Want: "Aurelia"}} }, true,
			""},
		{"a number, a truth and nothing", func(h *plan.HTTP) {
			h.JSON = []plan.JSONValue{{Path: "sailings.0.berths", Want: "12"}, {Path: "sailings.0.car", Want: "true"},
				{Path: "sailings.0.note", Want: "null"}}
		}, true, ""},
		{"another value", func(h *plan.HTTP) { h.JSON = []plan.JSONValue{{Path: "sailings.0.berths", Want: "13"}} },
			false, "to be 13, got 12"},
		{"a path that leads nowhere",
			func(h *plan.HTTP) { h.JSON = []plan.JSONValue{{Path: "sailings.3.ship", Want: "x"}} }, false,
			`nothing at index "3" of 1`},
		{"a path below a value", func(h *plan.HTTP) { h.JSON = []plan.JSONValue{{Path: "version.x", Want: "x"}} },
			false, "nothing below"},
		{"the version by a header", func(h *plan.HTTP) { h.Version = plan.Field{Header: "X-Version"} }, true, ""},
		{"the version in the body", func(h *plan.HTTP) { h.Version = plan.Field{JSON: "version"} }, true, ""},
		{"no version", func(h *plan.HTTP) { h.Version = plan.Field{Header: "X-Other"} }, false,
			"version 4.3.0, got version none"},
		{"a credential that is not taken", func(h *plan.HTTP) { h.URL = "/locked" }, false,
			"credential not accepted: status 401"},
		{"a method and headers",
			func(h *plan.HTTP) { h.Method, h.Headers = "POST", map[string]string{"host": "sailings.example"} }, true,
			""},
	} {
		h := good
		c.change(&h)
		if r := read(t, on(i), h); r.Good != c.pass || !strings.Contains(said(r), c.want) {
			t.Errorf("%s: good %v, %s", c.name, r.Good, said(r))
		}
	}
	slow := good
	slow.URL = "/slow"
	if r := on(i).Read(t.Context(), plan.Check{Within: 50 * time.Millisecond, What: slow}); r.Good ||
		!strings.Contains(r.Got, "no answer in time after ") {
		t.Errorf("too slow: %s", said(r))
	}
	if r := read(t, on(nobody(t)), good); r.Good || r.Reached ||
		!strings.HasPrefix(r.Got, "connection refused after ") {
		t.Errorf("nobody there: %s", said(r))
	}
	unknown := i // somebody else started it: with a version that is not known nothing can be compared
	unknown.Version = ""
	held := good
	held.Version, held.JSON = plan.Field{JSON: "version"}, []plan.JSONValue{{Path: "version", Want: "{version}"}}
	held.Contains = `"version":"{version}"`
	if r := read(t, on(unknown), held); !r.Good {
		t.Errorf("its version is not known, and it is held to that: %s", said(r))
	}
	other := i
	other.Version = "4.2.0"
	h := good
	h.Version, h.Contains = plan.Field{JSON: "version"}, "Aurelia"
	if r := read(t, on(other), h); r.Good || !strings.Contains(r.Answer, "HTTP 200 OK") ||
		!strings.Contains(r.Answer, `"ship":"Aurelia"`) {
		t.Errorf("an answer of another version passes, or is not kept in full: %+v", r)
	}
}

// An answer from a cache is marked, and proves nothing.
func TestCaches(t *testing.T) {
	built := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct{ name, header, value, want string }{
		{"fresh", "X-Other", "1", ""},
		{"aged", "Age", "340", "Age: 340"},
		{"no age", "Age", "0", ""},
		{"a hit", "X-Cache", "HIT from harbour", "X-Cache: HIT from harbour"},
		{"a miss", "X-Cache", "MISS", ""},
		{"by RFC 9211", "Cache-Status", "harbour; hit", "Cache-Status: harbour; hit"},
		{"passed on", "Via", "1.1 harbour", "Via: 1.1 harbour"},
		{"older than the build", "Last-Modified", built.Add(-time.Hour).Format(http.TimeFormat), "before the build"},
		{"younger than the build", "Last-Modified", built.Add(time.Hour).Format(http.TimeFormat), ""},
	} {
		i := instance(t, "green-1", func(w http.ResponseWriter, _ *http.Request) { w.Header().Set(c.header, c.value) })
		target := on(i)
		target.Built = built
		r := read(t, target, plan.HTTP{Method: "GET", URL: "/", Status: 200})
		if r.Good != (c.want == "") || !strings.Contains(r.Got, c.want) {
			t.Errorf("%s: good %v, %s", c.name, r.Good, said(r))
		}
		if r := read(t, target, plan.HTTP{Method: "GET", URL: "/", Status: 200, Caches: true}); !r.Good {
			t.Errorf("%s, where caches count: %s", c.name, said(r))
		}
	}
}

// Whatever comes back, no secret is shown.
func TestSecretsAreNeverShown(t *testing.T) {
	t.Setenv("TOKEN", "sea salt")
	secrets, err := secret.Read(map[string]plan.Secret{"token": {Env: "TOKEN"}})
	if err != nil {
		t.Fatal(err)
	}
	i := instance(t, "green-1", func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") == "Bearer sea salt" {
			fmt.Fprint(w, `{"ok":true}`)
			return
		}
		http.Error(w, "what is "+r.Header.Get("Authorization")+"? I wanted sea salt", 500)
	})
	target := on(i)
	target.Secrets = secrets
	right := plan.HTTP{Method: "GET", URL: "/", Status: 200,
		Headers: map[string]string{"Authorization": "Bearer {secret token}"},
		JSON:    []plan.JSONValue{{Path: "ok", Want: "true"}}}
	if r := read(t, target, right); !r.Good {
		t.Errorf("with the secret: %s", said(r))
	}
	wrong := right
	wrong.Headers = map[string]string{"Authorization": "{secret token}!"}
	for _, what := range []plan.Asking{
		wrong, plan.HTTP{Method: "GET", URL: "/{secret token}", Status: 200},
		plan.Command{Words: []string{"/bin/sh", "-c", "echo with {secret token}; exit 1"}},
		plan.SQL{URL: "postgres://u:{secret token}@" + nobody(t).Address + "/fares?sslmode=disable", Query: "select 1"},
		plan.SQL{URL: "://{secret token}", Query: "select 1"},
		plan.TCP{Address: "{secret token}"},
	} {
		r := read(t, target, what)
		if all := said(r) + r.Answer; r.Good || strings.Contains(all, "salt") {
			t.Errorf("%T: good %v, %s\n%s", what, r.Good, said(r), r.Answer)
		}
	}
}

func TestWordsTellFaultsApart(t *testing.T) {
	for _, c := range []struct {
		err  error
		want string
	}{
		{&net.DNSError{Name: "fares.example", IsNotFound: true}, "no such name: fares.example"},
		{context.DeadlineExceeded, "no answer in time"},
		{fmt.Errorf("read: %w", errors.New("something else")), "something else"},
	} {
		if got := Words(c.err); !strings.Contains(got, c.want) {
			t.Errorf("Words(%v) = %q, want %q", c.err, got, c.want)
		}
	}
}

// A check is read as often as its thresholds need, and the first call after a start
// is not judged where there is a settle time.
func TestJudge(t *testing.T) {
	for _, c := range []struct {
		name   string
		plays  string // what is answered in turn: + or -, the last again and again
		up     int
		down   int
		settle bool
		pass   bool
		tries  int
	}{
		{"one good is enough", "+", 1, 1, false, true, 1},
		{"one bad is enough", "-", 1, 1, false, false, 1},
		{"the first is not judged", "-+", 1, 1, true, true, 2},
		{"it counts without time to settle", "-+", 1, 1, false, false, 1},
		{"three in a row", "++-+++", 3, 3, false, true, 6},
		{"two bad in a row", "+--", 3, 2, false, false, 3},
		{"flapping for ever", "+-+-+-+-+-+-+-+-+-", 2, 2, false, false, 16},
	} {
		n := 0
		i := instance(t, "green-1", func(w http.ResponseWriter, _ *http.Request) {
			if c.plays[min(n, len(c.plays)-1)] == '-' {
				http.Error(w, "the timetable is still being read", 500)
			}
			n++
		})
		check := plan.Check{Name: "search", Every: time.Millisecond, Within: 10 * time.Second, Up: c.up, Down: c.down,
			What: plan.HTTP{Method: "GET", URL: "/"}}
		if c.settle {
			check.Settle = time.Millisecond
		}
		r := on(i).Judge(t.Context(), check)
		if r.Pass != c.pass || r.Tries != c.tries || len(r.History) != min(c.tries, historyLength) || r.Since.IsZero() {
			t.Errorf("%s: pass %v after %d tries, history %v", c.name, r.Pass, r.Tries, r.History)
		}
		if !r.Pass && !strings.Contains(r.Answer, "timetable") {
			t.Errorf("%s: the failing answer is not kept: %q", c.name, r.Answer)
		}
	}
}

// What an instance says of itself.
func TestAsk(t *testing.T) {
	says := plan.Says{Path: "/about", Build: plan.Field{JSON: "build"}, Version: plan.Field{Header: "X-Version"},
		Runtime: plan.Field{JSON: "runtime"}}
	i := instance(t, "green-1", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("X-Version", "4.3.0")
		fmt.Fprint(w, `{"build":"b92f","runtime":"vessa 1.8"}`)
	})
	if self, err := on(i).Ask(t.Context(), says, 10*time.Second); err != nil ||
		self != (Self{"b92f", "4.3.0", "vessa 1.8"}) {
		t.Errorf("it says %+v, %v", self, err)
	}
	old := instance(t, "green-1", func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("Age", "3") })
	if _, err := on(old).Ask(t.Context(), says, 10*time.Second); err == nil || !strings.Contains(err.Error(), "cache") {
		t.Errorf("from a cache: %v", err)
	}
	mute := instance(t, "green-1", http.NotFound)
	if _, err := on(mute).Ask(t.Context(), says, 10*time.Second); err == nil || !strings.Contains(err.Error(), "404") {
		t.Errorf("one that says nothing: %v", err)
	}
}

// monitored is a plan with one part whose health is read at every round that comes
// after the interval.
func monitored(every time.Duration) *plan.Plan {
	return &plan.Plan{Service: "sailings", Parts: []plan.Part{{
		Name: "web",
		Health: plan.Check{Name: "health", Every: every, Within: 10 * time.Second, Up: 2, Down: 2,
			What: plan.HTTP{Method: "GET", URL: "/"}},
	}}}
}

// A part is read as often as its plan says, however often others are.
func TestMonitorReadsEachPartAtItsPace(t *testing.T) {
	var calls atomic.Int64
	i := instance(t, "green-1", func(http.ResponseWriter, *http.Request) { calls.Add(1) })
	m := NewMonitor(monitored(time.Hour), secret.Values{}, here)
	for range 5 {
		if c := m.Round(t.Context(), []reading.Instance{i})[0]; c.State != reading.Answering || len(c.History) != 1 {
			t.Errorf("condition %+v", c)
		}
	}
	if n := calls.Load(); n != 1 {
		t.Errorf("asked %d times within its interval", n)
	}
	if c := m.Round(t.Context(), []reading.Instance{nobody(t)})[0]; c.State != reading.Starting {
		t.Errorf("one that does not listen is %s", c.State)
	}
}

func TestMonitorFollowsAnInstanceThroughItsLife(t *testing.T) {
	var well atomic.Bool
	i := instance(t, "green-1", func(w http.ResponseWriter, r *http.Request) {
		if !well.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	})
	i.Started = time.Now()
	m := NewMonitor(monitored(0), secret.Values{}, here)
	round := func(name string, want reading.Health) reading.Condition {
		t.Helper()
		c := m.Round(t.Context(), []reading.Instance{i})[0]
		if c.State != want {
			t.Fatalf("%s: %s (%s), want %s", name, c.State, c.Said, want)
		}
		return c
	}
	for range 4 {
		if c := round("never well so far", reading.Answering); !strings.HasPrefix(c.Said, "status 503 after ") {
			t.Errorf("it says %q", c.Said)
		}
	}
	well.Store(true)
	round("once well", reading.Answering)
	up := round("twice well", reading.Healthy)
	well.Store(false)
	if c := round("once unwell", reading.Healthy); !c.Since.Equal(up.Since) {
		t.Error("a single bad reading changed since when it is healthy")
	}
	failing := round("twice unwell", reading.Failing)
	if n := len(failing.History); n != 8 || failing.History[n-1] != -1 || failing.History[n-3] < 0 {
		t.Errorf("history %v", failing.History)
	}
	i.Running, i.Exit = false, "exit status 3"
	if c := round("ended", reading.Exited); c.Said != "exit status 3" {
		t.Errorf("it says %q", c.Said)
	}
	i.Exit, i.Waits = "", "Unschedulable: 0/2 nodes are available"
	if c := round("still to run", reading.Starting); c.Said != i.Waits {
		t.Errorf("it says %q", c.Said)
	}
	i.Waits = ""
	// Another instance under the same name starts from nothing.
	i.Running, i.Started = true, i.Started.Add(time.Second)
	well.Store(true)
	round("a new one", reading.Answering)
}

// carried is a way to instances that may be ill itself.
type carried struct {
	place.Local
	ill error
}

func (c *carried) Carries(context.Context) error { return c.ill }

// An instance that is not reached keeps its condition while what carries connections to it does not answer, and a
// check of it says so.
func TestNothingIsKnownWhileTheWayIsIll(t *testing.T) {
	i := instance(t, "green-1", func(http.ResponseWriter, *http.Request) {})
	way := &carried{}
	m := NewMonitor(monitored(0), secret.Values{}, func(reading.Instance) place.Place { return way })
	rounds := func(n int) (c reading.Condition) {
		for range n {
			c = m.Round(t.Context(), []reading.Instance{i})[0]
		}
		return c
	}
	before := rounds(5)
	if before.State != reading.Healthy {
		t.Fatalf("it is %+v", before)
	}
	i.Address = "127.0.0.1:1"
	way.ill = errors.New("the cluster's API does not answer")
	if c := rounds(5); c.State != reading.Healthy || !c.At.Equal(before.At) || len(c.History) != len(before.History) {
		t.Errorf("while the way is ill it is %+v, before %+v", c, before)
	}
	if r := (Target{From: way, Values: i.Values("sailings")}).Read(t.Context(),
		plan.Check{What: plan.TCP{Address: "{address}"}, Within: time.Second}); !r.Unmade ||
		r.Found != way.ill.Error() {
		t.Errorf("a check says %+v", r)
	}
	way.ill = nil
	if c := rounds(5); c.State != reading.Failing {
		t.Errorf("when the way is well again it is %+v", c)
	}
}

func FuzzLookUp(f *testing.F) {
	f.Add([]byte(`{"a":[{"b":1}]}`), "a.0.b")
	f.Add([]byte(`[1,2`), "0")
	f.Add([]byte(`"x"`), "")
	f.Fuzz(func(t *testing.T, body []byte, path string) {
		text, err := lookUp(body, path)
		if err == nil && text == "" && !json.Valid(body) && len(body) == 0 {
			t.Fatalf("%q was found in nothing", path)
		}
	})
}

func BenchmarkRound(b *testing.B) {
	s := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	defer s.Close()
	m := NewMonitor(monitored(0), secret.Values{}, here)
	i := []reading.Instance{{Name: "green-1", Part: "web", Address: s.Listener.Addr().String(), Running: true}}
	b.ReportAllocs()
	for b.Loop() {
		m.Round(context.Background(), i)
	}
}

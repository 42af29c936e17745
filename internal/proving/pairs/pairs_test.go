package pairs

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
)

func serve(t *testing.T, h http.HandlerFunc) []string {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return []string{s.Listener.Addr().String()}
}

func config(blue, green []string, requests ...string) Config {
	c := Config{Sides: [2][]string{blue, green}, Rate: 10_000, Repeat: 4, Within: 10 * time.Second, Spare: split.Green}
	for _, r := range requests {
		c.Requests = append(c.Requests, plan.Request{Method: "GET", Path: r})
	}
	return c
}

func what(r Report) []string {
	var list []string
	for _, f := range r.Findings {
		list = append(list, fmt.Sprintf("%d× %s %s: %s → %s", f.Count, f.Request, f.What, f.Value[0], f.Value[1]))
	}
	return list
}

func TestTheSameRequestToBoth(t *testing.T) {
	answer := func(side string, price int) http.HandlerFunc {
		var n atomic.Int64
		return func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("X-Side", side)
			switch r.URL.Path {
			case "/gone":
				if side == "green" {
					http.NotFound(w, r)
				}
			case "/text":
				fmt.Fprint(w, "of "+side)
			case "/sometimes":
				if n.Add(1)%2 == 0 && side == "green" {
					fmt.Fprint(w, `{"a":1,"late":true}`)
					return
				}
				fmt.Fprint(w, `{"a":1}`)
			case "/same":
				fmt.Fprint(w, "well")
			default:
				fmt.Fprintf(w, `{"at":"%s","fares":[{"price":%d}]}`, time.Now(), price)
			}
		}
	}
	c := config(serve(t, answer("blue", 900)), serve(t, answer("green", 950)), "/fares", "/gone", "/text", "/sometimes",
		"/same")
	c.Ignore = []string{"json at", "header x-side"}
	c.Hide = func(text string) string { return strings.ReplaceAll(text, "950", "(secret)") }
	r := Compare(t.Context(), c)
	if r.Pairs != 20 || r.Same != 6 {
		t.Errorf("%d of %d are the same, want 6 of 20", r.Same, r.Pairs)
	}
	want := []string{
		"4× GET /fares body fares.0.price: 900 → (secret)",
		"4× GET /gone status: 200 → 404",
		"4× GET /text body: of blue → of green",
		"2× GET /sometimes body late:  → true",
	}
	if got := what(r); !slices.Equal(got, want) {
		t.Errorf("found\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if f := r.Findings[0]; !strings.Contains(f.Answer[0], "HTTP 200 OK") ||
		!strings.Contains(f.Answer[0], `"price": 900`) || strings.Contains(f.Answer[1], "950") {
		t.Errorf("the example is %q", f.Answer)
	}
	if r.Times[0].P50 <= 0 || r.Times[1].P99 < r.Times[1].P50 {
		t.Errorf("times %+v", r.Times)
	}
}

func TestOneSideThatDoesNotAnswer(t *testing.T) {
	well := serve(t, func(w http.ResponseWriter, _ *http.Request) {})
	gone := httptest.NewServer(nil)
	gone.Close()
	r := Compare(t.Context(), config(well, []string{gone.Listener.Addr().String()}, "/"))
	if got := what(r); len(got) != 1 || got[0] != "4× GET / answer: status 200 → connection refused" {
		t.Errorf("found %q", got)
	}
}

func TestCachedAnswersAreCounted(t *testing.T) {
	well := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Cache-Control") == "" {
			t.Error("caches are not asked past")
		}
	})
	stale := serve(t, func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("Age", "340") })
	c := config(well, stale, "/")
	c.Ignore = []string{"header Age"}
	if r := Compare(t.Context(), c); r.Cached != 4 {
		t.Errorf("%d of 4 are seen to come from a cache", r.Cached)
	}
}

// Requests go out at the rate and no faster.
func TestTheRateIsKept(t *testing.T) {
	var n atomic.Int64
	both := serve(t, func(http.ResponseWriter, *http.Request) { n.Add(1) })
	c := config(both, both, "/")
	c.Rate, c.Repeat = 200, 1_000_000
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	begun := time.Now()
	Compare(ctx, c)
	took := time.Since(begun)
	if got, most := n.Load(), 2*int64(c.Rate*took.Seconds()+3); got == 0 || got > most {
		t.Errorf("%d requests in %v at 200 pairs a second, want at most %d", got, took, most)
	}
}

func TestWarmUp(t *testing.T) {
	var calls [2]atomic.Int64
	var addresses []string
	for n := range calls {
		addresses = append(addresses, serve(t, func(w http.ResponseWriter, _ *http.Request) {
			if calls[n].Add(1) == 1 {
				w.WriteHeader(http.StatusServiceUnavailable)
			}
		})...)
	}
	w := WarmUp(t.Context(), config(nil, addresses, "/"), split.Green, 200)
	// So many that the last tenth is sent when each instance has answered before.
	if w.Requests != 200 || w.Failing != 2 || w.AtLast != 0 || calls[0].Load() != 100 || calls[1].Load() != 100 {
		t.Errorf("warmth %+v, by instance %d and %d", w, calls[0].Load(), calls[1].Load())
	}
}

func write(t *testing.T, name, text string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

func TestRequestsFromFiles(t *testing.T) {
	log := write(t, "access.log", `127.0.0.1 - - [23/Nov/2026:21:00:00 +0000] "GET /sailings?from=vessa HTTP/1.1" 200 12
127.0.0.1 - marit [23/Nov/2026:21:00:01 +0000] "GET /sailings?from=vessa HTTP/1.1" 200 12 "-" "a \"browser\""
127.0.0.1 - - [23/Nov/2026:21:00:02 +0000] "POST /fares HTTP/1.1" 201 0
a line that is none
127.0.0.1 - - [23/Nov/2026:21:00:02 +0000] "HEAD /berths HTTP/1.0" 200 0
`)
	har := write(t, "session.har", `{"log":{"entries":[
		{"request":{"method":"GET","url":"https://vessa.example/decks?n=1","headers":[{"name":"Accept","value":"text/html"},{"name":"Cookie","value":"secret"}]}},
		{"request":{"method":"POST","url":"https://vessa.example/book","headers":[],"postData":{"text":"{\"deck\":1}"}}}]}}`)
	names := func(list []plan.Request) string {
		var names []string
		for _, r := range list {
			names = append(names, r.String())
		}
		return strings.Join(names, ", ")
	}
	p := plan.Pairs{Requests: []plan.Request{{Method: "GET", Path: "/"}}, Log: log, HAR: har}
	list, skipped, err := Requests(p)
	if err != nil || names(list) != "GET /, GET /sailings?from=vessa, HEAD /berths, GET /decks?n=1" ||
		skipped.Writes != 2 {
		t.Errorf("requests %s, %d skipped, %v", names(list), skipped, err)
	}
	if h := list[3].Headers; len(h) != 1 || h["Accept"] != "text/html" {
		t.Errorf("headers %v: credentials of whoever recorded them are left out", h)
	}
	p.Writes = true
	if list, skipped, _ = Requests(p); skipped.Writes != 1 || list[len(list)-1].Body != `{"deck":1}` {
		t.Errorf("with writes: %s, %d skipped", names(list), skipped)
	}
	for _, bad := range []plan.Pairs{
		{Log: "/nowhere"}, {Log: write(t, "l", "some\nother text\n")}, {HAR: write(t, "h", "{")},
		{HAR: write(t, "h", `{"log":{"entries":[{"request":{"url":"::"}}]}}`)},
	} {
		if _, _, err := Requests(bad); err == nil {
			t.Errorf("%+v was read", bad)
		}
	}
}

// What is shown of two values begins where they differ, and holds no credential.
func TestWhereValuesDiffer(t *testing.T) {
	long := strings.Repeat("the same on both sides ", 40)
	got := apart([2]string{long + "north", long + "south"})
	if !strings.HasSuffix(got[0], "both sides north") || !strings.HasSuffix(got[1], "both sides south") ||
		!strings.HasPrefix(got[0], "…") {
		t.Errorf("shown as %q", got)
	}
	if got := apart([2]string{"404", "200"}); got != [2]string{"404", "200"} {
		t.Errorf("shown as %q", got)
	}
}

// Only what belongs to the service is sent, nothing that one side said goes to the other, and
// cookies and credentials are compared without being shown.
func TestWhatIsSentAndShown(t *testing.T) {
	har := write(t, "page.har", `{"log":{"entries":[
		{"request":{"method":"GET","url":"https://vessa.example/decks","headers":[{"name":"authorization","value":"Bearer herring"}],"cookies":[{"name":"a","value":"b"}]}},
		{"request":{"method":"GET","url":"https://cdn.example/decks.js","headers":[]}},
		{"request":{"method":"GET","url":"https://VESSA.example:443/fares?token=mackerel","headers":[]}},
		{"request":{"method":"GET","url":"data:text/plain,x","headers":[]}}]}}`)
	list, left, err := Requests(plan.Pairs{HAR: har})
	if err != nil || len(list) != 2 || left.Elsewhere != 2 {
		t.Fatalf("requests %v, %+v, %v", list, left, err)
	}
	if list, left, _ := Requests(plan.Pairs{HAR: har, Hosts: []string{"cdn.example"}}); len(list) != 1 ||
		left.Elsewhere != 3 {
		t.Errorf("of another host: %v, %+v", list, left)
	}
	var heard atomic.Pointer[string]
	side := func(name string) []string {
		return serve(t, func(w http.ResponseWriter, r *http.Request) {
			text := fmt.Sprint(r.Header)
			if name == "green" {
				heard.Store(&text)
			}
			if r.Header.Get("Cookie") != "mine="+name || strings.Contains(text, "herring") {
				t.Errorf("%s is sent %s", name, text)
			}
			http.SetCookie(w, &http.Cookie{Name: "ship", Value: "nordlys-of-" + name})
			w.Header().Set("X-Token", "salmon-"+name)
			fmt.Fprintf(w, `{"apiKey":"cod-%s","deck":%q}`, name, name)
		})
	}
	c := config(side("blue"), side("green"))
	c.Requests = list
	c.Headers = [2][]map[string]string{{{"Cookie": "mine=blue"}}, {{"Cookie": "mine=green"}}}
	r := Compare(t.Context(), c)
	text := fmt.Sprintf("%+v", r)
	for _, hidden := range []string{"herring", "mackerel", "nordlys", "salmon", "cod-"} {
		if strings.Contains(text, hidden) {
			t.Errorf("%q is shown: %s", hidden, text)
		}
	}
	if len(r.Findings) != 8 || !strings.Contains(text, "(hidden 1)") || strings.Contains(*heard.Load(), "nordlys") {
		t.Errorf("found %s; green heard %s", text, *heard.Load())
	}
}

func FuzzLog(f *testing.F) {
	f.Add(`127.0.0.1 - - [23/Nov/2026:21:00:00 +0000] "GET /sailings HTTP/1.1" 200 12`)
	f.Add(`" " "`)
	f.Fuzz(func(t *testing.T, text string) {
		c := collection{seen: map[string]bool{}}
		if err := c.log(strings.NewReader(text)); err != nil {
			return
		}
		for _, q := range c.list {
			if q.Method != "GET" && q.Method != "HEAD" || !strings.HasPrefix(q.Path, "/") {
				t.Fatalf("taken from a log: %+v", q)
			}
		}
	})
}

func BenchmarkCompare(b *testing.B) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, `{"company":"Linea Vessa","sailings":[{"ship":"Aurelia","price":900},{"ship":"Brisa","price":950}]}`)
	}))
	defer s.Close()
	addresses := []string{s.Listener.Addr().String()}
	c := Config{Requests: []plan.Request{{Method: "GET", Path: "/"}}, Sides: [2][]string{addresses, addresses},
		Rate: 1e9, Repeat: b.N, Within: time.Minute}
	b.ReportAllocs()
	b.ResetTimer()
	if r := Compare(context.Background(), c); r.Same != b.N {
		b.Fatalf("%d of %d are the same", r.Same, b.N)
	}
}

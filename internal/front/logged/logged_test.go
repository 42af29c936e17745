package logged

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front/clients"
	"vaiven/internal/world/accesslog"
	"vaiven/internal/world/place"
	"vaiven/lab/fronttest"
	"vaiven/lab/placetest"
	"vaiven/lab/testkit"
)

// What a line says is counted for who answered, who was tried before, and the side that
// lost it.
func TestWhatALineCountsFor(t *testing.T) {
	sides := [2][]reading.Server{{{Name: "blue-1", Address: "127.0.0.1:1"}, {Name: "blue-2", Address: "127.0.0.1:2"}},
		{{Name: "green-1", Address: "127.0.0.1:3"}}}
	// Requests and failures of blue-1, blue-2 and green-1, and what blue and green lost.
	type counts struct {
		requests, failures [3]int64
		lost               [2]int64
		left               int64 // of green-1
		own                int64 // assigned to nobody
		cut                int64 // of green-1
		probes             int64 // likewise
	}
	for _, c := range []struct {
		name, line string
		want       counts
	}{
		{"answered", `{"status":"200","side":"green","upstream":"127.0.0.1:3","statuses":"200","times":"0.012"}`,
			counts{requests: [3]int64{0, 0, 1}}},
		{"an error of the instance",
			`{"status":"503","side":"blue","upstream":"127.0.0.1:1","statuses":"503","times":"0.012"}`,
			counts{requests: [3]int64{1}}},
		{"tried at two", `{"status":"200","side":"blue","upstream":"127.0.0.1:1, 127.0.0.1:2","statuses":"502, 200","times":"-, 0.010"}`,
			counts{requests: [3]int64{0, 1}, failures: [3]int64{1}}},
		{"passed on within the proxy",
			`{"status":"200","side":"blue","upstream":"127.0.0.1:1 : 127.0.0.1:2","statuses":"502 : 200","times":"- : 0.010"}`,
			counts{requests: [3]int64{0, 1}, failures: [3]int64{1}}},
		{"nobody answered", `{"status":"502","side":"green","upstream":"127.0.0.1:3","statuses":"502","times":"-"}`,
			counts{failures: [3]int64{0, 0, 1}, lost: [2]int64{0, 1}}},
		{"the client left", `{"status":"499","side":"green","upstream":"127.0.0.1:3","statuses":"-","times":"-"}`,
			counts{left: 1}},
		{"nobody was asked", `{"status":"503","side":"green","upstream":"-","statuses":"-","times":"-"}`,
			counts{lost: [2]int64{0, 1}}},
		{"nobody was asked, and for nobody", `{"status":"503","route":"-","upstream":"-","statuses":"503","us":"120"}`,
			counts{own: 1}},
		{"a page of the proxy's own", `{"status":"404","side":"green","upstream":"-","statuses":"-","times":"-"}`,
			counts{}},
		{"with the worker's name",
			`{"status":"200","route":"green-1","upstream":"http://127.0.0.1:3","statuses":"200","us":"12000"}`,
			counts{requests: [3]int64{0, 0, 1}}},
		{"cut by the instance", `{"status":"200","side":"green","upstream":"127.0.0.1:3","statuses":"200","times":"0.012","length":"8000","sent":"4000","done":"OK"}`, counts{requests: [3]int64{0, 0, 1}, cut: 1}},
		{"cut by the second one that was tried",
			`{"status":"200","side":"green","upstream":"127.0.0.1:1, 127.0.0.1:3","statuses":"502, 200","times":"-, 0.012","length":"8000","sent":"0, 4000","done":"OK"}`,
			counts{requests: [3]int64{0, 0, 1}, failures: [3]int64{1}, cut: 1}},
		{"cut, and the connection ended",
			`{"status":"200","route":"green-1","upstream":"http://127.0.0.1:3","statuses":"200","us":"12000","length":"8000","sent":"4000","done":"-"}`, counts{requests: [3]int64{0, 0, 1}, cut: 1}},
		{"whole", `{"status":"200","route":"green-1","upstream":"http://127.0.0.1:3","statuses":"200","us":"12000","length":"8000","sent":"8000","done":"+"}`, counts{requests: [3]int64{0, 0, 1}}},
		{"its client left nginx",
			`{"status":"200","side":"green","upstream":"127.0.0.1:3","statuses":"200","times":"0.012","length":"8000","sent":"4000","done":""}`, counts{requests: [3]int64{0, 0, 1}}},
		{"its client left httpd",
			`{"status":"200","route":"green-1","upstream":"http://127.0.0.1:3","statuses":"200","us":"12000","length":"8000","sent":"4000","done":"X"}`, counts{requests: [3]int64{0, 0, 1}}},
		{"not modified", `{"status":"304","side":"green","upstream":"127.0.0.1:3","statuses":"304","times":"0.012","length":"8000","sent":"0","done":"OK"}`, counts{requests: [3]int64{0, 0, 1}}},
		{"without a length", `{"status":"200","side":"green","upstream":"127.0.0.1:3","statuses":"200","times":"0.012","length":"","sent":"4000","done":"OK"}`, counts{requests: [3]int64{0, 0, 1}}},
		{"an error that was cut",
			`{"status":"500","side":"green","upstream":"127.0.0.1:3","statuses":"500","times":"0.012","length":"8000","sent":"4000","done":"OK"}`, counts{requests: [3]int64{0, 0, 1}}},
		{"the prober's", `{"status":"200","side":"green","upstream":"127.0.0.1:3","statuses":"200","times":"0.012","agent":"vaiven-prober"}`, counts{probes: 1}},
		{"the prober's, and nobody was asked",
			`{"status":"503","side":"green","upstream":"-","statuses":"-","times":"-","agent":"vaiven-prober"}`,
			counts{lost: [2]int64{0, 1}}},
		{"another server", `{"status":"200","side":"green","upstream":"192.0.2.1:80","statuses":"200","times":"0.1"}`,
			counts{}},
	} {
		c.line = `{"at":"1795430400.125","client":"192.0.2.1","method":"GET","path":"/",` + c.line[1:]
		t.Run(c.name, func(t *testing.T) {
			log := filepath.Join(t.TempDir(), "access.log")
			// From before, which is not counted, and half a line, which is not yet.
			if err := os.WriteFile(log, []byte(c.line+"\n"), 0o600); err != nil {
				t.Fatal(err)
			}
			tally := New(place.Local{}, log, plan.Key{}, nil)
			tally.Count(t.Context(), &reading.Front{}, sides) // it has begun now
			fronttest.Append(t, log, c.line+"\n"+c.line[:20])
			var r reading.Front
			if notice := tally.Count(t.Context(), &r, sides); notice != "" {
				t.Errorf("it says %q", notice)
			}
			var got counts
			for n, i := range append(r.Sides[split.Blue].Instances, r.Sides[split.Green].Instances...) {
				got.requests[n], got.failures[n] = i.Requests, i.Failures
				if i.Requests > 0 && len(i.Latency) == 0 {
					t.Errorf("%s has no times", i.Name)
				}
			}
			got.lost, got.left, got.own = [2]int64{r.Sides[0].Lost, r.Sides[1].Lost}, r.Sides[1].Instances[0].Left,
				r.Own
			got.cut, got.probes = r.Sides[1].Instances[0].Cut, r.Sides[1].Instances[0].Probes
			if got != c.want {
				t.Errorf("counted %+v, want %+v", got, c.want)
			}
			fronttest.Append(t, log, c.line[20:]+"\n")
			tally.Count(t.Context(), &r, sides)
			blue, green := r.Sides[0].Instances, r.Sides[1].Instances
			again := blue[0].Requests + blue[1].Requests + green[0].Requests
			if want := 2 * (c.want.requests[0] + c.want.requests[1] + c.want.requests[2]); again != want {
				t.Errorf("with the other half of a line %d requests, want %d", again, want)
			}
		})
	}
}

// Where the key is the client's address, or a part of it, clients are told apart by it.
func TestClientsByAddress(t *testing.T) {
	log := filepath.Join(t.TempDir(), "access.log")
	if err := os.WriteFile(log, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	tally := New(place.Local{}, log, plan.Key{From: plan.KeyClient, Prefix: 24}, nil)
	now := time.Now()
	tally.clients = clients.New(0, func() time.Time { return now })
	r := reading.Front{Split: reading.Split{Share: 2500}}
	tally.Count(t.Context(), &r, [2][]reading.Server{})
	line := func(client, side string, status int) {
		fronttest.Append(t, log,
			fmt.Sprintf(`{"at":"1795430400.125","client":%q,"method":"GET","path":"/","status":"%d","side":%q,"upstream":"127.0.0.1:3","statuses":"%[2]d","times":"0.012"}`+"\n", client, status, side))
	}
	line("192.0.2.1", "green", 500)
	line("192.0.2.9", "green", 200) // of the same network
	line("198.51.100.1", "green", 200)
	line("203.0.113.1", "blue", 499)
	tally.Count(t.Context(), &r, [2][]reading.Server{})
	now = now.Add(reading.ClientBlock)
	tally.Count(t.Context(), &r, [2][]reading.Server{})
	blue, green := r.Sides[split.Blue].Clients, r.Sides[split.Green].Clients
	turned := func(c reading.Clients) evidence.Count {
		turned, err := reading.TurnedOf(c.Turns)
		if err != nil {
			t.Fatal(err)
		}
		return turned[reading.FirstAnswer][0][0]
	}
	if !r.Tells.Clients || turned(green) != (evidence.Count{Bad: 1, Of: 2}) ||
		turned(blue) != (evidence.Count{Bad: 1, Of: 1}) {
		t.Errorf("blue %+v, green %+v, %+v", blue, green, r.Tells)
	}
}

// Where the key is a cookie, the line has to say it, as nginx's does that Vaiven writes.
func TestClientsByCookie(t *testing.T) {
	log := filepath.Join(t.TempDir(), "access.log")
	if err := os.WriteFile(log, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	tally := New(place.Local{}, log, plan.Key{From: plan.KeyCookie, Name: "passenger"}, nil)
	r := reading.Front{Split: reading.Split{Share: 2500}}
	for _, c := range []struct {
		fields string
		tells  bool
		seen   int64
	}{
		{`"cookie_passenger":"p1",`, true, 1}, {`"cookie_passenger":"p2",`, true, 2}, {`"cookie_passenger":"p2",`, true, 2},
		{`"cookie_passenger":"",`, true, 3}, {"", false, 3},
	} {
		tally.Count(t.Context(), &r, [2][]reading.Server{})
		fronttest.Append(t, log, `{"at":"1795430400.125","client":"192.0.2.1","method":"GET","path":"/",`+c.fields+
			`"status":"200","side":"green","upstream":"127.0.0.1:3","statuses":"200","times":"0.012"}`+"\n")
		tally.Count(t.Context(), &r, [2][]reading.Server{})
		if n := r.Sides[split.Green].Clients.Seen; r.Tells.Clients != c.tells || n != c.seen {
			t.Errorf("with %q: tells %v, %d clients; want %v, %d", c.fields, r.Tells.Clients, n, c.tells, c.seen)
		}
	}
}

// A log that cannot be counted is said, and why.
func TestALogThatSaysNothing(t *testing.T) {
	var r reading.Front
	if notice := New(place.Local{}, "", plan.Key{}, nil).Count(t.Context(), &r,
		[2][]reading.Server{}); !strings.Contains(notice, "name an access log") {
		t.Errorf("without a log it says %q", notice)
	}
	log := filepath.Join(t.TempDir(), "access.log")
	if err := os.WriteFile(log, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	tally := New(place.Local{}, log, plan.Key{}, nil)
	tally.Count(t.Context(), &r, [2][]reading.Server{})
	fronttest.Append(t, log, `192.0.2.1 - - [23/Nov/2026:10:00:00 +0000] "GET / HTTP/1.1" 200 12`+"\n")
	if notice := tally.Count(t.Context(), &r, [2][]reading.Server{}); !strings.Contains(notice,
		"do not name upstream servers") {
		t.Errorf("of a log in another format it says %q", notice)
	}
}

// A log on a disk that hangs holds up nobody, and is said.
func TestALogThatHangs(t *testing.T) {
	log := filepath.Join(t.TempDir(), "access.log")
	if err := os.WriteFile(log, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	hang := make(chan struct{})
	defer close(hang)
	on := &placetest.Elsewhere{Root: "/", Before: func(act, _ string) error {
		if act == "follow" {
			<-hang
		}
		return nil
	}}
	var r reading.Front
	if notice := New(on, log, plan.Key{}, nil).Count(t.Context(), &r, [2][]reading.Server{}); !strings.Contains(notice,
		"does not answer") || r.Blind == "" {
		t.Errorf("of a log that hangs it says %q, %q", notice, r.Blind)
	}
}

// A proxy's log by syslog has that one's words before each line, and names a server; what is of neither side counts for
// nothing, and clients are told apart by a digest.
func TestALogOfServers(t *testing.T) {
	to := &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)}
	free, err := net.ListenUDP("udp", to)
	if err != nil {
		t.Fatal(err)
	}
	address := free.LocalAddr().String()
	if err := free.Close(); err != nil {
		t.Fatal(err)
	}
	tally := New(place.Local{}, address, plan.Key{From: plan.KeyCookie, Name: "passenger"},
		func(e *accesslog.Entry) (split.Side, bool) {
			side, err := split.ParseSide(string(e.Field("server")))
			return side, err == nil
		})
	r := reading.Front{Split: reading.Split{Share: 5000}, Sides: [2]reading.Side{
		{Instances: []reading.Count{{Server: reading.Server{Address: "127.0.0.1:1"}}}},
		{Instances: []reading.Count{{Server: reading.Server{Address: "127.0.0.1:2"}}}},
	}}
	tally.Times(t.Context(), &r) // it listens now
	conn, err := net.Dial("udp", address)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	line := func(server, upstream, key, more string) string {
		return fmt.Sprintf(`Nov 26 18:20:01 vessa haproxy[123]: {"at":"1795430400.125","client":"192.0.2.1","server":"%s","upstream":"%s","status":200,"statuses":"200","key":"%s",%s}`, server, upstream, key, more)
	}
	for _, l := range []string{
		line("blue", "127.0.0.1:1", "7001", `"ms":"112","head":"100"`),
		line("blue", "127.0.0.1:1", "7001", `"ms":"12","head":"0"`),
		line("green", "127.0.0.1:2", "7002", `"ms":"2005","head":"5"`),
		line("green-door", "127.0.0.1:2", "7003", `"ms":"7","head":"0"`),
		"Nov 26 18:20:01 vessa haproxy[123]: Server sailings/green-1 is UP",
		line("green", "127.0.0.1:2", "7004", `"ms":"-1","head":"-1"`),
	} {
		if _, err := fmt.Fprintln(conn, l); err != nil {
			t.Fatal(err)
		}
	}
	testkit.Until(t, "all lines are read", func() error {
		told, failed := tally.Times(t.Context(), &r)
		if seen := r.Sides[1].Clients.Seen; told != 3 || seen != 2 || failed != "" {
			return fmt.Errorf("%d answers, %d clients on green, %q", told, seen, failed)
		}
		return nil
	})
	for n, want := range []struct{ times, longest, clients int64 }{{2, 12_000, 1}, {1, 2_000_000, 2}} {
		h, err := r.Sides[n].Instances[0].Histogram()
		if err != nil {
			t.Fatal(err)
		}
		if longest := h.Max(); h.TotalCount() != want.times || longest < want.longest*99/100 ||
			longest > want.longest*101/100 || r.Sides[n].Clients.Seen != want.clients {
			t.Errorf("side %d: %d times up to %d µs, %+v", n, h.TotalCount(), longest, r.Sides[n].Clients)
		}
	}
	other := New(place.Local{}, address, plan.Key{}, nil)
	if _, failed := other.Times(t.Context(), &r); !strings.Contains(failed, "another process reads it") ||
		r.Tells.Times {
		t.Errorf("a second reader: %q, %+v", failed, r.Tells)
	}
}

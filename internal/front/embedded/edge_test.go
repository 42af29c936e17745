package embedded

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/lab/testkit"
)

// said is what a client that sends some bytes gets until the connection is closed, and whether
// that is so in time.
func said(t *testing.T, conn net.Conn, text string) (answer string, closed bool) {
	t.Helper()
	if _, err := io.WriteString(conn, text); err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	piece := make([]byte, 4096)
	for {
		_ = conn.SetReadDeadline(soon())
		n, err := conn.Read(piece)
		b.Write(piece[:n])
		if err != nil {
			netErr, ok := err.(net.Error)
			return b.String(), !ok || !netErr.Timeout()
		}
	}
}

// soon is until when an answer has to come.
func soon() time.Time { return time.Now().Add(20 * time.Second) }

// What can be read in two ways gets 400 after the answers to what came before it, the
// connection is closed, and no instance hears of it.
func TestUnclearRequestsAreRefused(t *testing.T) {
	blue := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		_, err := io.ReadAll(r.Body)
		if r.URL.Path == "/" && err == nil {
			fmt.Fprint(w, "answered")
		}
	})
	url, c, _ := open(t, nil)
	putInstances(t, c, split.Blue, blue)
	inBody := func(f framed) bool {
		chunked := strings.Contains(f.text, "chunked")
		return f.want == noChunk || chunked && f.want == bareLF ||
			chunked && strings.Contains(f.text, "nothing\r\n\r\n")
	}
	for _, f := range framings {
		if f.want == nil || inBody(f) {
			continue
		}
		if answer, closed := said(t, dial(t, url), f.text); !closed ||
			!strings.HasPrefix(answer, "HTTP/1.1 400 ") && !strings.HasPrefix(answer, "HTTP/1.1 505 ") {
			t.Errorf("%q gets %q, closed %v", f.text, answer, closed)
		}
	}
	for text, want := range map[string]string{
		"CONNECT a:80 HTTP/1.1\r\nHost: a:80\r\n\r\n":                "405 Method Not Allowed",
		"TRACE / HTTP/1.1\r\nHost: x\r\n\r\n":                        "405 Method Not Allowed",
		"GET / HTTP/1.1\r\n\r\n":                                     "400 Bad Request",
		"GET / HTTP/1.1\r\nHost:\r\n\r\n":                            "400 Bad Request",
		"GET / HTTP/1.1\r\nHost: a\r\nHost: b\r\n\r\n":               "400 Bad Request",
		"OPTIONS * HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n": "200 OK",
	} {
		if answer, closed := said(t, dial(t, url), text); !closed || !strings.HasPrefix(answer, "HTTP/1.1 "+want) {
			t.Errorf("%q gets %q, closed %v", text, answer, closed)
		}
	}
	if n := blue.served.Load(); n > 0 {
		t.Errorf("an instance was asked %d times what the front is to answer", n)
	}
	for _, f := range framings {
		if f.want == nil || f.want == noHTTP {
			continue
		}
		if answer, closed := said(t, dial(t, url), f.text); !closed || strings.Contains(answer, " 200 ") {
			t.Errorf("%q gets %q, closed %v", f.text, answer, closed)
		}
		answer, closed := said(t, dial(t, url), "GET / HTTP/1.1\r\nHost: x\r\n\r\n"+f.text)
		if first, rest, _ := strings.Cut(answer, "answered"); !closed || !strings.HasPrefix(first, "HTTP/1.1 200 ") ||
			!inBody(f) && !strings.HasPrefix(rest, "HTTP/1.1 400 ") {
			t.Errorf("behind a good one, %q gets %q, closed %v", f.text, answer, closed)
		}
	}
}

// oddInstance answers with raw bytes, by the path that it is asked for.
func oddInstance(t *testing.T, answer func(conn net.Conn, r *http.Request)) reading.Server {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	var wait sync.WaitGroup
	var mu sync.Mutex // protects conns
	var conns []net.Conn
	t.Cleanup(func() {
		l.Close()
		mu.Lock()
		for _, c := range conns {
			c.Close()
		}
		mu.Unlock()
		wait.Wait()
	})
	wait.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			mu.Lock()
			conns = append(conns, conn)
			mu.Unlock()
			wait.Go(func() {
				in := bufio.NewReader(conn)
				for {
					r, err := http.ReadRequest(in)
					if err != nil {
						return
					}
					_, _ = io.Copy(io.Discard, r.Body)
					answer(conn, r)
				}
			})
		}
	})
	return reading.Server{Name: "odd-1", Address: l.Addr().String(), Version: "1"}
}

// An instance that sends a body where none belongs, at once or a moment later, answers nobody
// else's request with it.
func TestStrayBytesAnswerNobody(t *testing.T) {
	odd := oddInstance(t, func(conn net.Conn, r *http.Request) {
		stray := "HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nstray"
		head, at, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "-")
		text := map[string]string{
			"head": "HTTP/1.1 200 OK\r\nContent-Length: 41\r\n\r\n",
			"204":  "HTTP/1.1 204 No Content\r\n\r\n",
			"304":  "HTTP/1.1 304 Not Modified\r\nEtag: \"a\"\r\n\r\n",
			"long": "HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\nlong",
			"good": "HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\ngood",
		}[head]
		switch at {
		case "at once":
			_, _ = io.WriteString(conn, text+stray)
		case "later":
			_, _ = io.WriteString(conn, text)
			time.AfterFunc(10*time.Millisecond, func() { _, _ = io.WriteString(conn, stray) })
		default:
			_, _ = io.WriteString(conn, text)
		}
	})
	url, c, _ := open(t, nil)
	if err := c.SetInstances(t.Context(), split.Blue, []reading.Server{odd}); err != nil {
		t.Fatal(err)
	}
	for range 10 {
		for _, path := range []string{"/head-at%20once", "/head-later", "/204-at%20once", "/204-later",
			"/304-at%20once", "/304-later", "/long-at%20once"} {
			method := http.MethodGet
			if strings.HasPrefix(path, "/head") {
				method = http.MethodHead
			}
			r, err := http.NewRequest(method, url+path, nil)
			if err != nil {
				t.Fatal(err)
			}
			w, err := http.DefaultClient.Do(r)
			if err != nil {
				t.Fatalf("%s: %v", path, err)
			}
			body, err := io.ReadAll(w.Body)
			w.Body.Close()
			if err != nil || strings.Contains(string(body), "stray") {
				t.Errorf("%s is answered with %q, %v", path, body, err)
			}
			for range 3 { // other clients, at once
				if status, _, body := get(t, &http.Client{Transport: &http.Transport{DisableKeepAlives: true}},
					url+"/good"); status != 200 || body != "good" {
					t.Errorf("after %s, another request is answered with %d %q", path, status, body)
				}
			}
		}
	}
	if n := read(t, c).Sides[split.Blue].Lost; n > 0 {
		t.Errorf("%d were lost", n)
	}
}

// 204 and 304 have no body for the client, nor the end of one.
func TestNoBodyWhereNoneBelongs(t *testing.T) {
	odd := oddInstance(t, func(conn net.Conn, r *http.Request) {
		status := "204 No Content"
		if r.URL.Path == "/304" {
			status = "304 Not Modified"
		}
		_, _ = io.WriteString(conn, "HTTP/1.1 "+status+"\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nstray\r\n0\r\n\r\n")
	})
	url, c, _ := open(t, nil)
	if err := c.SetInstances(t.Context(), split.Blue, []reading.Server{odd}); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"/204", "/304"} {
		answer, _ := said(t, dial(t, url), "GET "+path+" HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
		if _, body, ok := strings.Cut(answer, "\r\n\r\n"); !ok || body != "" {
			t.Errorf("%s: %q", path, answer)
		}
	}
}

// Who is not trusted says nothing about where a request comes from; who is, is continued.
func TestWhereRequestsComeFrom(t *testing.T) {
	show := func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "%s | %s | %s | %s", r.Header["X-Forwarded-For"], r.Header["X-Forwarded-Proto"],
			r.Header["X-Forwarded-Host"], r.Header["Forwarded"])
	}
	claims := []string{"X-Forwarded-For", "192.0.2.7, 10.9.9.9", "X-Forwarded-Proto", "https", "X-Forwarded-Host",
		"shop.example", "Forwarded", "for=192.0.2.7"}
	for _, c := range []struct {
		trusted string
		want    string
	}{
		{"192.0.2.0/24", "[127.0.0.1] | [http] | [HOST] | []"},
		{"127.0.0.1", "[192.0.2.7, 10.9.9.9, 127.0.0.1] | [https] | [shop.example] | [for=192.0.2.7 " +
			"for=127.0.0.1;proto=https]"},
	} {
		blue := newBackend(t, "blue-1", "1", show)
		url, client, _ := open(t, func(conf *Config) {
			p, err := parseNetwork(c.trusted)
			if err != nil {
				t.Fatal(err)
			}
			conf.TrustedProxies = []netip.Prefix{p}
		})
		putInstances(t, client, split.Blue, blue)
		_, _, got := get(t, http.DefaultClient, url, claims...)
		if want := strings.Replace(c.want, "HOST", strings.TrimPrefix(url, "http://"), 1); got != want {
			t.Errorf("with %s trusted the instance is told\n%s\nwant\n%s", c.trusted, got, want)
		}
	}
}

func TestOrigins(t *testing.T) {
	network := func(text string) netip.Prefix {
		p, err := parseNetwork(text)
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	trusted := []netip.Prefix{network("10.0.0.0/8"), network("fd00::1")}
	for _, c := range []struct{ peer, said, want string }{
		{"192.0.2.7:1", "198.51.100.9", "192.0.2.7"},
		{"10.1.0.1:1", "", "10.1.0.1"},
		{"10.1.0.1:1", "198.51.100.9", "198.51.100.9"},
		{"10.1.0.1:1", "203.0.113.5, 198.51.100.9", "198.51.100.9"},
		{"10.1.0.1:1", "203.0.113.5, 10.2.0.1", "203.0.113.5"},
		{"10.1.0.1:1", "10.3.0.1, 10.2.0.1", "10.3.0.1"},
		{"10.1.0.1:1", "anything, 198.51.100.9:4711", "198.51.100.9"},
		{"10.1.0.1:1", "198.51.100.9, unknown", "10.1.0.1"},
		{"[fd00::1]:1", "[2001:db8::7]:80", "2001:db8::7"},
		{"[::ffff:10.1.0.1]:1", "::ffff:198.51.100.9", "198.51.100.9"},
	} {
		r := &http.Request{RemoteAddr: c.peer, Header: http.Header{}}
		if c.said != "" {
			r.Header.Set("X-Forwarded-For", c.said)
		}
		if got := originOf(r, nil, trusted).client; got != c.want {
			t.Errorf("from %s, which says %q, comes %s, want %s", c.peer, c.said, got, c.want)
		}
	}
}

// Behind a balancer that is trusted, every user has a place of their own.
func TestUsersBehindABalancer(t *testing.T) {
	blue, green := newBackend(t, "blue-1", "1", nil), newBackend(t, "green-1", "2", nil)
	url, c, _ := open(t, func(c *Config) {
		c.Key.From = "client"
		c.TrustedProxies = []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}
	})
	putInstances(t, c, split.Blue, blue)
	putInstances(t, c, split.Green, green)
	setShare(t, c, split.Whole/2)
	sides := map[string]int{}
	for n := range 100 {
		user := fmt.Sprintf("198.51.100.%d", n)
		_, _, first := get(t, http.DefaultClient, url, "X-Forwarded-For", user)
		if _, _, again := get(t, http.DefaultClient, url, "X-Forwarded-For", user); again != first {
			t.Errorf("%s goes from %s to %s", user, first, again)
		}
		sides[first]++
	}
	if sides["blue-1"] < 20 || sides["green-1"] < 20 {
		t.Errorf("at half and half the users are on %v", sides)
	}
}

// A client cannot speak in Vaiven's name, nor by a name that some instances take for another.
func TestNamesThatAreNotPassedOn(t *testing.T) {
	blue := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		for name := range r.Header {
			if strings.HasPrefix(name, "Vaiven") || strings.Contains(name, "_") {
				fmt.Fprint(w, name, " ")
			}
		}
	})
	url, c, _ := open(t, nil)
	putInstances(t, c, split.Blue, blue)
	answer, _ := said(t, dial(t, url), "GET / HTTP/1.1\r\nHost: x\r\nVaiven_Probe: yes\r\nVaiven-Probe: "+
		"yes\r\nvaiven-side: green\r\nX_Forwarded_For: 1\r\nConnection: close\r\n\r\n")
	if _, body, _ := strings.Cut(answer, "\r\n\r\n"); body != "" {
		t.Errorf("the instance got %s", body)
	}
}

// hung is an instance that answers nobody but those who ask for something quick.
func hung(t *testing.T) *backend {
	release := make(chan struct{})
	b := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/quick" {
			select {
			case <-release:
			case <-r.Context().Done():
			}
		}
		fmt.Fprint(w, "fine")
	})
	t.Cleanup(func() { close(release) })
	return b
}

// quick asks as somebody who has just come.
func quick(t *testing.T, url string) {
	t.Helper()
	client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}, Timeout: 20 * time.Second}
	if status, _, body := get(t, client, url+"/quick"); status != 200 || body != "fine" {
		t.Errorf("somebody who has just come gets %d %q", status, body)
	}
}

// Whatever takes up all connections, there is room for others: requests that hang, halves of
// heads and of bodies, silent tunnels, connections that are kept and not used.
func TestThereIsAlwaysRoom(t *testing.T) {
	for name, text := range map[string]string{
		"requests that hang":   "GET /slow HTTP/1.1\r\nHost: x\r\n\r\n",
		"halves of heads":      "GET / HTTP/1.1\r\nHost:",
		"halves of bodies":     "POST /slow HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\nhalf",
		"nothing at all":       "",
		"kept and not used":    "GET /quick HTTP/1.1\r\nHost: x\r\n\r\n",
		"waiting for a tunnel": "GET /slow HTTP/1.1\r\nHost: x\r\nConnection: Upgrade\r\nUpgrade: echo\r\n\r\n",
	} {
		t.Run(name, func(t *testing.T) {
			blue := hung(t)
			url, c, _ := open(t, func(c *Config) { c.Connections, c.PerClient = 20, 100 })
			putInstances(t, c, split.Blue, blue)
			for range 30 {
				if _, err := io.WriteString(dial(t, url), text); err != nil {
					t.Fatal(err)
				}
			}
			for range 3 {
				quick(t, url)
			}
		})
	}
}

// A body that trickles ends; one that keeps a rate does not.
func TestBodiesHaveALeastRate(t *testing.T) {
	t.Parallel()
	blue := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		n, _ := io.Copy(io.Discard, r.Body)
		fmt.Fprint(w, n)
	})
	url, c, _ := open(t, func(c *Config) { c.HeaderTime, c.BodyRate = 2*time.Second, 2000 })
	putInstances(t, c, split.Blue, blue)
	send := func(piece string) (sent int, err error) {
		conn := dial(t, url)
		_, err = io.WriteString(conn, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 100000\r\n\r\n")
		gone := make(chan struct{})
		go func() {
			defer close(gone)
			_, _ = io.Copy(io.Discard, conn)
		}()
		for err == nil {
			select {
			case <-gone:
				return sent, io.ErrClosedPipe
			case <-time.After(20 * time.Millisecond):
			}
			if sent >= 10_000 {
				return sent, nil
			}
			_, err = io.WriteString(conn, piece)
			sent += len(piece)
		}
		return sent, err
	}
	if n, err := send("x"); err == nil {
		t.Errorf("a body of 50 bytes a second is taken: %d", n)
	}
	if n, err := send(strings.Repeat("x", 500)); err != nil {
		t.Errorf("a body of 25,000 bytes a second ends after %d: %v", n, err)
	}
	testkit.Eventually(t, "nothing is open", func() bool { return read(t, c).Sides[split.Blue].Open == 0 })
	if n := read(t, c).Sides[split.Blue].Instances[0].Failures; n > 0 {
		t.Errorf("slow clients are counted as %d failures of an instance", n)
	}
}

// An instance that does not begin to answer in time is not waited for any longer.
func TestTheFirstByteHasALimit(t *testing.T) {
	url, c, _ := open(t, func(c *Config) { c.FirstByte = 100 * time.Millisecond })
	putInstances(t, c, split.Blue, hung(t))
	if status, _, _ := get(t, http.DefaultClient, url+"/slow"); status != http.StatusGatewayTimeout {
		t.Errorf("status %d, want 504", status)
	}
	if i := read(t, c).Sides[split.Blue]; i.Lost != 1 || i.Instances[0].Failures != 1 {
		t.Errorf("it is counted as %+v", i)
	}
}

// A tunnel on which nothing moves ends; one that moves in one direction only does not.
func TestTunnelsEnd(t *testing.T) {
	t.Parallel()
	blue := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		conn, in, err := http.NewResponseController(w).Hijack()
		if err != nil {
			t.Error(err)
			return
		}
		defer conn.Close()
		_, _ = io.WriteString(conn, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: tick\r\n\r\n")
		if r.URL.Path == "/talks" {
			for range 3 * time.Second / (25 * time.Millisecond) {
				time.Sleep(25 * time.Millisecond) // the pace of what is watched
				if _, err := io.WriteString(conn, "."); err != nil {
					return
				}
			}
			_, _ = io.WriteString(conn, "!")
		}
		_, _ = io.Copy(io.Discard, in)
	})
	url, c, _ := open(t, func(c *Config) { c.TunnelIdle = 2 * time.Second })
	putInstances(t, c, split.Blue, blue)
	for path, want := range map[string]bool{"/talks": true, "/silent": false} {
		conn := dial(t, url)
		fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: x\r\nConnection: Upgrade\r\nUpgrade: tick\r\n\r\n", path)
		_ = conn.SetReadDeadline(time.Now().Add(20 * time.Second))
		all, err := io.ReadAll(conn)
		if err != nil || strings.HasSuffix(string(all), "!") != want {
			t.Errorf("%s ends with %q, %v", path, all, err)
		}
	}
}

// What this machine is short of is no instance's failure.
func TestOurOwnShortageIsNobodysFailure(t *testing.T) {
	blue := newBackend(t, "blue-1", "1", nil)
	p := newProxy(Config{Settings: *Defaults()}, &table{sides: [2]pool{{tally: &tally{}}, {tally: &tally{}}}},
		&denials{})
	p.swap(p.current().withInstances(split.Blue, []reading.Server{blue.address}))
	for _, short := range []error{syscall.EMFILE, syscall.ENFILE, syscall.ENOBUFS, syscall.EADDRNOTAVAIL} {
		p.wires.dialer.Control = func(string, string, syscall.RawConn) error { return short }
		w := &recorder{header: http.Header{}}
		r, err := http.NewRequest(http.MethodGet, "http://x/", nil)
		if err != nil {
			t.Fatal(err)
		}
		p.ServeHTTP(w, r)
		if i := p.current().sides[split.Blue].instances[0]; w.status != http.StatusServiceUnavailable ||
			i.failures.Load() != 0 || i.downUntil.Load() != 0 {
			t.Errorf("%v: status %d, and the instance has %d failures and is avoided until %d", short, w.status,
				i.failures.Load(), i.downUntil.Load())
		}
	}
	if n := p.current().sides[split.Blue].tally.lost.Load(); n != 4 {
		t.Errorf("%d are counted as lost, want 4", n)
	}
}

// recorder is an answer that nobody gets.
type recorder struct {
	header http.Header
	status int
}

func (w *recorder) Header() http.Header            { return w.header }
func (w *recorder) Write(data []byte) (int, error) { return len(data), nil }
func (w *recorder) WriteHeader(status int)         { w.status = status }

// A side that hangs leaves the other one its share of the connections.
func TestASideHasABudget(t *testing.T) {
	url, c, _ := open(t, func(c *Config) { c.Connections, c.PerClient = 40, 40 })
	green := newBackend(t, "green-1", "2", nil)
	putInstances(t, c, split.Blue, hung(t))
	putInstances(t, c, split.Green, green)
	setShare(t, c, 5000)
	var wait sync.WaitGroup
	asking, enough := context.WithCancel(t.Context())
	defer enough()
	for range 60 {
		wait.Go(func() {
			client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
			for asking.Err() == nil { // who is answered, or turned away, asks again
				r, err := http.NewRequestWithContext(asking, http.MethodGet, url+"/slow", nil)
				if err != nil {
					return
				}
				if w, err := client.Do(r); err == nil {
					w.Body.Close()
				}
			}
		})
	}
	testkit.Eventually(t, "the hung side is full", func() bool { return read(t, c).Sides[split.Blue].Open >= 15 })
	if n := read(t, c).Sides[split.Blue].Open; n > 21 {
		t.Errorf("the hung side has %d requests open, of 40 connections", n)
	}
	enough()
	wait.Wait()
}

// There are no more connections than descriptors for both their ends.
func TestConnectionsFitDescriptors(t *testing.T) {
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err != nil {
		t.Fatal(err)
	}
	if got := fitting(10); got != 10 && limit.Cur > 1000 {
		t.Errorf("ten connections become %d", got)
	}
	if got := fitting(1 << 40); uint64(2*got) > limit.Cur-reserve {
		t.Errorf("%d connections with %d descriptors", got, limit.Cur)
	}
}

// A steering request that is sent in halves ends, and holds up nobody meanwhile.
func TestHalvesOfSteeringRequests(t *testing.T) {
	t.Parallel()
	_, c, config := open(t, nil)
	for _, text := range []string{"GET /reading HTTP/1.1\r\nHost:",
		"PUT /home HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\n{"} {
		conn, err := net.Dial("unix", config.Socket)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		if _, err := io.WriteString(conn, text); err != nil {
			t.Fatal(err)
		}
		if d, err := c.Home(t.Context(), front.Homing{Side: split.Blue}); err != nil || d.Share != 0 {
			t.Errorf("home beside %q: %+v, %v", text, d, err)
		}
		_ = conn.SetReadDeadline(time.Now().Add(20 * time.Second))
		if _, err := io.Copy(io.Discard, conn); err != nil {
			t.Errorf("%q holds its connection: %v", text, err)
		}
	}
}

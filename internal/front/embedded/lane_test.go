package embedded

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"reflect"
	"strings"
	"sync"
	"testing"
	"time"

	"vaiven/internal/core/split"
	"vaiven/internal/testkit"
)

// laneWith is a lane that has read something and no connection.
func laneWith(data []byte) *lane {
	return &lane{lanes: &lanes{most: laneBuffer}, buf: data, end: len(data)}
}

// Whatever a lane takes, the library reads in the same way.
func FuzzRequest(f *testing.F) {
	for _, s := range []string{
		"GET / HTTP/1.1\r\nHost: x\r\n\r\n",
		"GET /a%2Fb?x=1;y=2 HTTP/1.1\r\nHost: x:80\r\nConnection: close\r\nCookie: a=b\r\n\r\nGET",
		"POST /b HTTP/1.1\r\nhost:x\r\nContent-Length: 3 \r\nX-Forwarded-For: 192.0.2.7\r\n\r\nabcdef",
		"GET / HTTP/1.1\r\nHost: x\r\n folded\r\n\r\n", "GET / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n",
		"GET / HTTP/1.1\nHost: x\n\n", "GET //x HTTP/1.1\r\nHost: [::1]:80\r\nA :b\r\n\r\n",
		"GET / HTTP/1.1\r\nHost: x\r\nContent-Length: +3\r\n\r\nabc", "GET /%zz HTTP/1.1\r\nHost: x\r\nHost: y\r\n\r\n",
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		l := laneWith(bytes.Clone(data))
		if !l.take() {
			return
		}
		in := bufio.NewReader(bytes.NewReader(data))
		r, err := http.ReadRequest(in)
		if err != nil {
			t.Fatalf("a lane took what the library refuses: %v", err)
		}
		body, err := io.ReadAll(r.Body)
		if err != nil || !bytes.Equal(body, l.asking.body) {
			t.Errorf("the body is %q, the library's %q, %v", l.asking.body, body, err)
		}
		if r.Method != string(l.asking.method) || r.RequestURI != string(l.asking.target) || r.Host != string(l.request.first(host).value) || r.Close == l.asking.keep {
			t.Errorf("%s %s for %s, close %v; the library's %s %s for %s, close %v", l.asking.method, l.asking.target, l.request.first(host).value, !l.asking.keep, r.Method, r.RequestURI, r.Host, r.Close)
		}
		left, _ := io.ReadAll(in)
		if !bytes.Equal(left, l.buf[l.start:l.end]) {
			t.Errorf("what follows begins at %q, the library's at %q", l.buf[l.start:l.end], left)
		}
		fieldsAgree(t, &l.request, r.Header)
	})
}

// Whatever answer is passed on as it stands, the library reads in the same way.
func FuzzAnswer(f *testing.F) {
	for _, s := range []string{
		"HTTP/1.1 200 OK\r\nContent-Length: 3\r\n\r\nabc", "HTTP/1.1 204 No Content\r\n\r\n", "HTTP/1.1 304\r\nContent-Length: 9\r\n\r\n",
		"HTTP/1.1 103 Early Hints\r\n\r\n", "HTTP/1.0 200 OK\r\nContent-Length: 0\r\n\r\n", "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n",
		"HTTP/1.1 200 OK\r\nConnection: close\r\nDate: now\r\nContent-Length: 0\r\n\r\n", "HTTP/1.1 0200 OK\r\n\r\n",
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		l := laneWith(nil)
		l.asking.method = []byte("GET")
		status, ok := l.takeAnswer(data)
		if !ok {
			return
		}
		answer, err := http.ReadResponse(bufio.NewReader(bytes.NewReader(data)), &http.Request{Method: "GET"})
		if err != nil {
			t.Fatalf("a lane took what the library refuses: %v", err)
		}
		if status == 204 || status == 304 {
			answer.ContentLength = 0
		}
		if answer.StatusCode != status || answer.ContentLength != l.rest || answer.Close == l.keepWire {
			t.Errorf("status %d, %d bytes, keep %v; the library's %d, %d, close %v", status, l.rest, l.keepWire, answer.StatusCode, answer.ContentLength, answer.Close)
		}
		fieldsAgree(t, &l.answer, answer.Header)
	})
}

func fieldsAgree(t *testing.T, h *head, want http.Header) {
	t.Helper()
	got := http.Header{}
	for _, f := range h.fields {
		if f.kind != host && f.kind != connection { // which the library keeps apart
			got.Add(string(f.name), string(f.value))
		}
	}
	want.Del("Host")
	want.Del("Connection")
	if !reflect.DeepEqual(got, want) {
		t.Errorf("the fields are %q, the library's %q", got, want)
	}
}

// odd answers, by path.
var strange = map[string]func(net.Conn){
	"/plain": func(c net.Conn) {
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 4\r\nX-A: 1\r\nX-A: 2\r\n\r\nfine")
	},
	"/head":   func(c net.Conn) { fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 4\r\nX-A: 1\r\n\r\n") },
	"/pieces": func(c net.Conn) { drip(c, "HTTP/1.1 200 OK\r\nContent-Length: 4\r\nX-A: 1\r\n\r\nfine") },
	"/chunked": func(c net.Conn) {
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nfi\r\n2\r\nne\r\n0\r\n\r\n")
	},
	"/trailer": func(c net.Conn) {
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nTrailer: X-End\r\n\r\n4\r\nfine\r\n0\r\nX-End: here\r\n\r\n")
	},
	"/untilend": func(c net.Conn) { fmt.Fprint(c, "HTTP/1.1 200 OK\r\n\r\nfine"); c.Close() },
	"/old":      func(c net.Conn) { fmt.Fprint(c, "HTTP/1.0 200 OK\r\nContent-Length: 4\r\n\r\nfine"); c.Close() },
	"/hops": func(c net.Conn) {
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\nConnection: X-Hop, close\r\nKeep-Alive: timeout=5\r\nX-Hop: 1\r\nContent-Length: 4\r\n\r\nfine")
		c.Close()
	},
	"/early": func(c net.Conn) {
		fmt.Fprint(c, "HTTP/1.1 103 Early Hints\r\nLink: </a>\r\n\r\nHTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\nfine")
	},
	"/nothing":   func(c net.Conn) { fmt.Fprint(c, "HTTP/1.1 204 No Content\r\n\r\n") },
	"/unchanged": func(c net.Conn) { fmt.Fprint(c, "HTTP/1.1 304 Not Modified\r\nETag: \"a\"\r\n\r\n") },
	"/forged": func(c net.Conn) {
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\nVaiven-Side: green\r\nContent-Length: 4\r\n\r\nfine")
	},
	"/no":   func(c net.Conn) { fmt.Fprint(c, "what?\r\n\r\n"); c.Close() },
	"/gone": func(c net.Conn) { c.Close() },
	"/half": func(c net.Conn) { fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 400\r\n\r\nfine"); c.Close() },
	"/switch": func(c net.Conn) {
		fmt.Fprint(c, "HTTP/1.1 101 Switching Protocols\r\nUpgrade: x\r\nConnection: Upgrade\r\n\r\n")
		c.Close()
	},
	"/large": func(c net.Conn) {
		fmt.Fprintf(c, "HTTP/1.1 200 OK\r\nContent-Length: 200000\r\n\r\n%s", strings.Repeat("x", 200_000))
	},
	"/long": func(c net.Conn) {
		fmt.Fprintf(c, "HTTP/1.1 200 OK\r\nX-Long: %s\r\nContent-Length: 4\r\n\r\nfine", strings.Repeat("x", 20_000))
	},
}

// bodiless are those that can be asked for by HEAD.
var bodiless = map[string]bool{"/head": true, "/no": true, "/gone": true, "/switch": true, "/nothing": true}

// drip writes a byte at a time.
func drip(c net.Conn, text string) {
	for n := range len(text) {
		io.WriteString(c, text[n:n+1])
	}
}

// listenStrange is an instance of strange answers. It remembers what it was asked.
func listenStrange(t *testing.T) (b *backend, asked func() string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	var mu sync.Mutex
	last := ""
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				in := bufio.NewReader(c)
				for {
					r, err := http.ReadRequest(in)
					if err != nil {
						return
					}
					body, _ := io.ReadAll(r.Body)
					mu.Lock()
					r.Header.Del("Accept-Encoding")
					last = fmt.Sprintf("%s %s %s %q %q", r.Method, r.RequestURI, r.Host, r.Header, body)
					mu.Unlock()
					strange[r.URL.Path](c)
				}
			}()
		}
	}()
	b = &backend{}
	b.Name, b.Address, b.Version = "blue-1", l.Addr().String(), "1"
	return b, func() string {
		mu.Lock()
		defer mu.Unlock()
		return last
	}
}

// A request comes to the same on a lane and by the library: for its client, for the
// instance, and in what is counted.
func TestBothWaysAreOne(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(*Config)
		fields string
	}{
		{"plain", nil, "X-Forwarded-For: 192.0.2.7\r\nForwarded: for=x\r\nX-Forwarded-Proto: gopher\r\nVaiven-Probe: guess\r\n"},
		{"probe", nil, "Vaiven-Probe: secret\r\n"},
		{"telling", func(c *Config) { c.Tell = true }, ""},
		{"sticky", func(c *Config) { c.Sticky, c.Service = true, "sailings" }, ""},
		{"in a session", func(c *Config) { c.Sticky, c.Service = true, "sailings" }, "Cookie: a=b; sailings-side=blue\r\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			url, control, _ := open(t, c.change)
			b, asked := listenStrange(t)
			putInstances(t, control, split.Blue, b)
			ask := func(method, path, fields string) (string, [3]int64) {
				before := read(t, control).Sides[split.Blue]
				conn := dial(t, url)
				defer conn.Close()
				body := "\r\n"
				if method == "POST" {
					body = "Content-Length: 6\r\n\r\na body"
				}
				fmt.Fprintf(conn, "%s %s HTTP/1.1\r\nHost: sailings.example\r\n%s%s%s", method, path, c.fields, fields, body)
				var got strings.Builder
				for in := bufio.NewReader(conn); ; {
					w, err := http.ReadResponse(in, &http.Request{Method: method})
					if err != nil {
						fmt.Fprintf(&got, "no answer (%v)", err != nil)
						break
					}
					data, err := io.ReadAll(w.Body)
					w.Header.Del("Date")
					if w.StatusCode >= 500 { // errors may name ports
						w.Header.Del("Vaiven-Lost")
					}
					fmt.Fprintf(&got, "%s %q %d %q whole %v %q\n", w.Status, w.Header, len(data), w.Trailer, err == nil, data[:min(len(data), 10)])
					if w.StatusCode >= 200 {
						break
					}
				}
				var after [3]int64
				testkit.Eventually(t, "it is counted as through", func() bool {
					s := read(t, control).Sides[split.Blue]
					i, was := s.Instances[0], before.Instances[0]
					after = [3]int64{i.Requests - was.Requests, i.Failures - was.Failures, s.Lost - before.Lost}
					return s.Open == 0 && i.Open == 0
				})
				return got.String() + "the instance saw " + asked(), after
			}
			for path := range strange {
				for _, method := range []string{"GET", "HEAD", "POST"} {
					if method == "HEAD" && !bodiless[path] || method != "HEAD" && path == "/head" {
						continue
					}
					short, counted := ask(method, path, "")
					long, countedToo := ask(method, path, "Connection: keep-alive, X-Nothing\r\n")
					if short != long || counted != countedToo {
						t.Errorf("%s %s: on a lane\n%s %v\nby the library\n%s %v", method, path, short, counted, long, countedToo)
					}
				}
			}
		})
	}
}

// Requests that come together, in pieces, or one after another in all ways are answered
// in their order.
func TestManyRequestsOnOneConnection(t *testing.T) {
	blue := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, "%s %s", r.URL.Path, body)
	})
	url, c, _ := open(t, nil)
	putInstances(t, c, split.Blue, blue)
	conn := dial(t, url)
	in := bufio.NewReader(conn)
	n := 0
	send := func(text string) { io.WriteString(conn, text) }
	expect := func(body string) {
		t.Helper()
		w, err := http.ReadResponse(in, nil)
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(w.Body)
		if want := fmt.Sprintf("/%d %s", n, body); err != nil || string(got) != want {
			t.Fatalf("the answer is %q, %v, want %q", got, err, want)
		}
		n++
	}
	get := func(n int) string { return fmt.Sprintf("GET /%d HTTP/1.1\r\nHost: x\r\n\r\n", n) }
	send(get(0) + get(1) + fmt.Sprint("POST /2 HTTP/1.1\r\nHost: x\r\nContent-Length: 5\r\n\r\nhello") + get(3))
	expect("")
	expect("")
	expect("hello")
	expect("")
	drip(conn, get(4))
	expect("")
	send("POST /5 HTTP/1.1\r\nHost: x\r\nContent-Length: 5\r\n\r\nhe") // the library takes over
	send("llo" + get(6))
	expect("hello")
	expect("")
	for n < 20 {
		send(get(n))
		expect("")
	}
	send(strings.Replace(get(20), "\r\n\r\n", "\r\nConnection: close\r\n\r\n", 1))
	expect("")
	if _, err := in.ReadByte(); err != io.EOF {
		t.Errorf("after Connection: close there is %v", err)
	}
	// What is no request of HTTP/1.1 is answered by the library, at once.
	for _, c := range []struct {
		text string
		want int
	}{
		{"GET /0 HTTP/1.1\nHost: x\n\n", 200}, {"GET /0 HTTP/1.0\r\n\r\n", 200}, {"\x16\x03\x01\r\n", 400},
		{"GET /0 HTTP/1.1\r\n\r\n", 400}, {"GET /0 HTTP/1.1\r\nHost: x\r\nHost: y\r\n\r\n", 400},
		{"GET /0 HTTP/1.1\r\nHost: x\r\nA: b\x00\r\n\r\n", 400}, {"GET /%zz HTTP/1.1\r\nHost: x\r\n\r\n", 400},
		{"GET /0 HTTP/1.1\r\nHost: x\r\nA: " + strings.Repeat("b", 6000) + "\r\n\r\n", 200},
	} {
		conn := dial(t, url)
		io.WriteString(conn, c.text)
		if w, err := http.ReadResponse(bufio.NewReader(conn), nil); err != nil || w.StatusCode != c.want {
			t.Errorf("%.60q: %v, %v, want status %d", c.text, w, err, c.want)
		}
	}
}

// A client that leaves while it waits is noticed; that is nobody's failure, and what it
// asked for is given up.
func TestAClientThatLeavesIsNobodysFailure(t *testing.T) {
	given := make(chan struct{})
	asked := make(chan struct{})
	blue := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/" {
			return
		}
		close(asked)
		<-r.Context().Done()
		close(given)
	})
	url, c, _ := open(t, nil)
	putInstances(t, c, split.Blue, blue)
	conn := dial(t, url)
	fmt.Fprint(conn, "GET /wait HTTP/1.1\r\nHost: x\r\n\r\n")
	<-asked
	conn.Close()
	select {
	case <-given:
	case <-time.After(20 * time.Second):
		t.Fatal("the request was not given up")
	}
	testkit.Eventually(t, "it is no longer counted as open", func() bool { return read(t, c).Sides[split.Blue].Open == 0 })
	if s := read(t, c).Sides[split.Blue]; s.Lost != 0 || s.Instances[0].Failures != 0 {
		t.Errorf("%d lost, %d failures", s.Lost, s.Instances[0].Failures)
	}
	// An answer that takes longer than anybody's deadline arrives all the same.
	if status, _, _ := get(t, http.DefaultClient, url); status != 200 {
		t.Errorf("the next client gets %d", status)
	}
}

// An answer may take longer than a client may be idle.
func TestASlowAnswerArrives(t *testing.T) {
	const idle = 500 * time.Millisecond
	blue := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		for n := range 4 {
			select {
			case <-time.After(idle):
			case <-r.Context().Done():
				return
			}
			if n > 0 {
				fmt.Fprint(w, n)
				http.NewResponseController(w).Flush()
			}
		}
	})
	url, c, _ := open(t, func(c *Config) { c.Idle = idle })
	putInstances(t, c, split.Blue, blue)
	if status, _, body := get(t, http.DefaultClient, url); status != 200 || body != "123" {
		t.Errorf("it is %d %q", status, body)
	}
}

// A front that stops lets its requests finish and closes what is idle at once.
func TestAFrontThatStopsFinishesWhatItBegan(t *testing.T) {
	asked, release := make(chan struct{}), make(chan struct{})
	blue := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/wait" {
			asked <- struct{}{}
			<-release
		}
		fmt.Fprint(w, "fine")
	})
	_, c, config := open(t, nil) // for its free address
	config.Socket, config.State = config.Socket+"2", config.State+"2"
	url, stop := run(t, config)
	c = Dial(config.Socket)
	putInstances(t, c, split.Blue, blue)
	var busy []*bufio.Reader
	for _, fields := range []string{"", "Connection: keep-alive, X-Nothing\r\n"} { // both ways
		conn := dial(t, url)
		fmt.Fprintf(conn, "GET /wait HTTP/1.1\r\nHost: x\r\n%s\r\n", fields)
		<-asked
		busy = append(busy, bufio.NewReader(conn))
	}
	idle := dial(t, url)
	fmt.Fprint(idle, "GET / HTTP/1.1\r\nHost: x\r\n\r\n")
	in := bufio.NewReader(idle)
	if w, err := http.ReadResponse(in, nil); err != nil || w.StatusCode != 200 {
		t.Fatalf("%v, %v", w, err)
	}
	if n, _ := io.CopyN(io.Discard, in, 4); n != 4 {
		t.Fatal("the answer is not whole")
	}
	done := make(chan struct{})
	go func() {
		stop()
		close(done)
	}()
	if _, err := in.ReadByte(); err != io.EOF || os.IsTimeout(err) {
		t.Errorf("an idle connection says %v", err)
	}
	close(release)
	for _, in := range busy {
		w, err := http.ReadResponse(in, nil)
		if err != nil {
			t.Errorf("a request that was under way: %v", err)
			continue
		}
		if body, _ := io.ReadAll(w.Body); string(body) != "fine" || !w.Close {
			t.Errorf("a request that was under way: %q, closes %v", body, w.Close)
		}
	}
	<-done
}

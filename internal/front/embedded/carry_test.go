package embedded

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

// drip writes a byte at a time.
func drip(c net.Conn, text string) {
	for n := range len(text) {
		io.WriteString(c, text[n:n+1])
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
	send("POST /5 HTTP/1.1\r\nHost: x\r\nContent-Length: 5\r\n\r\nhe")
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
	// What is odd is answered at once.
	for _, c := range []struct {
		text string
		want int
	}{
		{"GET /0 HTTP/1.0\r\n\r\n", 200}, {"\x16\x03\x01\r\n", 400},
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
	testkit.Eventually(t, "it is no longer counted as open",
		func() bool { return read(t, c).Sides[split.Blue].Open == 0 })
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
	t.Parallel()
	const idle = 500 * time.Millisecond
	blue := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/none" {
			time.Sleep(2 * idle) // what the test is about
			w.WriteHeader(http.StatusNoContent)
			return
		}
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
	w, err := http.Head(url + "/none") // nor has it to have a body
	if err != nil || w.StatusCode != http.StatusNoContent {
		t.Errorf("a slow answer without a body: %v, %v", w, err)
	}
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
	for _, fields := range []string{"", "Connection: keep-alive, X-Nothing\r\n"} {
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

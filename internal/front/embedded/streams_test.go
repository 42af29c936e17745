package embedded

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/credentials"
	"google.golang.org/grpc/status"
	"google.golang.org/protobuf/types/known/wrapperspb"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

// secure opens a front that speaks TLS, and a client that speaks HTTP/2 with it.
func secure(t *testing.T, change func(*Config)) (address string, c *Client, client *http.Client) {
	t.Helper()
	url, c, _ := open(t, func(conf *Config) {
		conf.Certificates = []Certificate{certify(t, t.TempDir(), "x", 1)}
		if change != nil {
			change(conf)
		}
	})
	transport := &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, ForceAttemptHTTP2: true}
	t.Cleanup(transport.CloseIdleConnections)
	return strings.TrimPrefix(url, "http://"), c, &http.Client{Transport: transport, Timeout: 30 * time.Second}
}

// Ordinary POSTs over HTTP/2, of all sizes, some of which are answered before they have been read: all
// are answered, whatever the share does meanwhile.
func TestPostsOverHTTP2(t *testing.T) {
	handler := func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/early" {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		n, err := io.Copy(io.Discard, r.Body)
		if err == nil {
			fmt.Fprint(w, n)
		}
	}
	blue, green := newBackend(t, "blue-1", "1", handler), newBackend(t, "green-1", "2", handler)
	address, c, client := secure(t, nil)
	putInstances(t, c, split.Blue, blue)
	putInstances(t, c, split.Green, green)
	var wait sync.WaitGroup
	var asked atomic.Int64
	const each, clients = 150, 16
	for n := range clients {
		wait.Go(func() {
			r := rand.New(rand.NewPCG(1, uint64(n)))
			for k := range each {
				size := r.IntN(1 << r.IntN(19))
				path, want := "/", fmt.Sprint(size)
				if k%5 == 4 {
					path, want = "/early", ""
				}
				w, err := client.Post("https://"+address+path, "text/plain", bytes.NewReader(make([]byte, size)))
				asked.Add(1)
				if err != nil {
					t.Errorf("%s with %d bytes: %v", path, size, err)
					return
				}
				body, err := io.ReadAll(w.Body)
				w.Body.Close()
				if err != nil || string(body) != want {
					t.Errorf("%s with %d bytes: %d %q, %v", path, size, w.StatusCode, body, err)
				}
			}
		})
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		wait.Wait()
	}()
	for n := split.Share(1); ; n++ {
		select {
		case <-done:
			if r := read(t, c); r.Sides[split.Blue].Lost+r.Sides[split.Green].Lost > 0 {
				t.Errorf("%d and %d are counted as lost", r.Sides[split.Blue].Lost, r.Sides[split.Green].Lost)
			}
			return
		default:
			setShare(t, c, n*700%split.Whole)
		}
	}
}

// calls is a gRPC service: it adds up what it gets, streams what it is asked for, and fails as it is told.
var calls = grpc.ServiceDesc{
	ServiceName: "sailings.Calls", HandlerType: (*any)(nil),
	Methods: []grpc.MethodDesc{{MethodName: "One",
		Handler: func(_ any, _ context.Context, read func(any) error, _ grpc.UnaryServerInterceptor) (any, error) {
			var in wrapperspb.Int64Value
			if err := read(&in); err != nil {
				return nil, err
			}
			if in.Value < 0 {
				return nil, status.Error(codes.Code(-in.Value), "as asked")
			}
			return &in, nil
		}}},
	Streams: []grpc.StreamDesc{{StreamName: "Both", ServerStreams: true, ClientStreams: true,
		Handler: func(_ any, s grpc.ServerStream) error {
			var sum wrapperspb.Int64Value
			for {
				var in wrapperspb.Int64Value
				if err := s.RecvMsg(&in); errors.Is(err, io.EOF) {
					return s.SendMsg(&sum)
				} else if err != nil {
					return err
				}
				sum.Value += in.Value
				if in.Value%2 == 0 {
					if err := s.SendMsg(&in); err != nil {
						return err
					}
				}
			}
		}}},
}

// grpcInstance serves calls.
func grpcInstance(t *testing.T, name string) reading.Server {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := grpc.NewServer()
	s.RegisterService(&calls, nil)
	served := make(chan struct{})
	go func() {
		defer close(served)
		_ = s.Serve(l)
	}()
	t.Cleanup(func() {
		s.Stop()
		<-served
	})
	return reading.Server{Name: name, Address: l.Addr().String(), Version: "1"}
}

// gRPC goes through where instances speak HTTP/2: unary calls, streams either way and both ways, status in
// trailers, while the share moves. Calls that fail on the server's side count as failures.
func TestGRPC(t *testing.T) {
	t.Parallel()
	address, c, _ := secure(t, func(c *Config) {
		c.HTTP2 = true
		c.HeaderTime, c.Idle, c.BodyRate = time.Second, time.Second, 1<<20 // streams know none of these
	})
	for side, name := range map[split.Side]string{split.Blue: "blue-1", split.Green: "green-1"} {
		if err := c.SetInstances(t.Context(), side, []reading.Server{grpcInstance(t, name)}); err != nil {
			t.Fatal(err)
		}
	}
	conn, err := grpc.NewClient(address,
		grpc.WithTransportCredentials(credentials.NewTLS(&tls.Config{InsecureSkipVerify: true})))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()

	stream, err := conn.NewStream(ctx, &calls.Streams[0], "/sailings.Calls/Both")
	if err != nil {
		t.Fatal(err)
	}
	send := func(n int64) {
		t.Helper()
		if err := stream.SendMsg(wrapperspb.Int64(n)); err != nil {
			t.Fatal(err)
		}
	}
	expect := func(want int64) {
		t.Helper()
		var got wrapperspb.Int64Value
		if err := stream.RecvMsg(&got); err != nil || got.Value != want {
			t.Fatalf("the stream says %d, %v; want %d", got.Value, err, want)
		}
	}
	send(1) // nothing comes back for a while, and the client says nothing: it is there all the same
	time.Sleep(1500 * time.Millisecond)
	send(2)
	expect(2)

	ok := func(n int64) error {
		var got wrapperspb.Int64Value
		err := conn.Invoke(ctx, "/sailings.Calls/One", wrapperspb.Int64(n), &got)
		if err == nil && got.Value != n {
			err = fmt.Errorf("%d for %d", got.Value, n)
		}
		return err
	}
	for n := range 200 {
		if n%10 == 0 {
			setShare(t, c, split.Share(n)*50)
		}
		if err := ok(int64(n)); err != nil {
			t.Fatal(err)
		}
	}
	before := failures(t, c)
	for code := codes.Canceled; code <= codes.Unauthenticated; code++ {
		if err := ok(-int64(code)); status.Code(err) != code || !strings.Contains(err.Error(), "as asked") {
			t.Errorf("asked for status %v there is %v", code, err)
		}
	}
	if n := failures(t, c) - before; n != 5 {
		t.Errorf("%d calls count as failures, want those with status 2, 4, 13, 14 and 15", n)
	}
	time.Sleep(1500 * time.Millisecond) // the stream is quiet both ways for longer than a connection may be idle
	send(4)
	expect(4)
	if err := stream.CloseSend(); err != nil {
		t.Fatal(err)
	}
	expect(7)
	if err := stream.RecvMsg(&wrapperspb.Int64Value{}); !errors.Is(err, io.EOF) {
		t.Errorf("the stream ends with %v", err)
	}
	testkit.Eventually(t, "nothing is open", func() bool {
		r := read(t, c)
		return r.Sides[split.Blue].Open+r.Sides[split.Green].Open == 0
	})
}

func failures(t *testing.T, c *Client) (n int64) {
	t.Helper()
	for _, side := range read(t, c).Sides {
		for _, i := range side.Instances {
			n += i.Failures
		}
	}
	return n
}

// stateOf is the state of the connection of this machine at an address of 127.0.0.1, "" if there is none (proc_net(5)).
func stateOf(t *testing.T, at net.Addr) string {
	table, err := os.ReadFile("/proc/net/tcp")
	if err != nil {
		t.Error(err)
	}
	local := fmt.Sprintf("0100007F:%04X", at.(*net.TCPAddr).Port)
	for line := range strings.Lines(string(table)) {
		if f := strings.Fields(line); len(f) > 3 && f[1] == local {
			return f[3]
		}
	}
	return ""
}

// An instance that has closed its connection after an answer, without a word, costs nobody a request: not
// even one with a body. (One that closes it while it is being sent the next one does: nobody may send that
// again.)
func TestAConnectionThatWasClosedCostsNothing(t *testing.T) {
	closed := make(chan struct{}, 1)
	odd := oddInstance(t, func(conn net.Conn, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body) // else the close takes the answer with it
		_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
		conn.Close()
		testkit.Eventually(t, "the front's machine has heard of it", func() bool {
			return stateOf(t, conn.RemoteAddr()) != "01" // established (tcp_states.h)
		})
		closed <- struct{}{}
	})
	url, c, _ := open(t, nil)
	if err := c.SetInstances(t.Context(), split.Blue, []reading.Server{odd}); err != nil {
		t.Fatal(err)
	}
	for n := range 200 {
		for _, body := range []io.Reader{strings.NewReader("some"),
			io.MultiReader(strings.NewReader("so"), strings.NewReader("me")),
			strings.NewReader(strings.Repeat("a", 200_000))} {
			w, err := http.Post(url, "text/plain", body)
			if err != nil {
				t.Fatal(err)
			}
			w.Body.Close()
			if w.StatusCode != http.StatusOK {
				t.Fatalf("request %d: status %d", n, w.StatusCode)
			}
			<-closed
		}
	}
}

// An instance that answers and closes while it is still being sent something is heard.
func TestAnInstanceThatAnswersEarly(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			_, _ = conn.Read(make([]byte, 512))
			_, _ = io.WriteString(conn, "HTTP/1.1 413 Content Too Large\r\nContent-Length: 2\r\n\r\nno")
			conn.Close() // with most of the request unread: a reset
		}
	}()
	url, c, _ := open(t, nil)
	if err := c.SetInstances(t.Context(), split.Blue,
		[]reading.Server{{Name: "odd-1", Address: l.Addr().String(), Version: "1"}}); err != nil {
		t.Fatal(err)
	}
	for range 20 {
		conn := dial(t, url)
		go func() {
			_, _ = io.WriteString(conn, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 30000000\r\n\r\n")
			for range 300 {
				if _, err := conn.Write(make([]byte, 100_000)); err != nil {
					return
				}
			}
		}()
		w, err := http.ReadResponse(bufio.NewReader(conn), nil)
		if err != nil {
			t.Fatal(err)
		}
		if body, err := io.ReadAll(w.Body); w.StatusCode != http.StatusRequestEntityTooLarge || string(body) != "no" {
			t.Errorf("the client gets %d %q, %v", w.StatusCode, body, err)
		}
		conn.Close()
	}
}

// An instance has its time to begin reading a large body; one that never does is given up.
func TestAnInstanceThatReadsLate(t *testing.T) {
	t.Parallel()
	begin := make(chan struct{})
	blue := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-begin:
		case <-r.Context().Done():
			return
		}
		n, _ := io.Copy(io.Discard, r.Body)
		fmt.Fprint(w, n)
	})
	const size = 30 << 20
	post := func(limit time.Duration, meanwhile func(c *Client)) (int, string) {
		url, c, _ := open(t, func(c *Config) { c.FirstByte = limit })
		putInstances(t, c, split.Blue, blue)
		done := make(chan struct{})
		defer func() { <-done }()
		go func() {
			defer close(done)
			meanwhile(c)
		}()
		w, err := (&http.Client{Timeout: time.Minute}).Post(url, "text/plain", bytes.NewReader(make([]byte, size)))
		if err != nil {
			t.Fatal(err)
		}
		defer w.Body.Close()
		body, _ := io.ReadAll(w.Body)
		return w.StatusCode, string(body)
	}
	if status, _ := post(500*time.Millisecond, func(*Client) {}); status != http.StatusGatewayTimeout {
		t.Errorf("an instance that never reads gives %d", status)
	}
	if status, body := post(time.Minute, func(c *Client) {
		testkit.Eventually(t, "it has waited", func() bool { return c != nil && waited(t, c, 2*time.Second) })
		close(begin)
	}); status != http.StatusOK || body != fmt.Sprint(size) {
		t.Errorf("an instance that reads late gives %d %q", status, body)
	}
}

// waited reports whether a request to blue has waited so long.
func waited(t *testing.T, c *Client, long time.Duration) bool {
	r, err := c.Read(t.Context())
	return err == nil && len(r.Sides[split.Blue].Instances) > 0 && r.Sides[split.Blue].Instances[0].Longer(long) > 0
}

// echoTunnel upgrades and sends back what it gets, until no more comes.
func echoTunnel(t *testing.T) *backend {
	return newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Upgrade") == "" {
			fmt.Fprint(w, "fine")
			return
		}
		conn, in, err := http.NewResponseController(w).Hijack()
		if err != nil {
			return
		}
		defer conn.Close()
		_, _ = io.WriteString(conn, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: echo\r\n\r\n")
		_, _ = io.Copy(conn, in)
		_, _ = io.WriteString(conn, "bye")
	})
}

// tunnel opens one.
func tunnel(t *testing.T, url string) (*net.TCPConn, *bufio.Reader) {
	t.Helper()
	conn := dial(t, url).(*net.TCPConn)
	_, _ = io.WriteString(conn, "GET /t HTTP/1.1\r\nHost: x\r\nConnection: Upgrade\r\nUpgrade: echo\r\n\r\n")
	in := bufio.NewReader(conn)
	w, err := http.ReadResponse(in, nil)
	if err != nil || w.StatusCode != http.StatusSwitchingProtocols {
		t.Fatalf("no tunnel: %v, %v", w, err)
	}
	return conn, in
}

// A tunnel whose client says that no more comes hears what the instance still has to say, and ends;
// one on which nothing moves ends after its time.
func TestTunnelsThatAreHalfClosed(t *testing.T) {
	t.Parallel()
	blue := echoTunnel(t)
	url, c, _ := open(t, func(c *Config) { c.TunnelIdle = time.Second })
	putInstances(t, c, split.Blue, blue)
	for range 10 {
		conn, in := tunnel(t, url)
		_, _ = io.WriteString(conn, "hello")
		if err := conn.CloseWrite(); err != nil {
			t.Fatal(err)
		}
		if got, err := io.ReadAll(in); err != nil || string(got) != "hellobye" {
			t.Errorf("the tunnel said %q, %v", got, err)
		}
	}
	for range 10 { // whose clients are gone without a word, as behind a cut cable
		tunnel(t, url)
	}
	testkit.Eventually(t, "all tunnels are gone", func() bool { return read(t, c).Sides[split.Blue].Open == 0 })
}

// Tunnels and streams that are open are no reason to refuse a side's requests, and a side is never refused
// what it carried before the crossing.
func TestWhatASideCarriedIsNotRefused(t *testing.T) {
	blue := echoTunnel(t)
	url, c, _ := open(t, func(c *Config) { c.Connections, c.PerClient = 100, 100 })
	putInstances(t, c, split.Blue, blue)
	putInstances(t, c, split.Green, newBackend(t, "green-1", "2", nil))
	for range 60 {
		tunnel(t, url)
	}
	setShare(t, c, 100)
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 1}}
	for n := range 200 {
		if code, _, _ := get(t, client, url); code != http.StatusOK {
			t.Fatalf("with 60 tunnels open, request %d gets %d", n, code)
		}
	}
	// Long polls: what waited at once before the crossing may wait in it.
	release := make(chan struct{})
	slow := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/poll" {
			<-release
		}
	})
	url, c, _ = open(t, func(c *Config) { c.Connections, c.PerClient = 100, 100 })
	putInstances(t, c, split.Blue, slow)
	putInstances(t, c, split.Green, newBackend(t, "green-1", "2", nil))
	var wait sync.WaitGroup
	var refused atomic.Int64
	poll := func(n int) {
		for range n {
			wait.Go(func() {
				w, err := http.Get(url + "/poll")
				if err != nil || w.StatusCode != http.StatusOK {
					refused.Add(1)
				}
				if err == nil {
					w.Body.Close()
				}
			})
		}
	}
	poll(60)
	testkit.Eventually(t, "they wait", func() bool { return slow.served.Load() == 60 })
	setShare(t, c, 100)
	if code, _, _ := get(t, client, url); code != http.StatusServiceUnavailable {
		t.Log("the 61st went to green") // one in a hundred
	}
	close(release)
	wait.Wait()
	if n := refused.Load(); n > 0 {
		t.Errorf("%d of those that waited before the crossing were refused", n)
	}
	release = make(chan struct{})
	close(release)
	poll(60)
	wait.Wait()
	if n := refused.Load(); n > 0 {
		t.Errorf("%d of 60, as many as before the crossing, were refused", n)
	}
}

// A side that was released knows nobody: who had a session there in the last crossing has none in the next.
func TestSessionsEndWithTheirEpoch(t *testing.T) {
	url, c, _, _ := twoSides(t, func(c *Config) { c.Sticky, c.Service = true, "sailings" })
	setShare(t, c, split.Whole)
	var cookies []string
	for range 20 {
		_, h, body := get(t, http.DefaultClient, url)
		cookie, _, _ := strings.Cut(h.Get("Set-Cookie"), ";")
		if body != "green-1" {
			t.Fatal(body)
		}
		cookies = append(cookies, cookie)
	}
	setShare(t, c, 0)
	if _, err := c.Drain(t.Context(), split.Green); err != nil {
		t.Fatal(err)
	}
	setShare(t, c, 100) // the next crossing: another version may be there by now
	green := 0
	for _, cookie := range cookies {
		_, h, body := get(t, http.DefaultClient, url, "Cookie", cookie)
		if body == "green-1" {
			green++
		}
		if h.Get("Set-Cookie") == "" {
			t.Error("an old session is not replaced")
		}
	}
	if green > 3 {
		t.Errorf("%d of 20 who were on green in the last crossing are there again at 1 %%", green)
	}
}

// What clients may send has limits by choice: the size of a body, and times by path.
func TestLimitsByChoice(t *testing.T) {
	hang := make(chan struct{})
	t.Cleanup(func() { close(hang) })
	blue := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/slow") {
			select {
			case <-hang:
			case <-r.Context().Done():
			}
			return
		}
		n, err := io.Copy(io.Discard, r.Body)
		if err == nil {
			fmt.Fprint(w, n)
		}
	})
	url, c, _ := open(t, func(c *Config) {
		c.BodySize, c.FirstByte = 1000, time.Minute
		c.Paths = []Path{{Begins: "/upload/", BodySize: 100_000}, {Begins: "/slow/", FirstByte: 200 * time.Millisecond}}
	})
	putInstances(t, c, split.Blue, blue)
	for _, r := range []struct {
		path string
		body io.Reader
		want int
	}{
		{"/", strings.NewReader(strings.Repeat("a", 1000)), 200},
		{"/", strings.NewReader(strings.Repeat("a", 1001)), 413},
		{"/", io.MultiReader(strings.NewReader(strings.Repeat("a", 2000))), 413}, // of no announced size
		{"/upload/a", strings.NewReader(strings.Repeat("a", 90_000)), 200},
		{"/slow/a", nil, 504},
	} {
		w, err := http.Post(url+r.path, "text/plain", r.body)
		if err != nil {
			t.Fatal(err)
		}
		w.Body.Close()
		if w.StatusCode != r.want {
			t.Errorf("%s: status %d, want %d", r.path, w.StatusCode, r.want)
		}
	}
	if n := read(t, c).Refused[reasonNames[largeBody]]; n != 2 {
		t.Errorf("%d bodies are counted as too large, want 2", n)
	}
	if f := failures(t, c); f != 1 {
		t.Errorf("%d count as the instance's failures, want the one that did not answer", f)
	}
}

// Clients show a certificate where the front asks for it, and instances are told which.
func TestClientCertificates(t *testing.T) {
	dir := t.TempDir()
	mine := testkit.Certify(t, dir, "client.example", 3, nil)
	blue := newBackend(t, "blue-1", "1",
		func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, r.Header.Get("Client-Cert")) })
	address, c, _ := secure(t, func(c *Config) { c.ClientCA = mine.File })
	putInstances(t, c, split.Blue, blue)
	pair, err := tls.LoadX509KeyPair(mine.File, mine.Key)
	if err != nil {
		t.Fatal(err)
	}
	ask := func(http2 bool, certificates ...tls.Certificate) (string, error) {
		transport := &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true, Certificates: certificates},
			ForceAttemptHTTP2: http2, DisableKeepAlives: true}
		r, err := http.NewRequest(http.MethodGet, "https://"+address, nil)
		if err != nil {
			return "", err
		}
		r.Header.Set("Client-Cert", ":Zm9yZ2Vk:")
		w, err := transport.RoundTrip(r)
		if err != nil {
			return "", err
		}
		defer w.Body.Close()
		body, err := io.ReadAll(w.Body)
		return string(body), err
	}
	for _, http2 := range []bool{false, true} {
		if got, err := ask(http2); err == nil {
			t.Errorf("without a certificate there is %q", got)
		}
		if got, err := ask(http2, pair); err != nil || len(got) < 100 || got[0] != ':' || got[len(got)-1] != ':' {
			t.Errorf("the instance is told the certificate %q, %v", got, err)
		}
	}
	if read(t, c).Refused[reasonNames[noHandshake]] == 0 {
		t.Error("handshakes that failed are not counted")
	}
}

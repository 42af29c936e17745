package embedded

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/pires/go-proxyproto"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

// certify writes a certificate for a name, and its key.
func certify(t *testing.T, dir, name string, number int64) Certificate {
	t.Helper()
	c := testkit.Certify(t, dir, name, number, nil)
	return Certificate{File: c.File, Key: c.Key}
}

// over asks over TLS for a name, and returns the answer with its certificate's number.
func over(t *testing.T, url, name string, protocols ...string) (number int64, protocol, body string) {
	t.Helper()
	conf := &tls.Config{InsecureSkipVerify: true, ServerName: name} // of its own making
	transport := &http.Transport{TLSClientConfig: conf, DisableKeepAlives: true, Protocols: new(http.Protocols)}
	transport.Protocols.SetHTTP1(len(protocols) == 0)
	transport.Protocols.SetHTTP2(len(protocols) > 0)
	w, err := (&http.Client{Transport: transport, Timeout: 20 * time.Second}).Get(strings.Replace(url, "http://",
		"https://", 1) + "/x")
	if err != nil {
		t.Fatal(err)
	}
	defer w.Body.Close()
	data, err := io.ReadAll(w.Body)
	if err != nil {
		t.Fatal(err)
	}
	return w.TLS.PeerCertificates[0].SerialNumber.Int64(), w.Proto, string(data)
}

func TestTLS(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	blue := newBackend(t, "blue-1", "1", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "%s %s", r.Header.Get("X-Forwarded-Proto"), r.Header.Get("X-Forwarded-For"))
	})
	url, c, _ := open(t, func(c *Config) {
		c.Certificates = []Certificate{certify(t, dir, "sailings.example", 1), certify(t, dir, "berths.example", 2)}
	})
	putInstances(t, c, split.Blue, blue)
	for name, want := range map[string]int64{"sailings.example": 1, "berths.example": 2, "other.example": 1} {
		if got, protocol, body := over(t, url, name); got != want || protocol != "HTTP/1.1" ||
			body != "https 127.0.0.1" {
			t.Errorf("%s is answered with certificate %d over %s: %q", name, got, protocol, body)
		}
	}
	if _, protocol, body := over(t, url, "sailings.example", "h2"); protocol != "HTTP/2.0" ||
		body != "https 127.0.0.1" {
		t.Errorf("HTTP/2: %s, %q", protocol, body)
	}
	// What is unclear is unclear over TLS too.
	conn, err := tls.Dial("tcp", strings.TrimPrefix(url, "http://"), &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if answer, closed := said(t, conn, "GET / HTTP/1.1\nHost: x\n\n"); !closed ||
		!strings.HasPrefix(answer, "HTTP/1.1 400 ") {
		t.Errorf("an unclear request over TLS gets %q, closed %v", answer, closed)
	}
	if answer, closed := said(t, dial(t, url), "GET / HTTP/1.1\r\nHost: x\r\n\r\n"); !closed ||
		!strings.HasPrefix(answer, "HTTP/1.1 400 ") || !strings.Contains(answer, "speaks HTTPS") {
		t.Errorf("plain text is answered with %q, closed %v", answer, closed)
	}
	// Who does not get on with the handshake is let go.
	hasty, _, _ := open(t, func(c *Config) {
		c.HeaderTime = 300 * time.Millisecond
		c.Certificates = []Certificate{certify(t, t.TempDir(), "sailings.example", 1)}
	})
	if answer, closed := said(t, dial(t, hasty), "\x16\x03\x01"); !closed {
		t.Errorf("half a handshake holds a connection: %q", answer)
	}
	// A file that is spoiled leaves the certificate as it was; one that is replaced counts.
	file := filepath.Join(dir, "sailings.example.pem")
	if err := os.WriteFile(file, []byte("nothing"), 0o600); err != nil {
		t.Fatal(err)
	}
	time.Sleep(lookEvery) // so that it is looked at; the next line would pass at once otherwise
	if got, _, _ := over(t, url, "sailings.example"); got != 1 {
		t.Errorf("with its file spoiled the certificate is %d", got)
	}
	certify(t, dir, "sailings.example", 7)
	testkit.Eventually(t, "the certificate is the new one", func() bool {
		got, _, _ := over(t, url, "sailings.example")
		return got == 7
	})
	if _, err := newCertificates([]Certificate{{File: file, Key: "nowhere"}}, ""); err == nil {
		t.Error("a front begins without its certificate")
	}
}

// A peer that is listed says whose connection it brings; nobody else can.
func TestAnnouncedConnections(t *testing.T) {
	show := func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, r.Header.Get("X-Forwarded-For")) }
	header := func(version byte) string {
		h := proxyproto.HeaderProxyFromAddrs(version, &net.TCPAddr{IP: net.ParseIP("198.51.100.9"), Port: 4711},
			&net.TCPAddr{IP: net.ParseIP("192.0.2.1"), Port: 80})
		var b bytes.Buffer
		if _, err := h.WriteTo(&b); err != nil {
			t.Fatal(err)
		}
		return b.String()
	}
	const request = "GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n"
	for _, c := range []struct {
		listed string
		text   string
		want   string // at the end of the answer; "" for none
	}{
		{"127.0.0.1", header(1) + request, "\r\n\r\n198.51.100.9"},
		{"127.0.0.1", header(2) + request, "\r\n\r\n198.51.100.9"},
		{"127.0.0.1", request, ""},
		{"127.0.0.1", "PROXY TCP4 nonsense\r\n" + request, ""},
		{"127.0.0.1", "PROXY TC", ""},
		{"192.0.2.1", header(1) + request, "400 Bad Request"},
		{"192.0.2.1", request, "\r\n\r\n127.0.0.1"},
	} {
		blue := newBackend(t, "blue-1", "1", show)
		url, client, _ := open(t, func(conf *Config) {
			conf.HeaderTime = 2 * time.Second
			conf.Announced = []netip.Prefix{netip.MustParsePrefix(c.listed + "/32")}
		})
		putInstances(t, client, split.Blue, blue)
		answer, closed := said(t, dial(t, url), c.text)
		if !closed || !strings.HasSuffix(answer, c.want) || c.want == "" && answer != "" {
			t.Errorf("with %s listed, %q gets %q, closed %v; want %q", c.listed, c.text, answer, closed, c.want)
		}
	}
}

// A connection counts for whoever it is announced to be of, from beginning to end.
func TestAnnouncedConnectionsAreCounted(t *testing.T) {
	dir := t.TempDir()
	conf := Config{Listen: "127.0.0.1:0", Socket: filepath.Join(dir, "s"), State: filepath.Join(dir, "state.json"),
		Key: testKey, Settings: *Defaults()}
	conf.Announced = []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}
	conf.Certificates = []Certificate{certify(t, dir, "sailings.example", 1)}
	s, err := NewServer(conf)
	if err != nil {
		t.Fatal(err)
	}
	runServer(t, s)
	counted := func() (all int, of int) {
		s.room.mu.Lock()
		defer s.room.mu.Unlock()
		return len(s.room.callers), s.room.of[netip.MustParsePrefix("198.51.100.9/32")]
	}
	for _, protocol := range []string{"h2", "http/1.1"} {
		raw := dial(t, "http://"+s.Address())
		if _, err := io.WriteString(raw, "PROXY TCP4 198.51.100.9 192.0.2.1 4711 443\r\n"); err != nil {
			t.Fatal(err)
		}
		conn := tls.Client(raw, &tls.Config{InsecureSkipVerify: true, NextProtos: []string{protocol}})
		if err := conn.HandshakeContext(t.Context()); err != nil {
			t.Fatal(err)
		}
		if all, of := counted(); all != 1 || of != 1 {
			t.Errorf("%s: %d connections are counted, %d of the client's", protocol, all, of)
		}
		_ = raw.Close()
		testkit.Eventually(t, "nobody is counted any more", func() bool {
			all, of := counted()
			return all == 0 && of == 0
		})
	}
}

// The spare side's own door leads there whatever the share is, for who knows the way.
func TestTheSpareDoor(t *testing.T) {
	seen := func(name string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprintf(w, "%s %s %s", name, r.Header.Get("X-Try"), r.Header.Get("Cookie"))
		}
	}
	blue, green := newBackend(t, "blue-1", "1", seen("blue")), newBackend(t, "green-1", "2", seen("green"))
	dir := t.TempDir()
	conf := Config{
		Listen: "127.0.0.1:0", Socket: filepath.Join(dir, "s"), State: filepath.Join(dir, "state.json"),
		Spare: plan.SpareDoor{Listen: "127.0.0.1:0", Header: "X-Try", Cookie: "try",
			File: filepath.Join(dir, "spare.secret")},
		Key: testKey, Settings: *Defaults(),
	}
	s, err := NewServer(conf)
	if err != nil {
		t.Fatal(err)
	}
	runServer(t, s)
	url, door, c := "http://"+s.Address(), "http://"+s.SpareAddress(), Dial(conf.Socket)
	putInstances(t, c, split.Blue, blue)
	putInstances(t, c, split.Green, green)
	secret := func() string {
		data, err := os.ReadFile(conf.Spare.File)
		if err != nil {
			t.Fatal(err)
		}
		return strings.TrimSpace(string(data))
	}
	asks := func(url, want string, headers ...string) {
		t.Helper()
		if _, _, got := get(t, http.DefaultClient, url, headers...); got != want {
			t.Errorf("with %q it is %q that answers, want %q", headers, got, want)
		}
	}
	for _, share := range []split.Share{0, 2500, 9900} {
		if share > 0 {
			setShare(t, c, share)
		}
		asks(door, "green  ")
		asks(url, "green  ", "X-Try", secret())
		asks(url, "green  a=b; c=d", "Cookie", "a=b; try="+secret()+"; c=d")
	}
	if r := read(t, c); r.Sides[split.Green].Instances[0].Requests != 0 {
		t.Errorf("what came by the spare door is counted: %+v", r.Sides[split.Green])
	}
	setShare(t, c, 0)
	asks(url, "blue  ", "X-Try", secret()+"x")
	asks(url, "blue  a=b", "Cookie", "try=wrong; a=b")
	setShare(t, c, split.Whole)
	asks(door, "blue  ") // it is the spare one now
	before := secret()
	if err := c.SetInstances(t.Context(), split.Blue, nil); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "another secret", func() bool { return secret() != before })
	asks(url, "green  ", "X-Try", before)
	if status, _, _ := get(t, http.DefaultClient, door); status != http.StatusServiceUnavailable {
		t.Errorf("a door to nobody is answered with %d", status)
	}
	if r := read(t, c); r.Sides[split.Blue].Lost != 0 {
		t.Errorf("who found nobody behind the spare door counts as lost")
	}
}

// Where the plan wants it, others go first in the next crossing; within one nobody goes back.
func TestShuffle(t *testing.T) {
	url, c, _, _ := twoSides(t, func(c *Config) { c.Key.From, c.Key.Name, c.Shuffle = "cookie", "u", true })
	first := func() map[int]bool {
		t.Helper()
		on := map[int]bool{}
		for _, share := range []split.Share{1000, 3000} {
			setShare(t, c, share)
			for n := range 200 {
				_, _, got := get(t, http.DefaultClient, url, "Cookie", fmt.Sprintf("u=%d", n))
				if on[n] && got != "green-1" {
					t.Errorf("user %d went back while green grew", n)
				}
				on[n] = got == "green-1"
			}
		}
		return on
	}
	one := first()
	setShare(t, c, 0)
	two := first()
	both, all := 0, 0
	for n := range 200 {
		if one[n] || two[n] {
			all++
		}
		if one[n] && two[n] {
			both++
		}
	}
	if both*3 > all*2 {
		t.Errorf("of %d users who went first, %d did both times", all, both)
	}
}

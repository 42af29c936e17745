package embedded

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// row is what a client sends and what has to come of it. The library's reverse proxy gets the same: where
// it comes to something else, other says what and the row says why.
type row struct {
	send  string
	want  string // the answers' statuses and bodies, as summary has them
	other string // what the library's proxy comes to, where that differs
	none  bool   // the library's proxy does not answer, or not always the same
	why   string
}

// told is what an instance says of a request: all that it was asked.
func told(w http.ResponseWriter, r *http.Request) {
	if upgrade := r.Header.Get("Upgrade"); upgrade != "" {
		w.Header().Set("X-Upgrade", upgrade)
	}
	switch r.URL.Path {
	case "/hints":
		for range 8 {
			w.Header().Set("Link", "</a>")
			w.WriteHeader(http.StatusEarlyHints)
		}
	case "/none":
		w.WriteHeader(http.StatusNoContent)
		return
	case "/same":
		w.WriteHeader(http.StatusNotModified)
		return
	case "/refuses": // before it has read the body
		w.Header().Set("Connection", "close")
		w.WriteHeader(http.StatusForbidden)
		_, _ = io.WriteString(w, "no")
		return
	case "/ends":
		w.Header().Set("Trailer", "X-End")
		defer w.Header().Set("X-End", "1")
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return
	}
	fmt.Fprintf(w, "%s %s %s", r.Method, r.RequestURI, r.Host)
	if len(body) > 0 {
		fmt.Fprintf(w, " <%s>", body)
	}
	for _, name := range []string{"X-Sum", "X-Hop", "Te", "Expect", "Http2-Settings", "Cookie"} {
		if v := r.Header.Values(name); len(v) > 0 {
			fmt.Fprintf(w, " %s=%s", name, strings.Join(v, "|"))
		}
		if v := r.Trailer.Values(name); len(v) > 0 {
			fmt.Fprintf(w, " +%s=%s", name, strings.Join(v, "|"))
		}
	}
}

// rows1 are what is sent over HTTP/1, as bytes. HOST stands for the front's address.
var rows1 = []row{
	// Requests and their targets.
	{send: "GET /a HTTP/1.1\r\nHost: x\r\n\r\n", want: "200 GET /a x"},
	{send: "GET /a%2Fb?c=%zz;d&&e HTTP/1.1\r\nHost: x\r\n\r\n", want: "200 GET /a%2Fb?c=%zz;d&&e x",
		other: "200 GET /a%2Fb?e= x", why: "a query is the instance's to read"},
	{send: "GET http://other.example/a HTTP/1.1\r\nHost: x\r\n\r\n", want: "200 GET /a other.example",
		why: "RFC 9112, section 3.2.2"},
	{send: "GET ftp://other.example/a HTTP/1.1\r\nHost: x\r\n\r\n", want: "400", other: "200 GET /a other.example",
		why: "it is no HTTP URL"},
	{send: "GET http://me@other.example/a HTTP/1.1\r\nHost: x\r\n\r\n", want: "400", other: "200 GET /a other.example",
		why: "RFC 9110, section 4.2.4"},
	{send: "GET * HTTP/1.1\r\nHost: x\r\n\r\n", want: "400", other: "200 GET /%2A x", why: "only OPTIONS asks so"},
	{send: "OPTIONS * HTTP/1.1\r\nHost: x\r\n\r\n", want: "200"},
	{send: "OPTIONS /a HTTP/1.1\r\nHost: x\r\n\r\n", want: "200 OPTIONS /a x"},
	{send: "GET a HTTP/1.1\r\nHost: x\r\n\r\n", want: "400"},
	{send: "GET /a b HTTP/1.1\r\nHost: x\r\n\r\n", want: "400"},
	{send: "GET /a\x7fb HTTP/1.1\r\nHost: x\r\n\r\n", want: "400"},
	{send: "G(T /a HTTP/1.1\r\nHost: x\r\n\r\n", want: "400"},
	{send: "BREW /a HTTP/1.1\r\nHost: x\r\n\r\n", want: "200 BREW /a x"},
	{send: "CONNECT x:443 HTTP/1.1\r\nHost: x\r\n\r\n", want: "405", other: "200 CONNECT / x:443",
		why: "it would be a tunnel to anywhere"},
	{send: "TRACE /a HTTP/1.1\r\nHost: x\r\n\r\n", want: "405", other: "200 TRACE /a x",
		why: "it would show what proxies add"},
	{send: "GET /a HTTP/1.1\r\n\r\n", want: "400"},
	{send: "GET /a HTTP/1.1\r\nHost: x\r\nHost: x\r\n\r\n", want: "400"},
	{send: "GET /a HTTP/1.1\r\nHost: x/y\r\n\r\n", want: "400"},
	{send: "GET /a HTTP/1.1\r\nHost: me@x\r\n\r\n", want: "400"},
	{send: "GET /a HTTP/1.1\r\nHost: x:80:90\r\n\r\n", want: "400", other: "200 GET /a x:80:90",
		why: "a host has one port"},
	{send: "GET /a HTTP/1.1\r\nHost: [::1]:80\r\n\r\n", want: "200 GET /a [::1]:80"},
	{send: "GET /a HTTP/2.0\r\nHost: x\r\n\r\n", want: "400", other: "505", why: "it is not read at all"},
	// HTTP/1.0.
	{send: "GET /a HTTP/1.0\r\n\r\n", want: "200 GET /a HOST", other: "200 GET /a INSTANCE",
		why: "the address that the client connected to is what it asked for"},
	{send: "GET /a HTTP/1.0\r\nHost: x\r\n\r\n", want: "200 GET /a x"},
	{send: "GET /hints HTTP/1.0\r\nHost: x\r\n\r\n", want: "200 GET /hints x",
		other: "103 103 103 103 103 103 103 103 200 GET /hints x",
		why:   "HTTP/1.0 knows no answers between (RFC 9110, section 15.2)"},
	{send: "POST /a HTTP/1.0\r\nHost: x\r\nExpect: 100-continue\r\nContent-Length: 1\r\n\r\nb",
		want: "200 POST /a x <b>", other: "100 200 POST /a x <b> Expect=100-continue", why: "likewise"},
	// Bodies.
	{send: "POST /a HTTP/1.1\r\nHost: x\r\nContent-Length: 3\r\n\r\nabc", want: "200 POST /a x <abc>"},
	{send: "POST /a HTTP/1.1\r\nHost: x\r\nContent-Length: 0\r\n\r\n", want: "200 POST /a x"},
	{send: "GET /a HTTP/1.1\r\nHost: x\r\nContent-Length: 3\r\n\r\nabc", want: "200 GET /a x <abc>"},
	{send: "POST /a HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n2;a=b\r\nde\r\n0\r\n\r\n",
		want: "200 POST /a x <abcde>"},
	{send: "POST /a HTTP/1.1\r\nHost: x\r\nTrailer: X-Sum\r\nTransfer-Encoding: chunked\r\n\r\n1\r\na\r\n0\r\nX-Sum: " +
		"7\r\n\r\n", want: "200 POST /a x <a> +X-Sum=7", other: "200 POST /a x <a>",
		why: "a trailer that was announced is handed on"},
	{send: "POST /a HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n1\r\na\r\n0\r\nX-Sum: 7\r\n\r\n",
		want: "200 POST /a x <a>", why: "one that was not may be left out (RFC 9110, section 6.5.1)"},
	{send: "POST /a HTTP/1.1\r\nHost: x\r\nExpect: 100-continue\r\nContent-Length: 1\r\n\r\nb",
		want: "100 200 POST /a x <b> Expect=100-continue", other: "100 100 200 POST /a x <b> Expect=100-continue",
		why: "once is enough"},
	{send: "POST /a HTTP/1.1\r\nHost: x\r\nExpect: magic\r\nContent-Length: 1\r\n\r\nb", want: "417"},
	{send: "POST /refuses HTTP/1.1\r\nHost: x\r\nExpect: 100-continue\r\nContent-Length: 1000000\r\n\r\n",
		want: "403 no", none: true, why: "the instance did not ask for the body; the library may say 100 all the same"},
	{send: "POST /refuses HTTP/1.1\r\nHost: x\r\nContent-Length: 400000\r\n\r\nGET /b HTTP/1.1\r\nHost: x\r\n\r\n" +
		strings.Repeat("b", 399_000), want: "403 no", other: "", none: true,
		why: "an instance may answer before it was sent everything; what is left of the body is no request"},
	// Answers.
	{send: "HEAD /a HTTP/1.1\r\nHost: x\r\n\r\n", want: "200"},
	{send: "GET /none HTTP/1.1\r\nHost: x\r\n\r\n", want: "204"},
	{send: "GET /same HTTP/1.1\r\nHost: x\r\n\r\n", want: "304"},
	{send: "GET /same HTTP/1.1\r\nHost: x\r\nIf-None-Match: \"a\"\r\n\r\n", want: "304"},
	{send: "GET /hints HTTP/1.1\r\nHost: x\r\n\r\n", want: "103 103 103 103 103 103 103 103 200 GET /hints x"},
	{send: "GET /ends HTTP/1.1\r\nHost: x\r\n\r\n", want: "200 GET /ends x +X-End=1"},
	// Fields for one connection.
	{send: "GET /a HTTP/1.1\r\nHost: x\r\nConnection: X-Hop\r\nX-Hop: 1\r\n\r\n", want: "200 GET /a x"},
	{send: "GET /a HTTP/1.1\r\nHost: x\r\nTE: trailers, gzip\r\n\r\n", want: "200 GET /a x Te=trailers"},
	{send: "GET /a HTTP/1.1\r\nHost: x\r\nTE: gzip\r\n\r\n", want: "200 GET /a x"},
	{send: "GET /a HTTP/1.1\r\nHost: x\r\nConnection: Upgrade, HTTP2-Settings\r\nUpgrade: h2c\r\nHTTP2-Settings: " +
		"AAMAAABk\r\n\r\n", want: "200 GET /a x", other: "200 GET /a x upgrade=h2c",
		why: "nobody would see the requests within"},
	{send: "GET /a HTTP/1.1\r\nHost: x\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n",
		want: "200 GET /a x upgrade=websocket"},
	// Several on one connection.
	{send: "GET /a HTTP/1.1\r\nHost: x\r\n\r\nGET /b HTTP/1.1\r\nHost: x\r\n\r\n", want: "200 GET /a x 200 GET /b x"},
	{send: "POST /a HTTP/1.1\r\nHost: x\r\nContent-Length: 3\r\n\r\nabcHEAD /b HTTP/1.1\r\nHost: x\r\n\r\nGET /c " +
		"HTTP/1.1\r\nHost: x\r\n\r\n", want: "200 POST /a x <abc> 200 200 GET /c x"},
	{send: "GET /a HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\nGET /b HTTP/1.1\r\nHost: x\r\n\r\n",
		want: "200 GET /a x"},
}

// summary is what a client gets over HTTP/1: of each answer its status, what the instance said, and
// what its trailer says.
func summary(send, got string) string {
	var list []string
	heads := []string{}
	for text := range strings.SplitSeq(send, "\r\n\r\n") {
		if i := strings.LastIndex(text, "HEAD "); i >= 0 && strings.HasPrefix(text[i:], "HEAD /") {
			heads = append(heads, http.MethodHead)
		} else if strings.Contains(text, " HTTP/1") {
			heads = append(heads, http.MethodGet)
		}
	}
	in := newReader(got)
	for n := 0; ; {
		method := http.MethodGet
		if n < len(heads) {
			method = heads[n]
		}
		w, err := http.ReadResponse(in, &http.Request{Method: method})
		if err != nil {
			return strings.Join(list, " ")
		}
		list = append(list, fmt.Sprint(w.StatusCode))
		if w.StatusCode < 200 {
			continue
		}
		n++
		body, err := io.ReadAll(w.Body)
		if err != nil {
			list = append(list, "cut off")
		}
		if len(body) > 0 && w.StatusCode < 300 || string(body) == "no" {
			list = append(list, string(body))
		}
		if to := w.Header.Get("X-Upgrade"); to != "" {
			list = append(list, "upgrade="+to)
		}
		if end := w.Trailer.Get("X-End"); end != "" {
			list = append(list, "+X-End="+end)
		}
	}
}

// plainProxy is the library's reverse proxy before an instance.
func plainProxy(t testing.TB, instance string, secure bool) *httptest.Server {
	t.Helper()
	p := &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(&url.URL{Scheme: "http", Host: instance})
			r.Out.Host = r.In.Host
		},
		Transport: &http.Transport{DisableCompression: true}, BufferPool: &pieces, ErrorLog: quietLog,
	}
	s := httptest.NewUnstartedServer(p)
	s.Config.ErrorLog, s.Config.IdleTimeout = quietLog, closeAfter
	if secure {
		s.EnableHTTP2 = true
		s.StartTLS()
	} else {
		s.Start()
	}
	t.Cleanup(s.Close)
	return s
}

// hold holds the front and the library's proxy to a row.
func (r row) hold(t *testing.T, what, ours, theirs, instance string, ask func(at string) string) {
	t.Helper()
	other := r.other
	if other == "" {
		other = r.want
	}
	if other != r.want && r.why == "" {
		t.Errorf("%.120s: nobody says why the front differs from the library", what)
	}
	for _, of := range []struct{ name, at, want string }{{"the front", ours, r.want}, {"the library", theirs, other}} {
		if r.none && of.at == theirs {
			continue
		}
		want := strings.NewReplacer("HOST", of.at, "INSTANCE", instance).Replace(of.want)
		if got := ask(of.at); got != want {
			t.Errorf("%.200s\n%s comes to %q, want %q", what, of.name, got, want)
		}
	}
}

// closeAfter is how long a connection without a request stays open in these tests: it ends what a client reads.
const closeAfter = 300 * time.Millisecond

// Each row comes to what the RFCs want, and to what the library's reverse proxy makes of it where no
// reason is given.
func TestRowsOverHTTP1(t *testing.T) {
	t.Parallel()
	blue := newBackend(t, "blue-1", "1", told)
	address, c, _ := open(t, func(c *Config) { c.Idle = closeAfter })
	putInstances(t, c, split.Blue, blue)
	plain := plainProxy(t, blue.address.Address, false)
	var wait sync.WaitGroup
	defer wait.Wait()
	places := make(chan struct{}, 8)
	for _, r := range rows1 {
		places <- struct{}{}
		wait.Go(func() {
			defer func() { <-places }()
			r.hold(t, fmt.Sprintf("%q", r.send), strings.TrimPrefix(address, "http://"),
				strings.TrimPrefix(plain.URL, "http://"), blue.address.Address, func(at string) string {
					conn, err := net.Dial("tcp", at)
					if err != nil {
						return err.Error()
					}
					defer conn.Close()
					_ = conn.SetDeadline(time.Now().Add(20 * time.Second))
					go func() { _, _ = io.WriteString(conn, r.send) }()
					got, _ := io.ReadAll(conn)
					return summary(r.send, string(got))
				})
		})
	}
}

// frames2 is a request over HTTP/2: the fields of its head in their order, its body, and its trailer.
type frames2 struct {
	fields  []string // name, value
	body    string
	more    bool // there is more to come of it
	trailer []string
	row
}

var get2 = []string{":method", "GET", ":scheme", "https", ":authority", "x", ":path", "/a"}

// head2 is a head with some fields changed, and more behind them.
func head2(change ...string) []string {
	list := slices.Clone(get2)
	for n := 0; n < len(change); n += 2 {
		at := slices.Index(list, change[n])
		switch {
		case at < 0 || !strings.HasPrefix(change[n], ":"):
			list = append(list, change[n], change[n+1])
		case change[n+1] == "-":
			list = slices.Delete(list, at, at+2)
		default:
			list[at+1] = change[n+1]
		}
	}
	return list
}

const (
	smuggled = "a blank divides a request line"
	rejected = "refused" // by status 400, by a reset of the stream, or both: which of them comes first is chance
)

// rows2 are what is sent over HTTP/2.
var rows2 = []frames2{
	{fields: head2(), row: row{want: "200 GET /a x"}},
	{fields: head2(":path", "/a?b=%zz;c"),
		row: row{want: "200 GET /a?b=%zz;c x", other: "200 GET /a x", why: "a query is the instance's to read"}},
	{fields: head2(":path", "/a HTTP/1.1"), row: row{want: rejected, other: "200 GET /a%20HTTP/1.1 x", why: smuggled}},
	{fields: head2(":path", "/a?b HTTP/1.1 /c"), row: row{want: rejected}},
	{fields: head2(":path", "/a?b\tc"), row: row{want: rejected}},
	{fields: head2(":path", "a"), row: row{want: rejected}},
	{fields: head2(":path", ""), row: row{want: rejected}},
	{fields: head2(":path", "*"), row: row{want: rejected, other: "200 GET /%2A x", why: "only OPTIONS asks so"}},
	{fields: head2(":method", "OPTIONS", ":path", "*"), row: row{want: "200"}},
	{fields: head2(":path", "https://x/a"),
		row: row{want: rejected, other: "200 GET /a x", why: "RFC 9113, section 8.3.1: a path, and nothing before it"}},
	{fields: head2(":method", "G T"), row: row{want: rejected, other: "502", why: smuggled}},
	{fields: head2(":method", "GET /b HTTP/1.1"), row: row{want: rejected, other: "502", why: smuggled}},
	{fields: head2(":method", "BREW"), row: row{want: "200 BREW /a x"}},
	{fields: head2(":method", "TRACE"),
		row: row{want: "405", other: "200 TRACE /a x", why: "it would show what proxies add"}},
	{fields: head2(":authority", "x y"), row: row{want: rejected, other: "200 GET /a ", why: smuggled}},
	{fields: head2(":authority", "me@x"), row: row{want: rejected}},
	{fields: head2(":authority", "x", "host", "y"),
		row: row{want: rejected, other: "200 GET /a x", why: "RFC 9113, section 8.3.1: said in two ways"}},
	{fields: head2(":authority", "x", "host", "x"), row: row{want: "200 GET /a x"}},
	{fields: head2(":authority", "-", "host", "x"), row: row{want: "200 GET /a x"}},
	{fields: head2(":authority", "-"),
		row: row{want: rejected, other: "200 GET /a INSTANCE", why: "nobody is asked for"}},
	{fields: head2("content-length", "3"), body: "abc", row: row{want: "200 GET /a x <abc>"}},
	{fields: head2("content-length", "2"), body: "abc",
		row: row{want: rejected, none: true, why: "the library may answer before it has seen the length"}},
	{fields: head2("content-length", "x"), body: "abc",
		row: row{want: rejected, none: true, why: "the library may answer before it has seen the length"}},
	{fields: head2("content-length", "3", "content-length", "3"), body: "abc",
		row: row{want: rejected, other: "200 GET /a x <abc>", why: "RFC 9110, section 8.6"}},
	{fields: head2("content-length", "+3"), body: "abc",
		row: row{want: rejected, none: true, why: "the library may answer before it has seen the length"}},
	{fields: head2(":method", "POST"), body: "abc", row: row{want: "200 POST /a x <abc>"}},
	{fields: head2(":method", "POST", "trailer", "X-Sum"), body: "abc", trailer: []string{"x-sum", "7"},
		row: row{want: "200 POST /a x <abc> +X-Sum=7", other: "200 POST /a x <abc>",
			why: "a trailer that was announced is handed on"}},
	{fields: head2(":method", "POST", "content-length", "3", "trailer", "X-Sum"), body: "abc",
		trailer: []string{"x-sum", "7"},
		row:     row{want: "200 POST /a x <abc> +X-Sum=7", other: "200 POST /a x <abc>", why: "likewise"}},
	{fields: head2("connection", "close"), row: row{want: rejected}},
	{fields: head2("transfer-encoding", "chunked"), row: row{want: rejected}},
	{fields: head2("te", "gzip"), row: row{want: rejected}},
	{fields: head2("te", "trailers"), row: row{want: "200 GET /a x Te=trailers"}},
	{fields: head2("upgrade", "h2c"), row: row{want: rejected}},
	{fields: head2("cookie", "a=1", "cookie", "b=2"), row: row{want: "200 GET /a x Cookie=a=1; b=2"}},
	{fields: head2("X-Sum", "1"), row: row{want: rejected}},
	{fields: head2("x-sum", "1\r\nx: y"), row: row{want: rejected}},
	{fields: head2("x-sum", "1\x00"), row: row{want: rejected}},
	{fields: head2(":path", "/hints"), row: row{want: "103 103 103 103 103 103 103 103 200 GET /hints x"}},
	{fields: head2(":path", "/none"), row: row{want: "204"}},
	{fields: head2(":method", "HEAD"), row: row{want: "200"}},
	{fields: head2(":path", "/ends"), row: row{want: "200 GET /ends x +x-end=1"}},
	{fields: head2(":method", "POST", ":path", "/refuses", "content-length", "100000"),
		body: strings.Repeat("a", 60_000), more: true, row: row{want: "403 no"}},
	{fields: []string{":method", "CONNECT", ":authority", "x:443"},
		row: row{want: "405", other: "200 CONNECT / x:443", why: "it would be a tunnel to anywhere"}},
	{fields: head2(":method", "POST", "expect", "100-continue"), body: "a", row: row{want: "100 200 POST /a x <a>"}},
}

// Each row of HTTP/2 likewise.
func TestRowsOverHTTP2(t *testing.T) {
	blue := newBackend(t, "blue-1", "1", told)
	address, c, _ := open(t, func(c *Config) {
		c.Certificates = []Certificate{certify(t, t.TempDir(), "x", 1)}
	})
	putInstances(t, c, split.Blue, blue)
	plain := plainProxy(t, blue.address.Address, true)
	for _, r := range rows2 {
		r.hold(t, fmt.Sprintf("%q", r.fields), strings.TrimPrefix(address, "http://"),
			strings.TrimPrefix(plain.URL, "https://"), blue.address.Address, func(at string) string {
				return ask2(t, at, r)
			})
	}
}

// ask2 sends a request in frames, and sums up the answer.
func ask2(t *testing.T, at string, r frames2) string {
	t.Helper()
	conn, err := tls.Dial("tcp", at, &tls.Config{InsecureSkipVerify: true, NextProtos: []string{"h2"}})
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(20 * time.Second))
	var head bytes.Buffer
	e := hpack.NewEncoder(&head)
	block := func(fields []string) []byte {
		head.Reset()
		for n := 0; n < len(fields); n += 2 {
			_ = e.WriteField(hpack.HeaderField{Name: fields[n], Value: fields[n+1]})
		}
		return slices.Clone(head.Bytes())
	}
	f := http2.NewFramer(conn, conn)
	f.AllowIllegalWrites = true
	if _, err := io.WriteString(conn, http2.ClientPreface); err != nil {
		t.Fatal(err)
	}
	_ = f.WriteSettings()
	_ = f.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: block(r.fields), EndHeaders: true,
		EndStream: r.body == ""})
	go func() {
		for body := []byte(r.body); len(body) > 0; {
			piece := body[:min(len(body), 16<<10)]
			body = body[len(piece):]
			_ = f.WriteData(1, len(body) == 0 && r.trailer == nil && !r.more, piece)
		}
		if r.trailer != nil {
			_ = f.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: block(r.trailer), EndHeaders: true,
				EndStream: true})
		}
	}()
	f.ReadMetaHeaders = hpack.NewDecoder(4096, nil)
	var list []string
	var body strings.Builder
	done := func(tail ...string) string {
		if slices.Contains(tail, rejected) && len(list) == 0 || len(list) > 0 && list[0] == "400" {
			return rejected
		}
		if status := ""; len(list) > 0 {
			status = list[len(list)-1]
			if text := body.String(); text != "" && (status < "300" || text == "no") {
				list = append(list, text)
			}
		}
		return strings.Join(append(list, tail...), " ")
	}
	for {
		frame, err := f.ReadFrame()
		if err != nil {
			return done(rejected)
		}
		switch frame := frame.(type) {
		case *http2.MetaHeadersFrame:
			if status := frame.PseudoValue("status"); status != "" {
				list = append(list, status)
			} else {
				var tail []string
				for _, h := range frame.RegularFields() {
					tail = append(tail, "+"+h.Name+"="+h.Value)
				}
				return done(tail...)
			}
			if frame.StreamEnded() {
				return done()
			}
		case *http2.DataFrame:
			body.Write(frame.Data())
			if frame.StreamEnded() {
				return done()
			}
		case *http2.RSTStreamFrame:
			if frame.StreamID == 1 {
				return done(rejected)
			}
		case *http2.GoAwayFrame:
			if frame.ErrCode != http2.ErrCodeNo {
				return done(rejected)
			}
		}
	}
}

// rowsAnswered are what instances answer, as bytes, to GET /a; and what the client has to get.
var rowsAnswered = []struct {
	answer, want string
	again        bool // the connection may be used again
}{
	{"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok", "200 ok", true},
	{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nok\r\n0\r\n\r\n", "200 ok", true},
	{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2;a=b\r\nok\r\n0\r\nX-End: 1\r\n\r\n", "200 ok +X-End=1",
		true},
	{"HTTP/1.1 200 OK\nContent-Length: 2\n\nok", "200 ok", true},
	{"HTTP/1.1 200\r\nContent-Length: 2\r\n\r\nok", "200 ok", true},
	{"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nContent-Length: 2\r\n\r\nok", "200 ok", true},
	{"HTTP/1.1 103 Early Hints\r\n\r\nHTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok", "103 200 ok", true},
	{"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n", "200", true},
	{"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nokay", "200 ok", false},
	{"HTTP/1.1 204 No Content\r\n\r\n", "204", false},
	{"HTTP/1.1 304 Not Modified\r\nContent-Length: 5\r\n\r\n", "304", false},
	{"HTTP/1.1 304 Not Modified\r\nContent-Length: 5\r\n\r\nstray", "304", false},
	{"HTTP/1.0 200 OK\r\nContent-Length: 2\r\n\r\nok", "200 ok", false},
	{"HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Length: 2\r\n\r\nok", "200 ok", false},
	{"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nContent-Length: 3\r\n\r\nok", "502", false},
	{"HTTP/1.1 200 OK\r\nContent-Length: +2\r\n\r\nok", "502", false},
	{"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n 0\r\n\r\nok", "502", false},
	{"HTTP/1.1 200 OK\r\nTransfer-Encoding: gzip, chunked\r\n\r\n0\r\n\r\n", "502", false},
	{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n", "502", false},
	{"HTTP/2 200 OK\r\n\r\n", "502", false},
	{"nonsense\r\n\r\n", "502", false},
	{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nokX\r\n0\r\n\r\n", "502", false},
	{"HTTP/1.1 101 Switching Protocols\r\nUpgrade: x\r\nConnection: Upgrade\r\n\r\n", "502", false},
}

// Answers are framed in one way only, and a connection is used again only where nothing can be left on it.
func TestRowsAnswered(t *testing.T) {
	t.Parallel()
	for _, r := range rowsAnswered {
		var mu sync.Mutex // protects conns
		conns := map[net.Conn]bool{}
		odd := oddInstance(t, func(conn net.Conn, _ *http.Request) {
			mu.Lock()
			conns[conn] = true
			mu.Unlock()
			_, _ = io.WriteString(conn, r.answer)
		})
		address, c, _ := open(t, nil)
		if err := c.SetInstances(t.Context(), split.Blue, []reading.Server{odd}); err != nil {
			t.Fatal(err)
		}
		const times = 3
		for range times {
			got, _ := said(t, dial(t, address), "GET /a HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
			if got := summary("GET /a HTTP/1.1\r\n\r\n", got); got != r.want {
				t.Errorf("%q comes to %q, want %q", r.answer, got, r.want)
			}
		}
		mu.Lock()
		if n := len(conns); r.again && n != 1 || !r.again && n != times {
			t.Errorf("%q: %d connections for %d requests; is it used again: want %v", r.answer, n, times, r.again)
		}
		mu.Unlock()
	}
}

// The framing of answers agrees with the library's wherever it finds an end.
func FuzzAnswers(f *testing.F) {
	for _, r := range rowsAnswered {
		f.Add([]byte(r.answer))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var a answers
		a.begin()
		end, whole, err := a.take(data)
		if end > len(data) {
			t.Fatalf("an end at %d of %d", end, len(data))
		}
		var cut answers // in pieces it is the same
		cut.begin()
		at := 0
		for n := 0; n < len(data); n++ {
			_, done, errPiece := cut.take(data[n : n+1])
			if at = n + 1; done || errPiece != nil {
				if (errPiece != nil) != (err != nil) || done != whole || done && at != end {
					t.Fatalf("byte by byte it is %v at %d, %v; in one piece %v at %d, %v: %q", done, at, errPiece,
						whole, end, err, data)
				}
				break
			}
		}
		if err != nil || !whole {
			return
		}
		in := newReader(string(data))
		for {
			w, err := http.ReadResponse(in, &http.Request{Method: http.MethodGet})
			if err != nil {
				return // the library is stricter
			}
			if w.StatusCode < 200 && w.StatusCode != http.StatusSwitchingProtocols {
				continue
			}
			if _, err := io.ReadAll(w.Body); err != nil {
				return
			}
			if left := in.Buffered(); len(data)-left != end && len(data) < 4096 {
				t.Fatalf("the library ends at %d, this at %d: %q", len(data)-left, end, data)
			}
			return
		}
	})
}

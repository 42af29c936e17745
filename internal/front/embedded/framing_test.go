package embedded

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
)

// framed is a request, or several, and whether it can be read in one way only.
type framed struct {
	text string
	want error
}

var framings = []framed{
	{"GET / HTTP/1.1\r\nHost: x\r\n\r\n", nil},
	{"\r\nGET / HTTP/1.1\r\nHost: x\r\n\r\n", noHTTP},
	{"GET / HTTP/1.0\r\n\r\n", nil},
	{"GET / HTTP/1.1\r\nHost: x\r\n\r\nGET /b HTTP/1.1\r\nHost: x\r\n\r\n", nil},
	{"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 3\r\n\r\nabcGET /b HTTP/1.1\r\nHost: x\r\n\r\n", nil},
	{"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 0\r\n\r\nGET /b HTTP/1.1\r\nHost: x\r\n\r\n", nil},
	{"POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: " +
		"chunked\r\n\r\n3\r\nabc\r\nA;x=\"y\"\r\n0123456789\r\n0\r\nX-Sum: 1\r\n\r\nGET /b HTTP/1.1\r\nHost: x\r\n\r\n",
		nil},
	{"POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: ChunKed\r\n\r\n0\r\n\r\n", nil},
	{"GET / HTTP/1.1\nHost: x\n\n", bareLF},
	{"GET / HTTP/1.1\r\nHost: x\n\r\n", bareLF},
	{"GET / HTTP/1.1\r\nHost: x\rY: z\r\n\r\n", bareCR},
	{"GET /\r HTTP/1.1\r\nHost: x\r\n\r\n", bareCR},
	{"GET / HTTP/1.1\r\nHost: x\r\nA: b\r\n c\r\n\r\n", folded},
	{"GET / HTTP/1.1\r\n Host: x\r\n\r\n", folded},
	{"GET / HTTP/1.1\r\nHost: x\r\nA : b\r\n\r\n", noField},
	{"GET / HTTP/1.1\r\nHost: x\r\n: b\r\n\r\n", noField},
	{"GET / HTTP/1.1\r\nHost: x\r\nnothing\r\n\r\n", noField},
	{"GET / HTTP/1.1\r\nHost: x\r\nA: \x00\r\n\r\n", controlBytes},
	{"GET /\x01 HTTP/1.1\r\nHost: x\r\n\r\n", controlBytes},
	{"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 3\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n", twoLengths},
	{"POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\nContent-Length: 3\r\n\r\n0\r\n\r\n", twoLengths},
	{"POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n",
		twoLengths},
	{"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 3\r\nContent-Length: 3\r\n\r\nabc", twoLengths},
	{"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 3, 3\r\n\r\nabc", noLength},
	{"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: +3\r\n\r\nabc", noLength},
	{"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 0x3\r\n\r\nabc", noLength},
	{"POST / HTTP/1.1\r\nHost: x\r\nContent-Length:\r\n\r\nabc", noLength},
	{"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 99999999999999999999\r\n\r\n", noLength},
	{"POST / HTTP/1.0\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n", codedOld},
	{"POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: gzip, chunked\r\n\r\n0\r\n\r\n", otherCoding},
	{"POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: \x0bchunked\r\n\r\n0\r\n\r\n", controlBytes},
	{"POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: identity\r\n\r\n", otherCoding},
	{"POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n3\nabc\r\n0\r\n\r\n", bareLF},
	{"POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabcd\r\n0\r\n\r\n", noChunk},
	{"POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n0x3\r\nabc\r\n0\r\n\r\n", noChunk},
	{"POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n-3\r\nabc\r\n0\r\n\r\n", noChunk},
	{"POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n\r\n", noChunk},
	{"POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n0\r\nnothing\r\n\r\n", noField},
	{"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n", noHTTP},
	{"GET /\r\n\r\n", noHTTP},
	{"GET / HTTP/1.1 \r\nHost: x\r\n\r\n", noHTTP},
	{"GET / http/1.1\r\nHost: x\r\n\r\n", noHTTP},
}

// However a request is cut into pieces, it is judged the same.
func TestFraming(t *testing.T) {
	for _, c := range framings {
		for _, piece := range []int{1, 2, 7, len(c.text)} {
			var f framing
			var err error
			for at := 0; at < len(c.text) && err == nil; at += piece {
				_, err = f.take([]byte(c.text[at:min(at+piece, len(c.text))]))
			}
			if !errors.Is(err, c.want) {
				t.Errorf("%q in pieces of %d: %v, want %v", c.text, piece, err, c.want)
			}
		}
	}
}

// What is let through, the library frames in the same way, to the last byte.
func FuzzFraming(f *testing.F) {
	for _, c := range framings {
		f.Add([]byte(c.text))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var all framing
		good, err := all.take(data)
		if good > len(data) || err == nil && good != len(data) {
			t.Fatalf("%d of %d are good, %v", good, len(data), err)
		}
		in := bufio.NewReaderSize(bytes.NewReader(data[:good]), 64<<10)
		var f framing
		rest := data[:good]
		for len(rest) > 0 {
			r, err := http.ReadRequest(in)
			if err != nil {
				return // the library is stricter, or there is no whole request any more
			}
			body, errBody := io.ReadAll(r.Body)
			end := requestEnd(&f, rest)
			if end < 0 {
				if errBody == nil {
					t.Fatalf("the library reads a request with %d bytes of body where there is none to its end: %q",
						len(body), rest)
				}
				return
			}
			left, _ := in.Peek(in.Buffered())
			if errBody != nil || len(left) != len(rest)-end && len(left) < 32<<10 {
				t.Fatalf("the request ends %d before the end, for the library %d, %v: %q", len(rest)-end, len(left),
					errBody, rest)
			}
			rest = rest[end:]
		}
	})
}

// requestEnd is where the first request ends, -1 if it does not.
func requestEnd(f *framing, data []byte) int {
	for n := range data {
		if _, err := f.take(data[n : n+1]); err != nil {
			return -1
		}
		if f.idle() {
			return n + 1
		}
	}
	return -1
}

// Hundreds of requests, odd and plain, generated: each is refused, or frames as the library
// has it. Every part has forms that some reader reads otherwise.
func TestGeneratedRequests(t *testing.T) {
	methods := []string{"GET", "POST", "get", "HEAD", "OPTIONS", "G@T"}
	versions := []string{"HTTP/1.1", "HTTP/1.0", "HTTP/1.2", "HTTP/0.9"}
	ends := []string{"\r\n", "\n", "\r\r\n"}
	lengths := []string{"", "Content-Length: 4", "Content-Length: 04", "Content-Length: 4 ", "Content-Length: 4\t",
		"content-length:4", "Content-Length: -4", "Content-Length: 4;"}
	codings := []string{"", "Transfer-Encoding: chunked", "transfer-encoding:  chunked ",
		"Transfer-Encoding: chunked, chunked", "Transfer-Encoding: x"}
	asked, refused := 0, 0
	for _, method := range methods {
		for _, version := range versions {
			for n, end := range ends {
				for _, length := range lengths {
					for _, coding := range codings {
						if n > 0 && (method != "POST" || version != "HTTP/1.1") {
							continue
						}
						body := "4\r\nabcd\r\n0\r\n\r\n"
						if coding == "" {
							body = "abcd"
							if length == "" {
								body = ""
							}
						}
						text := strings.Join([]string{method + " /a " + version, "Host: x", length, coding}, end)
						for strings.Contains(text, end+end) {
							text = strings.Replace(text, end+end, end, 1)
						}
						text = strings.TrimSuffix(text, end) + end + end + body
						asked++
						var f framing
						if _, err := f.take([]byte(text)); err != nil {
							refused++
							continue
						}
						r, err := http.ReadRequest(bufio.NewReader(strings.NewReader(text)))
						if err != nil {
							refused++
							continue
						}
						got, err := io.ReadAll(r.Body)
						want := ""
						if body != "" {
							want = "abcd"
						}
						if err != nil || string(got) != want || !f.idle() {
							t.Errorf("%q: the library reads the body %q, %v; here it is at its end: %v", text, got, err,
								f.idle())
						}
					}
				}
			}
		}
	}
	if asked < 500 || refused == 0 || refused == asked {
		t.Errorf("%d of %d were refused", refused, asked)
	}
	t.Log(fmt.Sprintf("%d requests, %d refused", asked, refused))
}

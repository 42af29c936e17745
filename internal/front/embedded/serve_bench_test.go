package embedded

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// A small GET on a kept connection, through the front and through the library's reverse proxy: one process has
// client, proxy and instance, so that the difference is the proxy's.
func BenchmarkServe(b *testing.B) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	defer l.Close()
	go func() {
		_ = http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"a":1}`) }))
	}()
	ask := func(b *testing.B, at string) {
		conn, err := net.Dial("tcp", at)
		if err != nil {
			b.Fatal(err)
		}
		defer conn.Close()
		in := bufio.NewReader(conn)
		b.ReportAllocs()
		for b.Loop() {
			_, _ = io.WriteString(conn, "GET / HTTP/1.1\r\nHost: x\r\n\r\n")
			w, err := http.ReadResponse(in, nil)
			if err != nil {
				b.Fatal(err)
			}
			_, _ = io.Copy(io.Discard, w.Body)
		}
	}
	b.Run("front", func(b *testing.B) {
		dir := b.TempDir()
		c := Config{Listen: "127.0.0.1:0", Socket: dir + "/s", State: dir + "/state.json", Key: testKey,
			Settings: *Defaults()}
		s, err := NewServer(c)
		if err != nil {
			b.Fatal(err)
		}
		go func() { _ = s.Run(b.Context()) }()
		if err := Dial(c.Socket).SetInstances(b.Context(), split.Blue,
			[]reading.Server{{Name: "blue-1", Address: l.Addr().String()}}); err != nil {
			b.Fatal(err)
		}
		ask(b, s.Address())
	})
	b.Run("library", func(b *testing.B) {
		ask(b, strings.TrimPrefix(plainProxy(b, l.Addr().String(), false).URL, "http://"))
	})
}

package accesslog

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"vaiven/internal/world/place"
)

func TestFormats(t *testing.T) {
	at := time.Date(2026, 11, 23, 21, 0, 7, 0, time.UTC)
	for _, c := range []struct {
		line, client, path, agent string
		status                    int
		ok                        bool
	}{
		{`10.1.2.3 - - [23/Nov/2026:21:00:07 +0000] "GET /sailings?from=vessa HTTP/1.1" 200 512`, "10.1.2.3",
			"/sailings?from=vessa", "", 200, true},
		{`10.1.2.3 - ana [23/Nov/2026:23:00:07 +0200] "GET / HTTP/1.1" 404 - "http://a.test/" "Deck \"7\" browser"`,
			"10.1.2.3", "/", `Deck \"7\" browser`, 404, true},
		{`fd00::1 - - [23/Nov/2026:21:00:07 +0000] "-" 400 0 "-" "-" "passenger-7"`, "fd00::1", "", "-", 400, true},
		{`{"time":"2026-11-23T21:00:07Z","client":"10.1.2.3","method":"GET","path":"/x","status":201,"deep":{"a":["}",1]},"user_agent":"b"}`, "10.1.2.3", "/x", "b", 201, true},
		{`{"msec":"1795467607.000","remote_addr":"10.1.2.3","request":"GET /y HTTP/2.0","status":"502"}`, "10.1.2.3",
			"/y", "", 502, true},
		{`{"ts": 1795467607, "ip": "10.1.2.3", "uri": "/z", "code": 200}`, "10.1.2.3", "/z", "", 200, true},
		{`some other text`, "", "", "", 0, false},
		{`10.1.2.3 - - [yesterday] "GET / HTTP/1.1" 200 1`, "", "", "", 0, false},
		{`10.1.2.3 - - [23/Nov/2026:21:00:07 +0000] "GET / HTTP/1.1`, "", "", "", 0, false},
		{`{"time":"2026-11-23T21:00:07Z","client":`, "", "", "", 0, false},
		{`{"client":"10.1.2.3"}`, "", "", "", 0, false},
		{``, "", "", "", 0, false},
	} {
		var p Parser
		var e Entry
		ok := p.Parse([]byte(c.line), &e)
		if ok != c.ok {
			t.Errorf("%s\nparsed: %v", c.line, ok)
			continue
		}
		if ok && (string(e.Client) != c.client || string(e.Path) != c.path || string(e.Agent) != c.agent ||
			e.Status != c.status || !e.Time.Equal(at)) {
			t.Errorf("%s\nis %s %s %s %s %d %v", c.line, e.Client, e.Method, e.Path, e.Agent, e.Status, e.Time)
		}
	}
	var p Parser
	var e Entry
	p.Parse([]byte(`fd00::1 - - [23/Nov/2026:21:00:07 +0000] "-" 400 0 "-" "-" "one" "two"`), &e)
	if string(e.Field("1")) != "one" || string(e.Field("2")) != "two" || e.Field("3") != nil {
		t.Errorf("fields behind the Combined format: %s, %s", e.Field("1"), e.Field("2"))
	}
}

func FuzzParse(f *testing.F) {
	f.Add(`10.1.2.3 - - [23/Nov/2026:21:00:07 +0000] "GET / HTTP/1.1" 200 512 "-" "b" "c"`)
	f.Add(`{"time":"2026-11-23T21:00:07Z","client":"10.1.2.3","a":{"b":[1,"\""]},"status":200}`)
	f.Add(`{"a":1e9,"ts":1795467607.5}`)
	f.Fuzz(func(t *testing.T, line string) {
		var p Parser
		var e Entry
		if !p.Parse([]byte(line), &e) {
			return
		}
		if e.Time.IsZero() {
			t.Fatalf("%q has no time", line)
		}
		// Scalars agree with the library's where the line is JSON.
		var slow map[string]any
		d := json.NewDecoder(strings.NewReader(line))
		d.UseNumber()
		if line[0] != '{' || d.Decode(&slow) != nil {
			return
		}
		for name, v := range slow {
			if n, ok := v.(json.Number); ok && strings.Count(line, `"`+name+`"`) == 1 &&
				string(e.Field(name)) != n.String() {
				t.Fatalf("%q: %q is %q, the library says %q", line, name, e.Field(name), n)
			}
		}
	})
}

func TestPackedAndPiped(t *testing.T) {
	text := "first\nsecond\nlast, without an end"
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	io.WriteString(z, text)
	z.Close()
	file := filepath.Join(t.TempDir(), "access.log.gz")
	if err := os.WriteFile(file, packed.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	long := strings.Repeat("x", 3*longestLine)
	for name, stdin := range map[string]string{file: "", "-": text, "- ": "first\n" + long + "\nlast, without an end"} {
		r, err := Open(strings.TrimSpace(name), strings.NewReader(stdin))
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		err = Lines(r, func(line []byte) error {
			got = append(got, strings.TrimSuffix(string(line), "\n"))
			return nil
		})
		if err != nil || len(got) != 3 || got[0] != "first" || got[2] != "last, without an end" {
			t.Errorf("%s: %d lines, %v, the last %.40q", name, len(got), err, got[len(got)-1])
		}
		if err := r.Close(); err != nil {
			t.Error(err)
		}
	}
	if _, err := Open(filepath.Join(t.TempDir(), "none"), nil); err == nil {
		t.Error("a log that is not there was opened")
	}
}

func TestTailFollows(t *testing.T) {
	file := filepath.Join(t.TempDir(), "access.log")
	write := func(text string, flag int) {
		t.Helper()
		f, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY|flag, 0o600)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprint(f, text)
		f.Close()
	}
	write("old\n", os.O_APPEND)
	tail := NewTail(place.Local{}, file)
	defer tail.Close()
	if err := tail.Read(t.Context(), func(line []byte) { t.Errorf("%q was there before", line) }); err != nil {
		t.Fatal(err)
	}
	expect := func(want ...string) {
		t.Helper()
		var got []string
		if err := tail.Read(t.Context(), func(line []byte) { got = append(got, string(line)) }); err != nil {
			t.Fatal(err)
		}
		if !slices.Equal(got, want) {
			t.Errorf("read %q, want %q", got, want)
		}
	}
	expect()
	write("one\ntw", os.O_APPEND)
	expect("one")
	write("o\n", os.O_APPEND)
	expect("two")
	if err := os.Rename(file, file+".1"); err != nil { // moved away: what is added there still counts
		t.Fatal(err)
	}
	expect()
	write("three\n", os.O_APPEND)
	expect("three")
	write("4\n", os.O_TRUNC)
	expect("4")
}

func BenchmarkParse(b *testing.B) {
	for name, line := range map[string]string{
		"combined": `10.1.2.3 - - [23/Nov/2026:21:00:07 +0000] "GET /sailings?from=vessa HTTP/1.1" 200 512 "http://linea-vessa.test/" "Mozilla/5.0 (X11; Linux x86_64)"`,
		"json":     `{"at":"1795467607.123","client":"10.1.2.3","method":"GET","path":"/sailings?from=vessa","status":"200","upstream":"127.0.0.1:18100"}`,
	} {
		b.Run(name, func(b *testing.B) {
			var p Parser
			var e Entry
			data := []byte(line)
			b.ReportAllocs()
			for b.Loop() {
				if !p.Parse(data, &e) {
					b.Fatal("not parsed")
				}
			}
		})
	}
}

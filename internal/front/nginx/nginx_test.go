package nginx

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/fronttest"
	"vaiven/internal/front/include"
	"vaiven/internal/place"
	"vaiven/internal/plan"
	"vaiven/internal/stack/stacktest"
)

// greenAnywhere is where an editor changes the share.
var greenAnywhere = regexp.MustCompile(`(?m)^ +[0-9.]+% green;$`)

func start(t *testing.T, w *fronttest.World, key plan.Key) (f plan.Front, p *fronttest.Program, dir string) {
	t.Helper()
	program := fronttest.Need(t, Kind.Program)
	dir = t.TempDir()
	for d := dir; d != "/" && d != os.TempDir(); d = filepath.Dir(d) {
		_ = os.Chmod(d, 0o755) // for workers of another user
	}
	port, _ := stacktest.Ports(t, 1)
	w.Listen = fronttest.Address(port)
	kept := filepath.Join(dir, "kept")
	f = plan.Front{Listen: w.Listen, Key: key, Settings: &Settings{include.Settings{
		Config: filepath.Join(dir, "nginx.conf"), File: filepath.Join(kept, "sailings.conf"), Program: []string{program}, Log: filepath.Join(dir, "access.log"),
	}}}
	c := config("sailings", f, front.Site{Folder: dir})
	// As configurations grow: our file is found by a pattern, and there are others.
	text := strings.Replace(c.Text, "include "+kept+"/sailings.conf;", "include "+kept+"/sail*.conf;\n    include sites/*.conf; # and", 1)
	fronttest.Write(t, c.File, text)
	if made, err := New(place.Local{}, "sailings", f).Prepare(t.Context()); err != nil || !made {
		t.Fatalf("made %v, %v", made, err)
	}
	p = fronttest.Start(t, w.Listen, program, c.Args...)
	fronttest.Eventually(t, "its workers", func() error {
		now, err := New(place.Local{}, "sailings", f).File.Server.Running(t.Context())
		if err == nil && len(now) != 2 {
			err = fmt.Errorf("there are %v", now)
		}
		return err
	})
	return f, p, dir
}

func TestConformance(t *testing.T) {
	fronttest.Run(t, fronttest.System{Lacks: []fronttest.Ability{fronttest.Seamless, fronttest.Warns}, Open: func(t *testing.T, w *fronttest.World) fronttest.Proxy {
		f, p, dir := start(t, w, plan.Key{From: plan.KeyRandom})
		settings := f.Settings.(*Settings).Settings
		nginx := &server{on: place.Local{}, config: settings}
		return fronttest.ByFile{
			Driver: func() front.Driver { return New(place.Local{}, "sailings", f) }, Program: p, File: settings.File,
			Edit: func(data []byte, share split.Share) []byte {
				return greenAnywhere.ReplaceAll(data, fmt.Appendf(nil, "    %s green;", percent(share)))
			},
			Line:   "limit_conn_zone $remote_addr zone=berths:1m;",
			Reload: syscall.SIGHUP, Running: nginx.Running, Fresh: nginx.Fresh,
			Other: filepath.Join(dir, "sites", "other.conf"), Broken: "serve { listen nowhere }\n",
		}.Proxy()
	}})
}

// Clients by cookie: who is on green stays there while the share grows, whatever
// connection they come on.
func TestCookiesStay(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := start(t, w, plan.Key{From: plan.KeyCookie, Name: "passenger"})
	d := New(place.Local{}, "sailings", f)
	fronttest.Grows(t, w, d, func(n int) []string { return []string{fmt.Sprintf("Cookie: a=b; passenger=p%d", n)} })
}

// What nobody but nginx can judge: that every key makes a configuration it takes.
func TestEveryKeyPassesTheCheck(t *testing.T) {
	for _, key := range []plan.Key{
		{From: plan.KeyRandom}, {From: plan.KeyClient}, {From: plan.KeyClient, Prefix: 8}, {From: plan.KeyClient, Prefix: 24},
		{From: plan.KeyCookie, Name: "passenger"}, {From: plan.KeyHeader, Name: "X-Passenger"},
	} {
		w := fronttest.NewWorld(t)
		f, _, _ := start(t, w, key)
		d := New(place.Local{}, "sailings", f)
		if err := d.SetInstances(t.Context(), split.Blue, w.Raise(split.Blue, 1, 1)); err != nil {
			t.Fatalf("%v: %v", key, err)
		}
		if r, err := d.Read(t.Context()); err != nil || r.Tells.Both != (key.From != plan.KeyClient) {
			t.Errorf("%v: it tells %+v, %v", key, r.Tells, err)
		}
		if _, sides := w.Count(5, true, nil); sides[split.Blue] != 5 {
			t.Errorf("%v: answers of %v", key, sides)
		}
	}
}

func TestTheFileReadsBack(t *testing.T) {
	f := form{"line-vessa", plan.Key{From: plan.KeyClient, Prefix: 16}}
	for _, s := range []include.Setting{
		{},
		{Share: 1, Sides: [2][]reading.Server{{{Name: "blue-1", Address: "127.0.0.1:1", Version: "4.2.0"}}, {{Name: "green-1", Address: "10.1.0.5:80", Version: `4"3\`}}}},
		{Share: 10_000, Sides: [2][]reading.Server{nil, {{Name: "a", Address: "127.0.0.1:1", Out: true}, {Name: "b", Address: "127.0.0.1:2"}}}},
		{Share: 5050, Sides: [2][]reading.Server{{{Name: "a", Address: "[::1]:1", Out: true}}, {{Name: "b", Address: "127.0.0.1:2"}}}},
	} {
		text := f.Render(s)
		got, err := f.Parse(text)
		if err != nil || !reflect.DeepEqual(got, s) {
			t.Errorf("%+v is read back as %+v, %v from\n%s", s, got, err, text)
		}
	}
	for _, text := range []string{"", "upstream x {}", "\nsplit_clients \"a\" $b {\n    10% red;\n    * blue;\n}\n"} {
		if s, err := f.Parse([]byte(text)); err == nil {
			t.Errorf("%q was read as %+v", text, s)
		}
	}
}

func FuzzTheFile(f *testing.F) {
	f.Add(form{service: "s"}.Render(include.Setting{Share: 2500, Sides: [2][]reading.Server{{{Name: "a", Address: "127.0.0.1:1"}}}}))
	f.Fuzz(func(t *testing.T, data []byte) {
		f := form{service: "s"}
		s, err := f.Parse(data)
		if err != nil {
			return
		}
		if !s.Share.Valid() {
			t.Fatalf("a share of %d", s.Share)
		}
		if again, err := f.Parse(f.Render(s)); err == nil && again.Share != s.Share {
			t.Fatalf("%v is read back as %v", s.Share, again.Share)
		}
	})
}

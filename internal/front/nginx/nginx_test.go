package nginx

import (
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/include"
	"vaiven/internal/world/place"
	"vaiven/lab/fronttest"
	"vaiven/lab/testkit"
)

// greenAnywhere is where an editor changes the share.
var greenAnywhere = regexp.MustCompile(`(?m)^ +[0-9.]+% green;$`)

func start(t *testing.T, w *fronttest.World, key plan.Key) (f plan.Front, p *fronttest.Program, dir string) {
	t.Helper()
	return startAs(t, w, plan.Front{Key: key, Spare: fronttest.NewDoor(t.TempDir())}, "")
}

// startAs starts it as a plan's front wants it, with our file within an upstream block if that has a name.
func startAs(t *testing.T, w *fronttest.World, f plan.Front, upstream string) (plan.Front, *fronttest.Program, string) {
	t.Helper()
	program := fronttest.Need(t, Kind.Program)
	dir := t.TempDir()
	for d := dir; d != "/" && d != os.TempDir(); d = filepath.Dir(d) {
		_ = os.Chmod(d, 0o755) // for workers of another user
	}
	port, _ := testkit.Ports(t, 1)
	w.Listen = fronttest.Address(port)
	kept := filepath.Join(dir, "kept")
	f.Listen, f.Settings = w.Listen, &Settings{Upstream: upstream, Settings: include.Settings{
		Config: filepath.Join(dir, "nginx.conf"), File: filepath.Join(kept, "sailings.conf"),
		Program: []string{program}, Log: filepath.Join(dir, "access.log"),
	}}
	c := config("sailings", f, front.Site{Folder: dir})
	// As configurations grow: our file is found by a pattern, and there are others.
	text := strings.Replace(c.Text, "include "+kept+"/sailings.conf;",
		"include "+kept+"/sail*.conf;\n    include sites/*.conf; # and", 1)
	fronttest.Write(t, c.File, text)
	if made, err := New(place.Local{}, "sailings", f).Prepare(t.Context(), [2][]reading.Server{}); err != nil || !made {
		t.Fatalf("made %v, %v", made, err)
	}
	p := fronttest.Start(t, w.Listen, program, c.Args...)
	testkit.Until(t, "its workers", func() error {
		now, err := New(place.Local{}, "sailings", f).File.Server.Running(t.Context())
		if err == nil && len(now.Workers) != 2 {
			err = fmt.Errorf("there are %v", now.Workers)
		}
		return err
	})
	return f, p, dir
}

// slow is a configuration that nginx reads for some hundredths of a second.
func slow() string {
	var text strings.Builder
	text.WriteString("geo $berth {\n")
	for n := range 50000 {
		fmt.Fprintf(&text, "10.%d.%d.%d/32 %d;\n", n>>16, n>>8&255, n&255, n)
	}
	text.WriteString("}\n")
	return text.String()
}

func TestConformance(t *testing.T) { conform(t, fronttest.Here) }

func TestConformanceOverSSH(t *testing.T) {
	testkit.Long(t)
	conform(t, fronttest.OverSSH(t))
}

func conform(t *testing.T, reach fronttest.Reach) {
	fronttest.Run(t, fronttest.System{Lacks: []fronttest.Ability{fronttest.Seamless, fronttest.Warns},
		Open: func(t *testing.T, w *fronttest.World) fronttest.Proxy {
			f, p, dir := start(t, w, plan.Key{From: plan.KeyRandom})
			settings := f.Settings.(*Settings).Settings
			nginx := &server{on: place.Local{}, config: settings}
			return fronttest.ByFile{
				Driver: func() front.Driver {
					return reach(t, func(on place.Machine) front.Driver { return New(on, "sailings", f) })
				}, Program: p, File: settings.File, Door: f.Spare,
				Edit: func(data []byte, share split.Share) []byte {
					return greenAnywhere.ReplaceAll(data, fmt.Appendf(nil, "    %s green;", percent(share)))
				},
				Line:   "limit_conn_zone $remote_addr zone=berths:1m;",
				Reload: fronttest.Reload(p, syscall.SIGHUP, nginx.Running, nginx.Fresh),
				Other:  filepath.Join(dir, "sites", "other.conf"), Broken: "serve { listen nowhere }\n",
				Slow: slow(),
			}.Proxy()
		}})
}

// Within an upstream block that somebody else has written requests are placed by weights.
func TestConformanceWithin(t *testing.T) {
	weight := regexp.MustCompile(`(?m)(:\d+) (?:weight=\d+|down);`)
	fronttest.Run(t, fronttest.System{Lacks: []fronttest.Ability{fronttest.Exact, fronttest.Seamless, fronttest.Warns,
		fronttest.Door}, Short: []string{"splits as asked", "home past a change", "a reload by somebody"},
		Open: func(t *testing.T, w *fronttest.World) fronttest.Proxy {
			f, p, dir := startAs(t, w, plan.Front{Key: plan.Key{From: plan.KeyRandom}}, "ferries")
			settings := f.Settings.(*Settings).Settings
			nginx := &server{on: place.Local{}, config: settings}
			return fronttest.ByFile{
				Driver: func() front.Driver { return New(place.Local{}, "sailings", f) }, Program: p,
				File: settings.File,
				Edit: func(data []byte, _ split.Share) []byte { // half and half, whatever is asked
					return weight.ReplaceAll(data, []byte("$1 weight=7;"))
				},
				Line:   "keepalive 8;",
				Reload: fronttest.Reload(p, syscall.SIGHUP, nginx.Running, nginx.Fresh),
				Other:  filepath.Join(dir, "sites", "other.conf"), Broken: "serve { listen nowhere }\n",
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

// The configuration that a plan's front asks for, with sessions.
func TestSessionsStay(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := startAs(t, w, plan.Front{Key: plan.Key{From: plan.KeyRandom}, Sticky: true,
		Spare: fronttest.NewDoor(t.TempDir())}, "")
	d := New(place.Local{}, "sailings", f)
	fronttest.Sessions(t, w, d)
	if _, err := d.Read(t.Context()); err != nil {
		t.Fatal(err)
	}
	if lacks, err := d.Lacks(t.Context()); err != nil || len(lacks) > 0 {
		t.Errorf("it lacks %q, %v", lacks, err)
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	client := http.Client{Jar: jar}
	for range 3 {
		a, err := client.Get("http://" + w.Listen + "/session")
		if err != nil {
			t.Fatal(err)
		}
		_ = a.Body.Close()
	}
	// All were on both sides, and are home since: the sessions of before have ended.
	testkit.Until(t, "the count of sessions", func() error {
		r, err := d.Read(t.Context())
		if is := [2]int64{r.Sides[split.Blue].Kept, r.Sides[split.Green].Kept}; err == nil && (!r.Sessions ||
			is[split.Blue] < 1 || is[split.Blue] > 2 || is[split.Green] != 0) {
			err = fmt.Errorf("%d are told of", is)
		}
		return err
	})
}

// What nobody but nginx can judge: that every key makes a configuration it takes.
func TestEveryKeyPassesTheCheck(t *testing.T) {
	for _, key := range []plan.Key{
		{From: plan.KeyRandom}, {From: plan.KeyClient}, {From: plan.KeyClient, Prefix: 8},
		{From: plan.KeyClient, Prefix: 24},
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
	f := form{service: "line-vessa", key: plan.Key{From: plan.KeyClient, Prefix: 16},
		spare: plan.SpareDoor{Cookie: "try"}, sticky: true, parameters: "max_fails=3"}
	for _, s := range []include.Setting{
		{},
		{Share: 1, Sides: [2][]reading.Server{{{Name: "blue-1", Address: "127.0.0.1:1", Version: "4.2.0"}},
			{{Name: "green-1", Address: "10.1.0.5:80", Version: `4"3\`}}}},
		{Share: 5_000, Kept: [2]string{"ABCDEFGHIJKLMNOPQRSTUVWX27", "BBCDEFGHIJKLMNOPQRSTUVWX27"},
			Sides: [2][]reading.Server{{{Name: "blue-1", Address: "127.0.0.1:1"}},
				{{Name: "green-1", Address: "10.1.0.5:80"}}}},
		{Share: 10_000, Spare: front.Spare{Secret: "ABCDEFGHIJKLMNOPQRSTUVWX27", Side: split.Green},
			Sides: [2][]reading.Server{nil,
				{{Name: "a", Address: "127.0.0.1:1", Out: true}, {Name: "b", Address: "127.0.0.1:2"}}}},
		{Share: 2000, Sides: [2][]reading.Server{{{Name: "a", Address: "127.0.0.1:1"},
			{Name: "b", Address: "127.0.0.1:2", Control: true},
			{Name: "c", Address: "127.0.0.1:3", Control: true, Out: true}}, {{Name: "d", Address: "127.0.0.1:4"}}}},
		{Sides: [2][]reading.Server{{{Name: "a", Address: "127.0.0.1:1"}, {Name: "b", Address: "127.0.0.1:2",
			Control: true}}, nil}},
		{Share: 5050, Spare: front.Spare{Secret: "ABCDEFGHIJKLMNOPQRSTUVWX27"},
			Sides: [2][]reading.Server{{{Name: "a", Address: "[::1]:1", Out: true}},
				{{Name: "b", Address: "127.0.0.1:2"}}}},
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
	f.Add(form{service: "s"}.Render(include.Setting{Share: 2500,
		Sides: [2][]reading.Server{{{Name: "a", Address: "127.0.0.1:1"}}}}))
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

// A plan may want another door to the spare side than the file has, or none any more; who reads the file meanwhile,
// and whoever goes home, is not in the way of that.
func TestADoorComesAndGoes(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := start(t, w, plan.Key{From: plan.KeyRandom})
	file := f.Settings.(*Settings).File
	steps := []struct {
		name string
		door plan.SpareDoor
		has  []string
	}{
		{"as it was", f.Spare, []string{"$http_x_vessa_try:$cookie_vessa_try"}},
		{"none", plan.SpareDoor{}, nil},
		{"another header", plan.SpareDoor{Header: "X-Pier", File: f.Spare.File}, []string{"$http_x_pier:"}},
		{"a cookie", plan.SpareDoor{Cookie: "pier", File: f.Spare.File}, []string{":$cookie_pier"}},
	}
	first := New(place.Local{}, "sailings", f)
	for _, side := range split.Sides {
		if err := first.SetInstances(t.Context(), side, w.Raise(side, 1, 1)); err != nil {
			t.Fatal(err)
		}
	}
	for n, s := range steps {
		f.Spare = s.door
		d := New(place.Local{}, "sailings", f)
		r, err := d.Read(t.Context())
		if err == nil {
			_, err = d.Set(t.Context(), split.Share(1000*(n+1)), front.AsRead(r))
		}
		data, errRead := os.ReadFile(file)
		if err != nil || errRead != nil || r.Notice != "" {
			t.Fatalf("%s: %v, %v, notice %q", s.name, err, errRead, r.Notice)
		}
		for _, want := range s.has {
			if !strings.Contains(string(data), want) {
				t.Errorf("%s: nothing says %s in\n%s", s.name, want, data)
			}
		}
		if info, err := os.Stat(file); err != nil || (info.Mode().Perm() == 0o640) != s.door.Asks() ||
			strings.Contains(string(data), "_knows") != s.door.Asks() {
			t.Errorf("%s: its mode is %v, %v, and it says\n%s", s.name, info.Mode(), err, data)
		}
		if _, err := first.Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"}); err != nil {
			t.Errorf("%s: home: %v", s.name, err)
		}
	}
}

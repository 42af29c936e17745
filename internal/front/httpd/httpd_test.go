package httpd

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/include"
	"vaiven/internal/world/place"
	"vaiven/lab/fronttest"
	"vaiven/lab/testkit"
)

// setup is a plan's front as a test wants it.
type setup struct {
	included bool
	sticky   bool
	edit     func(text string) string // of its configuration
}

// start starts an httpd with the configuration that such a plan asks for.
func start(t *testing.T, w *fronttest.World, s setup) (plan.Front, *fronttest.Program, string) {
	t.Helper()
	program := fronttest.Need(t, Kind.Program)
	dir := t.TempDir()
	for d := dir; d != "/" && d != os.TempDir(); d = filepath.Dir(d) {
		_ = os.Chmod(d, 0o755) // for processes of another user
	}
	port, _ := testkit.Ports(t, 2)
	w.Listen = fronttest.Address(port)
	kept := filepath.Join(dir, "kept")
	h := &Settings{Balancer: "sailings"}
	h.Config, h.Program, h.Log = filepath.Join(dir, "httpd.conf"), []string{program}, filepath.Join(dir, "access.log")
	f := plan.Front{Listen: w.Listen, Key: plan.Key{From: plan.KeyRandom}, Sticky: s.sticky, Settings: h}
	if s.included {
		h.File = filepath.Join(kept, "sailings.conf")
		f.Spare = fronttest.NewDoor(t.TempDir())
	} else {
		h.Manager = "http://" + fronttest.Address(port+1) + "/balancer-manager"
		f.Order = filepath.Join(dir, "order")
	}
	c := config("sailings", f, front.Site{Folder: dir, Slots: 2, Members: w.Addresses()})
	// Few workers are soon all taken; our file is found by a pattern, and there are others.
	text := strings.NewReplacer("ThreadsPerChild 64", "ThreadsPerChild 16", "MaxRequestWorkers 256",
		"MaxRequestWorkers 64", "max=15", "max=3",
		"Include "+kept+"/sailings.conf", "Include "+kept+"/sail*.conf\nIncludeOptional parts/*.conf").Replace(c.Text)
	if s.edit != nil {
		text = s.edit(text)
	}
	fronttest.Write(t, c.File, text)
	if s.included {
		if made, err := NewIncluded(place.Local{}, "sailings", f).Prepare(t.Context(),
			[2][]reading.Server{}); err != nil || !made {
			t.Fatalf("made %v, %v", made, err)
		}
	}
	p := fronttest.Start(t, w.Listen, program, c.Args...)
	testkit.Until(t, "its note of the process", func() error {
		now, err := (&server{on: place.Local{}, config: h.Settings}).Running(t.Context())
		if err == nil && len(now.Workers) == 0 {
			err = errors.New("nobody serves yet")
		}
		return err
	})
	return f, p, dir
}

func TestConformanceOfTheManager(t *testing.T) { conform(t, fronttest.Here) }

func TestConformanceOverSSH(t *testing.T) {
	testkit.Long(t)
	conform(t, fronttest.OverSSH(t))
}

func conform(t *testing.T, reach fronttest.Reach) {
	fronttest.Run(t, fronttest.System{Lacks: []fronttest.Ability{fronttest.Exact, fronttest.Reloads, fronttest.Disk,
		fronttest.Checker, fronttest.Door}, Open: func(t *testing.T, w *fronttest.World) fronttest.Proxy {
		f, p, _ := start(t, w, setup{})
		return fronttest.Proxy{
			Driver: func() front.Driver {
				return reach(t, func(on place.Machine) front.Driver { return NewManager(on, f) })
			},
			Foreign: func(t *testing.T, share split.Share) { // by hand, and half and half
				if share != split.Whole/2 {
					t.Fatal("only half and half is done by hand")
				}
				m := NewManager(place.Local{}, f)
				b, err := m.look(t.Context())
				if err != nil {
					t.Fatal(err)
				}
				for _, v := range b.workers {
					form := url.Values{"b": {"sailings"}, "w": {scheme + v.address}, "nonce": {b.nonce},
						"w_lf": {"7.00"}, "w_status_D": {"0"}}
					if _, err := m.call(t.Context(), form); err != nil {
						t.Fatal(err)
					}
				}
			},
			Kill: func(*testing.T) { p.Kill() },
		}
	}})
}

// slow is a configuration that httpd reads for some hundredths of a second.
func slow() string {
	var text strings.Builder
	for n := range 5000 {
		fmt.Fprintf(&text, "Define berth%d %d\n", n, n)
	}
	return text.String()
}

func TestConformanceOfTheInclude(t *testing.T) {
	fronttest.Run(t, fronttest.System{Lacks: []fronttest.Ability{fronttest.Exact, fronttest.Seamless, fronttest.Warns},
		Open: func(t *testing.T, w *fronttest.World) fronttest.Proxy {
			f, p, dir := start(t, w, setup{included: true})
			httpd := &server{on: place.Local{}, config: f.Settings.(*Settings).Settings}
			return fronttest.ByFile{
				Driver: func() front.Driver { return NewIncluded(place.Local{}, "sailings", f) }, Program: p,
				File: f.Settings.(*Settings).File, Door: f.Spare,
				Edit: func(data []byte, share split.Share) []byte { // half and half, whatever is asked
					return regexp.MustCompile(`loadfactor=\d+|status=\+D`).ReplaceAll(data, []byte("loadfactor=7"))
				},
				Line:   "LimitRequestFields 50",
				Reload: fronttest.Reload(p, syscall.SIGUSR1, httpd.Running, httpd.Fresh),
				Other:  filepath.Join(dir, "parts", "b.conf"), Broken: "Servername\n<IfNothing\n", Slow: slow(),
			}.Proxy()
		}})
}

// The configuration that a plan's front asks for, with sessions.
func TestSessionsStay(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := start(t, w, setup{sticky: true})
	fronttest.Sessions(t, w, NewManager(place.Local{}, f))
}

// An httpd that forgets with a reload is told again by who told it, and is refused by others.
func TestAReloadOfTheManagerIsNoticed(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, p, _ := start(t, w, setup{edit: func(text string) string {
		return strings.ReplaceAll(text, "BalancerPersist On",
			"")
	}})
	m := NewManager(place.Local{}, f)
	if list, err := m.Lacks(t.Context()); err != nil || len(list) != 1 ||
		!strings.Contains(list[0], "BalancerPersist") {
		t.Errorf("its configuration lacks %q, %v", list, err)
	}
	for _, side := range split.Sides {
		if err := m.SetInstances(t.Context(), side, w.Raise(side, 1, 2)); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := m.Home(t.Context(), front.Homing{Side: split.Green}); err != nil {
		t.Fatal(err)
	}
	p.Signal(syscall.SIGUSR1)
	testkit.Until(t, "that it has forgotten", func() error {
		if b, err := m.look(t.Context()); err != nil || !b.blank() {
			return fmt.Errorf("%+v, %v", b, err)
		}
		return nil
	})
	if r, err := m.Read(t.Context()); err != nil || r.Split.Share != split.Whole ||
		len(r.Sides[split.Blue].Instances) != 2 {
		t.Errorf("told again: %+v, %v", r, err)
	}
	if err := m.SetInstances(t.Context(), split.Green,
		[]reading.Server{{Name: "x", Address: "127.0.0.1:1"}}); !errors.Is(err, front.ErrRefused) {
		t.Errorf("an instance without a worker: %v", err)
	}
}

// An httpd that is killed has forgotten what its manager was told. Who told it tells it again,
// and leaves it home where somebody went home meanwhile.
func TestAKilledHTTPDIsToldAgain(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, p, _ := start(t, w, setup{})
	fronttest.ToldAgain(t, w, func() front.Driver { return NewManager(place.Local{}, f) }, func() {
		p.Kill()
		p = p.Again(w.Listen)
		testkit.Until(t, "its manager", func() error {
			_, err := NewManager(place.Local{}, f).look(t.Context())
			return err
		})
	})
}

// What the manager was told outlives a reload by anybody, in every stage.
func TestWhatTheManagerWasToldOutlivesAReload(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, p, _ := start(t, w, setup{})
	m := NewManager(place.Local{}, f)
	if list, err := m.Lacks(t.Context()); err != nil || len(list) > 0 {
		t.Errorf("its configuration lacks %q, %v", list, err)
	}
	reload := func(stage string) {
		t.Helper()
		before, err := m.Read(t.Context())
		if err != nil {
			t.Fatalf("%s: %v", stage, err)
		}
		httpd := &server{on: place.Local{}, config: f.Settings.(*Settings).Settings}
		fronttest.Reload(p, syscall.SIGUSR1, httpd.Running, httpd.Fresh)(t)
		for name, d := range map[string]front.Driver{"the same driver": m,
			"another process": NewManager(place.Local{}, f)} {
			r, err := d.Read(t.Context())
			if err != nil || r.Split.Share != before.Split.Share ||
				len(r.Sides[0].Instances) != len(before.Sides[0].Instances) ||
				len(r.Sides[1].Instances) != len(before.Sides[1].Instances) {
				t.Errorf("%s: after a reload %s reads %+v, %v; before it was %+v", stage, name, r, err, before)
			}
		}
		w.Count(200, true, nil) // it fails the test if anything is lost
	}
	for _, side := range split.Sides {
		if err := m.SetInstances(t.Context(), side, w.Raise(side, 1, 2)); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := m.Home(t.Context(), front.Homing{Side: split.Blue}); err != nil {
		t.Fatal(err)
	}
	reload("at the beginning")
	set := func(share split.Share) {
		t.Helper()
		r, err := m.Read(t.Context())
		if err == nil {
			_, err = m.Set(t.Context(), share, front.AsRead(r))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	set(2500)
	reload("on a leg")
	set(split.Whole)
	reload("in the keep")
	if err := m.SetInstances(t.Context(), split.Blue, nil); err != nil {
		t.Fatal(err)
	}
	reload("with the old side retired")
}

// Instances that hang leave workers for the manager, whichever side they are of.
func TestHungInstancesLeaveTheManager(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := start(t, w, setup{})
	m := NewManager(place.Local{}, f)
	for _, side := range split.Sides {
		if err := m.SetInstances(t.Context(), side, w.Raise(side, 1, 2)); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := m.Home(t.Context(), front.Homing{Side: split.Green}); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	users := http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
	var wait sync.WaitGroup
	defer wait.Wait()
	defer cancel()
	for range 100 {
		wait.Go(func() {
			for ctx.Err() == nil { // who gets nothing asks again
				q, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+w.Listen+"/hold", nil)
				if err != nil {
					return
				}
				if a, err := users.Do(q); err == nil {
					_ = a.Body.Close()
				}
			}
		})
	}
	testkit.Until(t, "requests hang", func() error {
		r, err := m.Read(t.Context())
		if err == nil && r.Sides[split.Green].Open < 6 {
			err = fmt.Errorf("%d are open", r.Sides[split.Green].Open)
		}
		return err
	})
	short, stop := context.WithTimeout(t.Context(), 10*time.Second)
	defer stop()
	if d, err := m.Home(short, front.Homing{Side: split.Blue}); err != nil || d.Share != 0 {
		t.Errorf("home while instances hang: %+v, %v", d, err)
	}
}

func TestWhatAConfigurationLacks(t *testing.T) {
	const member = "BalancerMember http://a:1 status=+D max=4 acquire=250 retry=1 timeout=60\n"
	for text, want := range map[string]int{
		"<Proxy balancer://s>\n" + member + "</Proxy>\n<VirtualHost *:80>\nBalancerPersist On\nProxyPass / " +
			"balancer://s/\n</VirtualHost>\n": 0,
		"BalancerPersist On\n<Proxy \"balancer://s\">\n" + member +
			"</Proxy>\n<VirtualHost *:80>\nProxyPass / balancer://s/\n</VirtualHost>\n": 1,
		"BalancerPersist On\n<Proxy balancer://s>\nBalancerMember http://a:1 max=4 acquire=1 " +
			"timeout=6\n</Proxy>\nProxyPass / balancer://s/\n": 1,
		"<Proxy balancer://s>\nBalancerMember http://a:1\n</Proxy>\nbalancerpersist on\nProxyPass / balancer://s/\n": 1,
		"<Proxy balancer://s>\nBalancerMember http://a:1 max=2 acquire=1 retry=1\n</Proxy>\nProxyTimeout " +
			"60\nProxyPass / balancer://s/\n": 1,
		"ProxyPass / balancer://other/\nBalancerPersist On\n": 1,
	} {
		if list := lacks([]string{text}, "s"); len(list) != want &&
			!(want == 1 && len(list) == 2 && strings.HasPrefix(text, "ProxyPass")) {
			t.Errorf("%s\nlacks %q", text, list)
		}
	}
}

func TestTheManagersPage(t *testing.T) {
	page := `<h3>LoadBalancer Status for <a href="/m?b=other&amp;nonce=aa-1">balancer://other</a> [x]</h3>
<td><a href="/m?b=other&amp;w=http://127.0.0.1:1&amp;nonce=aa-1">http://127.0.0.1:1</a></td><td>blue-1</td><td></td><td>1.00</td><td>0</td><td>Init Ok </td><td>0</td><td>0</td>
<h3>LoadBalancer Status for <a href="/m?b=sailings&amp;nonce=bb-2">balancer://sailings</a> [y]</h3>
<tr><td>22 [2 Used]</td>
<td><a href="/m?w=http://127.0.0.1:2">http://127.0.0.1:2/</a></td><td>blue-1</td><td></td><td>2.50</td><td>0</td><td>Init Ok Err </td><td>9</td><td>3</td>
<td><a href="/m?w=http://127.0.0.1:3">http://127.0.0.1:3</a></td><td>green-1</td><td></td><td>1.00</td><td>0</td><td>Init Drn Ok </td><td>9</td><td>0</td>
<td><a href="/m?w=http://127.0.0.1:4">http://127.0.0.1:4</a></td><td></td><td></td><td>1.00</td><td>0</td><td>Init Dis </td><td>9</td><td>0</td>
`
	got, err := parse(page, "sailings")
	want := balancer{nonce: "bb-2", workers: []worker{
		{address: "127.0.0.1:2", route: "blue-1", factor: 250, state: on, busy: 3, failing: true},
		{address: "127.0.0.1:3", route: "green-1", factor: 100, state: sessions},
		{address: "127.0.0.1:4", factor: 100, state: off},
	}}
	if err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("read %+v, %v, want %+v", got, err, want)
	}
	if b, err := parse(page, "berths"); err == nil {
		t.Errorf("a balancer that is not there: %+v", b)
	}
}

func FuzzTheManagersPage(f *testing.F) {
	f.Add(`LoadBalancer Status for <a href="">balancer://s</a><td><a href="">http://a</a></td><td></td><td></td><td>1e9</td><td>0</td><td></td><td>0</td><td>0</td>`)
	f.Fuzz(func(t *testing.T, page string) {
		if b, err := parse(page, "s"); err == nil {
			b.print()
		}
	})
}

func TestTheFileReadsBack(t *testing.T) {
	f := form{service: "sailings", balancer: "sailings", spare: plan.SpareDoor{Header: "X-Try"}}
	for _, s := range []include.Setting{
		{},
		{Share: 2500, Sides: [2][]reading.Server{{{Name: "blue-1", Address: "127.0.0.1:1", Version: "4.2.0"}},
			{{Name: "green-1", Address: "10.1.0.5:80", Version: `4"3\`}}}},
		{Share: split.Whole, Spare: front.Spare{Secret: "ABCDEFGHIJKLMNOPQRSTUVWX27", Side: split.Green},
			Sides: [2][]reading.Server{nil,
				{{Name: "a", Address: "127.0.0.1:1", Out: true}, {Name: "b", Address: "127.0.0.1:2"}}}},
	} {
		text := f.Render(s)
		got, err := f.Parse(text)
		if err != nil || !reflect.DeepEqual(got, s) {
			t.Errorf("%+v is read back as %+v, %v from\n%s", s, got, err, text)
		}
	}
	for _, text := range []string{"", "<Proxy \"balancer://other\">\n</Proxy>",
		"<Proxy \"balancer://sailings\">\n  BalancerMember \"http://a:1\" x\n</Proxy>"} {
		if s, err := f.Parse([]byte(text)); err == nil {
			t.Errorf("%q was read as %+v", text, s)
		}
	}
	if reached, notes, err := f.Nearest(include.Setting{Share: 1,
		Sides: [2][]reading.Server{make([]reading.Server, 2), make([]reading.Server, 3)}}); err != nil ||
		reached != 50 || len(notes) != 1 {
		t.Errorf("0.01 %% is %v, %v, %v", reached, notes, err)
	}
}

// httpd's own check of a worker is waited for: an instance that was made known before it listened is unwell there at
// first.
func TestItsOwnCheckIsWaitedFor(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := start(t, w, setup{edit: func(text string) string {
		folder := "/usr/lib/apache2/modules"
		for _, other := range moduleFolders {
			if _, err := os.Stat(filepath.Join(other, "mod_proxy_hcheck.so")); err == nil {
				folder = other
			}
		}
		text = strings.Replace(text, "LoadModule slotmem", "LoadModule proxy_hcheck_module "+folder+
			"/mod_proxy_hcheck.so\nLoadModule slotmem", 1)
		return strings.ReplaceAll(text, " upgrade=ANY", " upgrade=ANY hcmethod=TCP hcinterval=1")
	}})
	m := NewManager(place.Local{}, f)
	address := w.Addresses()[0]
	list := []reading.Server{{Name: "green-1", Address: address}}
	if err := m.SetInstances(t.Context(), split.Green, list); err != nil {
		t.Fatal(err)
	}
	unwell := func() bool {
		b, err := m.look(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return slices.ContainsFunc(b.workers, func(w worker) bool { return w.address == address && w.unwell })
	}
	testkit.Until(t, "that nobody listens", func() error {
		if !unwell() {
			return errors.New("httpd has not found out")
		}
		return nil
	})
	if err := m.Reach(t.Context(), address); err == nil {
		t.Error("who does not listen is reached")
	}
	listen, err := net.Listen("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = listen.Close() })
	if err := m.Reach(t.Context(), address); err != nil || unwell() {
		t.Errorf("one that has become well: %v, unwell %v", err, unwell())
	}
}

package survey

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/stack/stand"
	"vaiven/internal/world/place"
)

// sections are those that surveys write, by kind.
var sections = map[plan.FrontKind]string{
	"haproxy": "  haproxy:\n    socket: /run/haproxy/admin.sock\n    backend: SERVICE\n",
	"nginx":   "  nginx:\n    include: /etc/nginx/vaiven/SERVICE.conf\n",
	"httpd":   "  httpd:\n    balancer: SERVICE\n    include: /etc/apache2/vaiven/SERVICE.conf\n",
}

// A plan is one that can be read, whatever was found and whatever it is called.
func TestAPlanCanBeRead(t *testing.T) {
	instance := func(name, address string, in bool) Instance {
		return Instance{SurveyedServer: front.SurveyedServer{Name: name, Address: address, In: in}}
	}
	unit := instance("b2", "10.1.0.2:8080", true)
	unit.Who = stand.Who{Unit: "ferry.service", PID: 7,
		Command: []string{"ferry", "--title", "a\nstack: # \x1b[2J", strings.Repeat("x", 300)}}
	boxed := instance("evil\n  - 10.6.6.6:1", "[::1]:8080", false)
	boxed.Who.Container = strings.Repeat("a1", 32)
	for title, change := range map[string]func(*Found){
		"nothing but a name": func(f *Found) {},
		"both sides": func(f *Found) {
			f.Sides = [2][]Instance{{instance("b1", "10.1.0.1:8080", true), unit}, {boxed}}
		},
		"somebody odd":      func(f *Found) { f.Odd = []Instance{boxed} },
		"an IPv6 door":      func(f *Found) { f.Listen = "[::1]:80" },
		"no door":           func(f *Found) { f.Listen = "" },
		"TLS":               func(f *Found) { f.Secure, f.Host, f.Trusted = true, "ferry.example", true },
		"TLS without names": func(f *Found) { f.Secure = true },
		"names of its own":  func(f *Found) { f.Secure, f.Names = true, []string{"*.example", "ferry.example"} },
		"checks": func(f *Found) {
			f.Checks = Checks{Health: "/healthz", Smoke: "/", Status: 404, Says: "/about", Version: "version",
				Build: "build", Root: true, Failed: []string{"b1 does\nnot answer"}}
			f.Rate, f.Counted = 12.5, time.Minute
		},
		"elsewhere": func(f *Found) { f.At = plan.Login{Host: "deploy@gate1:2222"} },
	} {
		for kind, section := range sections {
			f := Found{Question: Question{Target: "a\ntarget"}, Kind: kind, Service: "sailings", Rate: -1}
			f.Listen, f.Section, f.Needs = "127.0.0.1:80", section, []string{"a line of VARIABLE\nand another"}
			change(&f)
			if f.At.Host != "" && kind == "httpd" {
				continue
			}
			text := f.Plan(time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC))
			p, err := planfile.Parse("found.yaml", []byte(text))
			if err != nil {
				t.Errorf("%s, %s: %v\n%s", title, kind, err, text)
				continue
			}
			if p.Service != "sailings" || p.Fronts()[0].Settings.Kind() != kind || !p.Stands(split.Blue) {
				t.Errorf("%s, %s: it is the plan of another thing:\n%s", title, kind, text)
			}
			if strings.ContainsAny(text, "\x1b\r") || !strings.Contains(text, "DECIDE") {
				t.Errorf("%s, %s: it says\n%q", title, kind, text)
			}
		}
	}
}

// The one that is meant is the one that is named, or the only one with anybody behind it.
func TestChoose(t *testing.T) {
	some := []front.SurveyedServer{{Address: "10.1.0.1:80"}}
	list := []front.Surveyed{{Name: "fares", Servers: some}, {Name: "empty"}, {Name: "sailings", Servers: some}}
	if _, err := choose(list, ""); !errors.As(err, new(Several)) || !strings.Contains(err.Error(), "fares, sailings") {
		t.Errorf("of several it says %v", err)
	}
	if s, err := choose(list, "sailings"); err != nil || s.Name != "sailings" {
		t.Errorf("it chooses %v, %v", s.Name, err)
	}
	if _, err := choose(list, "tides"); err == nil || !strings.Contains(err.Error(), `no "tides"`) {
		t.Errorf("of another it says %v", err)
	}
	if s, err := choose(list[:2], ""); err != nil || s.Name != "fares" {
		t.Errorf("the only one is %v, %v", s.Name, err)
	}
	if _, err := choose(list[1:2], ""); err == nil {
		t.Error("nobody is behind it, and that is not said")
	}
}

// Names that say a side are gone by; where none does, who gets requests is blue.
func TestSides(t *testing.T) {
	at := func(address, side string, in bool) front.SurveyedServer {
		return front.SurveyedServer{Address: address, Side: side, In: in}
	}
	sides := func(list ...front.SurveyedServer) string {
		f := Found{Question: Question{At: plan.Login{Host: "gate1"}}, Surveyed: front.Surveyed{Servers: list}}
		f.sides(t.Context())
		var parts []string
		for _, some := range [][]Instance{f.Sides[split.Blue], f.Sides[split.Green], f.Odd} {
			var addresses []string
			for _, i := range some {
				addresses = append(addresses, i.Address)
			}
			parts = append(parts, strings.Join(addresses, " "))
		}
		return strings.Join(parts, "|")
	}
	for _, c := range []struct{ got, want string }{
		{sides(at("a", "", true), at("b", "", true)), "a b||"},
		{sides(at("a", "", true), at("b", "", false)), "a|b|"},
		{sides(at("a", "blue", true), at("b", "green", true), at("c", "", true)), "a|b|c"},
		{sides(at("a", "blue", false), at("b", "green", true)), "a|b|"},
		{sides(at("a", "", true), at("a", "", false)), "a||"},
	} {
		if c.got != c.want {
			t.Errorf("it tells them apart as %q, not %q", c.got, c.want)
		}
	}
}

// Only checks that pass on every instance that gets requests are written down.
func TestChecksAreTried(t *testing.T) {
	serve := func(health, about bool) Instance {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch {
			case r.URL.Path == "/health" && health, r.URL.Path == "/ping":
			case r.URL.Path == "/about" && about:
				_ = json.NewEncoder(w).Encode(map[string]string{"version": "3.2", "build": "ab12"})
			case r.URL.Path == "/":
				http.Redirect(w, r, "/elsewhere", http.StatusFound)
			default:
				http.NotFound(w, r)
			}
		}))
		t.Cleanup(s.Close)
		return Instance{SurveyedServer: front.SurveyedServer{Name: "b", Address: s.Listener.Addr().String(), In: true}}
	}
	try := func(list ...Instance) Checks {
		f := Found{Question: Question{On: place.Local{}}, Sides: [2][]Instance{list}}
		return f.try(t.Context())
	}
	if c := try(serve(true, true), serve(true, true)); c.Health != "/health" || c.Says != "/about" ||
		c.Build != "build" || c.Smoke != "/" || c.Status != http.StatusFound {
		t.Errorf("it finds %+v", c)
	}
	if c := try(serve(true, true), serve(false, false)); c.Health != "/ping" || c.Says != "" {
		t.Errorf("of two that differ it finds %+v", c)
	}
	gone := httptest.NewServer(nil)
	gone.Close()
	dead := Instance{SurveyedServer: front.SurveyedServer{Name: "dead", Address: gone.Listener.Addr().String(),
		In: true}}
	if c := try(serve(true, true), dead); len(c.Failed) != 1 || !strings.Contains(c.Failed[0], "dead") ||
		c.Health != "/health" {
		t.Errorf("with one that is gone it finds %+v", c)
	}
	if c := try(dead); c.Smoke != "" || c.Health != "" ||
		!slices.ContainsFunc(c.Failed, func(s string) bool { return strings.Contains(s, "does not answer") }) {
		t.Errorf("of one that is gone it finds %+v", c)
	}
}

// Plans of several services share a base that can be read with each of them, and a table says what is in the way.
func TestSeveralServices(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "base.yaml"), []byte(Base()), 0o600); err != nil {
		t.Fatal(err)
	}
	var all []Found
	for _, name := range []string{"fares", "sailings"} {
		f := Found{Kind: "nginx", Service: name, Base: "base.yaml", Rate: -1}
		f.Listen, f.Section, f.Host = "127.0.0.1:80", sections["nginx"], name+".example"
		f.Sides[split.Blue] = []Instance{{SurveyedServer: front.SurveyedServer{Address: "10.1.0.1:80", In: true}},
			{SurveyedServer: front.SurveyedServer{Address: "10.1.0.2:80"}}}
		file := filepath.Join(dir, name+".yaml")
		if err := os.WriteFile(file, []byte(f.Plan(time.Now())), 0o600); err != nil {
			t.Fatal(err)
		}
		p, err := planfile.Read(file)
		if err != nil || len(p.Route) != 3 || p.Base == "" {
			t.Fatalf("%+v, %v", p, err)
		}
		all = append(all, f)
	}
	all[0].Change = front.Adoption{Files: make([]front.Edited, 2)}
	all[1].Checks = Checks{Runs: []string{"4.2.0", "4.2.1"}, Failed: []string{"one"}}
	all[1].Change.Err = errors.New("no")
	table := Table(all)
	for _, want := range []string{"fares.example 127.0.0.1:80", "1 and 1 without requests", "not said", "2 files, tested",
		"4.2.0, 4.2.1", "1 instances do not answer; the proxy does not take the change"} {
		if !strings.Contains(table, want) {
			t.Errorf("no %q in\n%s", want, table)
		}
	}
}

// A change is written beside what is there now, into a folder that was not there.
func TestKeep(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "change")
	f := Found{Change: front.Adoption{Files: []front.Edited{{Name: "/etc/a/b.conf", Was: []byte("a\nb\n"),
		Now: []byte("a\nc\n")}}, Reload: []string{"load it"}}}
	if err := f.Keep(dir); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"new/etc/a/b.conf": "a\nc\n", "old/etc/a/b.conf": "a\nb\n",
		"change.diff": "--- old/etc/a/b.conf\n+++ new/etc/a/b.conf\n@@ -1,2 +1,2 @@\n a\n-b\n+c\n"} {
		if data, err := os.ReadFile(filepath.Join(dir, name)); err != nil || string(data) != want {
			t.Errorf("%s has %q, %v", name, data, err)
		}
	}
	if err := f.Keep(dir); err == nil {
		t.Error("a second change takes the place of the first, and nobody could go back")
	}
}

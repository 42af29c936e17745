package dns

import (
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/miekg/dns"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/asked"
	"vaiven/internal/world/place"
	"vaiven/lab/fronttest"
	"vaiven/lab/testkit"
)

// zoneOf starts a primary with a zone that has more lines, and says more of it.
func zoneOf(t *testing.T, options, records string, change func(*Settings)) *zoneFront {
	t.Helper()
	program := fronttest.Need(t, Kind.Program)
	dir := t.TempDir()
	port, _ := testkit.Ports(t, 1)
	z := &zoneFront{folder: dir, settings: &Settings{
		Server: fronttest.Address(port), Zone: "lineavessa.example.", Name: "sailings.lineavessa.example.",
		Spare: "next.lineavessa.example.", Type: A, Key: filepath.Join(dir, "vaiven.key"), TTL: 1e9, Shares: true,
		Counts: asked.Counts{},
	}}
	if change != nil {
		change(z.settings)
	}
	z.Front.Listen, z.Front.Settings = "sailings.lineavessa.example:8080", z.settings
	c := config("sailings", z.Front, front.Site{Folder: dir})
	fronttest.Write(t, c.File, strings.Replace(c.Text, "type primary;", "type primary;\n    "+options, 1))
	for file, text := range c.Beside {
		if strings.HasSuffix(file, ".zone") {
			text += records
		}
		fronttest.Write(t, file, text)
	}
	z.program = fronttest.Start(t, z.settings.Server, program, c.Args...)
	return z
}

// servers are two instances, at addresses of a pattern.
func servers(side split.Side, pattern string) (list []reading.Server) {
	for n := range 2 {
		address := net.JoinHostPort(fmt.Sprintf(pattern, 10*int(side)+n+1), "8080")
		list = append(list, reading.Server{Name: fmt.Sprintf("%v-%d", side, n+1), Address: address})
	}
	return list
}

// A name is steered in zones of every kind: there and back, and what it says is what users find.
func TestZonesOfEveryKind(t *testing.T) {
	var many strings.Builder
	for n := range 100_000 {
		fmt.Fprintf(&many, "p%d A 192.0.2.%d\n", n, n%250+1)
	}
	for what, c := range map[string]struct {
		options, records, pattern string
		kind                      Type
	}{
		"signed":             {"dnssec-policy default; inline-signing yes;", "", "192.0.2.%d", A},
		"of 100,000 names":   {"", many.String(), "192.0.2.%d", A},
		"with a wildcard":    {"", "* A 192.0.2.99\n* TXT \"anybody\"\nsailings 60 A 192.0.2.1\nsailings 60 A 192.0.2.2\n", "192.0.2.%d", A},
		"of IPv6":            {"", "", "2001:db8::%d", AAAA},
		"with IPv4 and IPv6": {"", "sailings 60 A 192.0.2.77\n", "2001:db8::%d", AAAA},
	} {
		t.Run(what, func(t *testing.T) {
			z := zoneOf(t, c.options, c.records, func(s *Settings) { s.Type = c.kind })
			d := z.driver()
			blue, green := servers(split.Blue, c.pattern), servers(split.Green, c.pattern)
			testkit.Until(t, "a zone that is loaded", func() error {
				made, err := d.Prepare(t.Context(), front.Known{blue, nil})
				if err == nil && !made {
					t.Fatal("nothing was made")
				}
				return err
			})
			finds := func(after string, want []reading.Server) {
				t.Helper()
				a, err := dns.ExchangeContext(t.Context(), new(dns.Msg).SetQuestion(z.settings.Name,
					dns.StringToType[string(c.kind)]), z.settings.Server)
				if err != nil {
					t.Fatal(err)
				}
				var hosts []string
				for _, s := range want {
					hosts = append(hosts, net.ParseIP(host(s)).String())
				}
				got := values(a.Answer)
				slices.Sort(got)
				slices.Sort(hosts)
				if !slices.Equal(got, hosts) {
					t.Errorf("after %s it leads to %v, want %v", after, got, hosts)
				}
			}
			if err := errors.Join(d.SetInstances(t.Context(), split.Blue, blue),
				d.SetInstances(t.Context(), split.Green, green)); err != nil {
				t.Fatal(err)
			}
			finds("blue was told", blue)
			r, err := d.Read(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			if done, err := d.Set(t.Context(), split.Whole, front.AsRead(r)); err != nil || done.Share != split.Whole {
				t.Fatalf("all to green: %+v, %v", done, err)
			}
			finds("all went to green", green)
			if done, err := d.Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"}); err != nil ||
				done.Share != 0 {
				t.Fatalf("home: %+v, %v", done, err)
			}
			finds("going home", blue)
			found, err := survey(t.Context(), place.Local{}, front.Target{Name: "dns://" + z.settings.Server +
				"/sailings.lineavessa.example:8080"})
			if err != nil || len(found) != 1 || len(found[0].Servers) == 0 {
				t.Errorf("surveyed it is %+v, %v", found, err)
			}
		})
	}
}

// A name that a wildcard answers for stays as it is.
func TestAWildcardAnswersForTheName(t *testing.T) {
	z := zoneOf(t, "", "* A 192.0.2.99\n* TXT \"anybody\"\n", nil)
	d := z.driver()
	if made, err := d.Prepare(t.Context(), front.Known{}); !errors.Is(err, front.ErrRefused) || made ||
		!strings.Contains(err.Error(), "a wildcard answers for it") {
		t.Errorf("made %v, %v", made, err)
	}
	if list, err := z.ask(t.Context(), z.settings.Server, z.settings.Name); err != nil || len(list) != 1 {
		t.Errorf("users find %v, %v", list, err)
	}
}

// An alias may lead to names of another zone. Their addresses are somebody else's.
func TestAnAliasToAnotherZone(t *testing.T) {
	z := zoneOf(t, "", "", func(s *Settings) {
		s.Type, s.Shares = Alias, false
		s.Targets = [2]string{"blue.portavena.example.", "green.portavena.example."}
	})
	d := z.driver()
	blue, green := servers(split.Blue, "192.0.2.%d"), servers(split.Green, "192.0.2.%d")
	if made, err := d.Prepare(t.Context(), front.Known{blue, nil}); err != nil || !made {
		t.Fatalf("made %v, %v", made, err)
	}
	if err := errors.Join(d.SetInstances(t.Context(), split.Blue, blue),
		d.SetInstances(t.Context(), split.Green, green)); err != nil {
		t.Fatal(err)
	}
	leads := func(after, to string) {
		t.Helper()
		a, err := dns.ExchangeContext(t.Context(), new(dns.Msg).SetQuestion(z.settings.Name, dns.TypeCNAME),
			z.settings.Server)
		if err != nil || len(a.Answer) != 1 || values(a.Answer)[0] != to {
			t.Errorf("after %s it is %v, %v; want %s", after, a, err, to)
		}
	}
	leads("both were told", z.settings.Targets[split.Blue])
	r, err := d.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if done, err := d.Set(t.Context(), split.Whole, front.AsRead(r)); err != nil || done.Share != split.Whole {
		t.Fatalf("all to green: %+v, %v", done, err)
	}
	leads("all went to green", z.settings.Targets[split.Green])
	if done, err := d.Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"}); err != nil || done.Share != 0 {
		t.Fatalf("home: %+v, %v", done, err)
	}
	leads("going home", z.settings.Targets[split.Blue])
}

package dns

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/asked"
	"vaiven/internal/world/place"
	"vaiven/lab/fronttest"
	"vaiven/lab/testkit"
)

// zoneFront is a name of a real zone, on a primary that runs.
type zoneFront struct {
	plan.Front
	settings *Settings
	program  *fronttest.Program
	folder   string
}

// start starts a primary, and users in front of the name who ask it whenever they connect: they listen where the
// suite sends its requests.
func start(t *testing.T, w *fronttest.World, change func(*Settings)) *zoneFront {
	t.Helper()
	return startAs(t, w, change, func(text string) string { return text })
}

// startAs starts it with another configuration.
func startAs(t *testing.T, w *fronttest.World, change func(*Settings), as func(string) string) *zoneFront {
	t.Helper()
	program := fronttest.Need(t, Kind.Program)
	dir, err := os.MkdirTemp("", "names") // short, as a socket's name has to be
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	port, _ := testkit.Ports(t, 2)
	z := &zoneFront{folder: dir, settings: &Settings{
		Server: fronttest.Address(port), Zone: "lineavessa.example.", Name: "sailings.lineavessa.example.",
		Spare: "next.lineavessa.example.", Type: A,
		Key: filepath.Join(dir, "vaiven.key"), TTL: time.Second, Crossing: 0, Shares: true,
		Counts: asked.Counts{Path: fronttest.Page, Requests: fronttest.Counter, Label: "code", Open: fronttest.Gauge},
	}}
	if change != nil {
		change(z.settings)
	}
	z.Front = plan.Front{Listen: "sailings.lineavessa.example:" + w.Port(), Key: plan.Key{From: plan.KeyRandom},
		Settings: z.settings}
	c := config("sailings", z.Front, front.Site{Folder: dir})
	fronttest.Write(t, c.File, as(c.Text))
	for file, text := range c.Beside {
		fronttest.Write(t, file, text)
	}
	z.program = fronttest.Start(t, z.settings.Server, program, c.Args...)
	if made, err := z.driver().Prepare(t.Context(), front.Known{}); err != nil || !made {
		t.Fatalf("made %v, %v", made, err)
	}
	w.Listen = users(t, fronttest.Address(port+1),
		func(ctx context.Context) ([]string, error) { return z.ask(ctx, z.settings.Server, z.settings.Name) }, w.Port())
	return z
}

func (z *zoneFront) driver() *Driver { return New(place.Local{}, z.Front) }

// ask is what a server answers for a name, as users read it.
func (z *zoneFront) ask(ctx context.Context, server, name string) ([]string, error) {
	m := new(dns.Msg).SetQuestion(name, dns.TypeA)
	a, err := dns.ExchangeContext(ctx, m, server)
	if err != nil {
		return nil, err
	}
	if a.Rcode != dns.RcodeSuccess {
		return nil, fmt.Errorf("%s answers %s for %s", server, dns.RcodeToString[a.Rcode], name)
	}
	var list []string
	for _, rr := range a.Answer {
		if a, ok := rr.(*dns.A); ok {
			list = append(list, a.A.String())
		}
	}
	return list, nil
}

// users take connections, and place each by what the name says at that moment: one address of several, by chance.
func users(t *testing.T, address string, ask func(context.Context) ([]string, error), port string) string {
	t.Helper()
	l, err := net.Listen("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			from, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer from.Close()
				list, err := ask(context.Background())
				if err != nil || len(list) == 0 {
					return
				}
				to, err := net.Dial("tcp", net.JoinHostPort(list[rand.IntN(len(list))], port))
				if err != nil {
					return
				}
				defer to.Close()
				go func() {
					_, _ = io.Copy(to, from)
					_ = to.(*net.TCPConn).CloseWrite()
				}()
				_, _ = io.Copy(from, to)
			}()
		}
	}()
	return address
}

// nsupdate is somebody else with the key, and Debian's own program.
func (z *zoneFront) nsupdate(t *testing.T, lines ...string) {
	t.Helper()
	host, port, _ := net.SplitHostPort(z.settings.Server)
	text := fmt.Sprintf("server %s %s\nzone %s\n%s\nsend\n", host, port, z.settings.Zone, strings.Join(lines, "\n"))
	cmd := exec.Command(fronttest.Need(t, "nsupdate"), "-k", z.settings.Key)
	cmd.Stdin = strings.NewReader(text)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("nsupdate: %v: %s\n%s", err, out, text)
	}
}

// foreign is somebody who has a name point to what a share takes.
func (z *zoneFront) foreign(t *testing.T, share split.Share) {
	t.Helper()
	d := z.driver()
	s, err := d.look(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	to, _, err := d.points(s.sides, share)
	if err != nil {
		t.Fatal(err)
	}
	lines := []string{fmt.Sprintf("update delete %s A", z.settings.Name)}
	for _, a := range to {
		lines = append(lines, fmt.Sprintf("update add %s 7 A %s", z.settings.Name, a))
	}
	z.nsupdate(t, lines...)
}

func TestConformance(t *testing.T) {
	fronttest.Run(t, fronttest.System{
		Lacks: []fronttest.Ability{
			fronttest.Ends, fronttest.Exact, fronttest.Seamless, fronttest.Warns, fronttest.Reloads, fronttest.Disk,
			fronttest.Checker, fronttest.Door, fronttest.Each, fronttest.Ports, fronttest.Finely, fronttest.Divides,
		},
		Open: func(t *testing.T, w *fronttest.World) fronttest.Proxy {
			z := start(t, w, nil)
			return fronttest.Proxy{
				Driver:  func() front.Driver { return z.driver() },
				Foreign: z.foreign,
				Kill:    func(*testing.T) { z.program.Kill() },
			}
		},
	})
}

// How long something lasts is known whatever the clocks are: who has seen it come goes by how long it was to last,
// and who comes later waits no longer than that.
func TestHowLongItLasts(t *testing.T) {
	now := time.Date(2026, 11, 26, 22, 0, 0, 0, time.UTC)
	wrote := func(stamp string, clock time.Duration) note {
		at := now.Add(clock)
		return note{stamp: stamp, at: at, until: at.Add(5 * time.Second)}
	}
	for what, c := range map[string]struct {
		clock time.Duration // of who wrote it, ahead of ours
		fresh bool
		want  time.Duration
	}{
		"as it is":                        {0, true, 5 * time.Second},
		"by a clock that is behind":       {-time.Hour, true, 5 * time.Second},
		"by a clock that is ahead":        {time.Hour, true, 5 * time.Second},
		"found, by a clock that is ahead": {time.Hour, false, 5 * time.Second},
		"found, a while later":            {-2 * time.Second, false, 3 * time.Second},
	} {
		var s seen
		if c.fresh {
			s = s.next(wrote("before", 0), now.Add(-time.Minute))
		}
		n := wrote("now", c.clock)
		s = s.next(n, now)
		s = s.next(n, now.Add(time.Second)) // the same one is no other
		if got := s.lasts(n.until); !got.Equal(now.Add(c.want)) {
			t.Errorf("%s: %v, want %v", what, got.Sub(now), c.want)
		}
	}
	if got := (seen{}).lasts(time.Time{}); !got.IsZero() {
		t.Errorf("of nothing: %v", got)
	}
}

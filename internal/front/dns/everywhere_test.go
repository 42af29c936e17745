package dns

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/asked"
	"vaiven/lab/fronttest"
	"vaiven/lab/testkit"
)

// secondary starts a server that has the zone from the primary, and asks for it only when it is notified.
func (z *zoneFront) secondary(t *testing.T) (address string, notify func()) {
	t.Helper()
	port, _ := testkit.Ports(t, 1)
	dir := t.TempDir()
	host, primary, _ := net.SplitHostPort(z.settings.Server)
	file := filepath.Join(dir, "named.conf")
	fronttest.Write(t, file, fmt.Sprintf(`options {
    directory %q; listen-on port %d { 127.0.0.1; }; listen-on-v6 { none; }; pid-file "%[1]s/pid"; session-keyfile "%[1]s/session.key";
    recursion no; dnssec-validation no; notify no; empty-zones-enable no; allow-notify { any; };
};
controls { };
zone "lineavessa.example" { type secondary; file "copy"; masterfile-format text; primaries port %[3]s { %[4]s; }; };
`, dir, port, primary, host))
	address = fronttest.Address(port)
	fronttest.Start(t, address, fronttest.Need(t, "named"), "-g", "-4", "-n", "1", "-c", file)
	testkit.Until(t, "the secondary has the zone", func() error {
		_, err := z.ask(t.Context(), address, z.settings.Name)
		return err
	})
	return address, func() {
		t.Helper()
		m := new(dns.Msg).SetNotify(z.settings.Zone)
		if a, err := dns.ExchangeContext(t.Context(), m, address); err != nil || a.Rcode != dns.RcodeSuccess {
			t.Fatalf("notify: %v, %v", a, err)
		}
	}
}

// unbound starts a resolver that remembers.
func (z *zoneFront) unbound(t *testing.T) string {
	t.Helper()
	port, _ := testkit.Ports(t, 1)
	dir := t.TempDir()
	host, primary, _ := net.SplitHostPort(z.settings.Server)
	file := filepath.Join(dir, "unbound.conf")
	fronttest.Write(t, file, fmt.Sprintf(`server:
  interface: 127.0.0.1@%d
  directory: %q
  chroot: ""
  username: ""
  pidfile: ""
  use-syslog: no
  do-daemonize: no
  do-ip6: no
  module-config: "iterator"
  do-not-query-localhost: no
  access-control: 127.0.0.0/8 allow
remote-control:
  control-enable: no
stub-zone:
  name: "lineavessa.example"
  stub-addr: %s@%s
`, port, dir, host, primary))
	address := fronttest.Address(port)
	fronttest.Start(t, address, fronttest.Need(t, "unbound"), "-d", "-p", "-c", file)
	return address
}

// remembers asks a server, and goes by its answer for as long as that may be remembered.
type remembers struct {
	ask func(context.Context) (list []string, ttl time.Duration, err error)

	mu    sync.Mutex // protects what follows
	list  []string
	until time.Time
}

func (r *remembers) now(ctx context.Context) ([]string, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if time.Now().After(r.until) {
		list, ttl, err := r.ask(ctx)
		if err != nil {
			return nil, err
		}
		r.list, r.until = list, time.Now().Add(ttl)
	}
	return r.list, nil
}

// A name moves under load, and its users go by ten resolvers who remember, one of them the real one. Nothing is lost,
// though the old side is stopped as soon as it may be.
func TestNothingIsGivenUpBeforeTheLastHasHeard(t *testing.T) {
	w := fronttest.System{Lacks: []fronttest.Ability{fronttest.Ports, fronttest.Each}}.World(t)
	z := start(t, w, func(s *Settings) { s.TTL, s.Crossing = 2*time.Second, time.Second })
	resolver := z.unbound(t)
	z.settings.Resolvers = []string{resolver}
	blue, green := w.Raise(split.Blue, 1, 2), w.Raise(split.Green, 1, 2)
	d := z.driver()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(d.SetInstances(t.Context(), split.Blue, blue))
	ask := func(server string) func(context.Context) ([]string, time.Duration, error) {
		return func(ctx context.Context) ([]string, time.Duration, error) {
			a, err := dns.ExchangeContext(ctx, new(dns.Msg).SetQuestion(z.settings.Name, dns.TypeA), server)
			if err != nil || len(a.Answer) == 0 {
				return nil, 0, fmt.Errorf("%s answers %v, %w", server, a, err)
			}
			return values(a.Answer), time.Duration(a.Answer[0].Header().Ttl) * time.Second, nil
		}
	}
	var resolvers []*remembers
	for range 9 {
		resolvers = append(resolvers, &remembers{ask: ask(z.settings.Server)})
	}
	resolvers = append(resolvers, &remembers{ask: func(ctx context.Context) ([]string, time.Duration, error) {
		list, _, err := ask(resolver)(ctx) // it remembers itself
		return list, 0, err
	}})
	port, _ := testkit.Ports(t, 1)
	w.Listen = users(t, fronttest.Address(port), func(ctx context.Context) ([]string, error) {
		return resolvers[rand.IntN(len(resolvers))].now(ctx)
	}, w.Port())
	load := w.Flow()
	must(d.SetInstances(t.Context(), split.Green, green))
	r, err := d.Read(t.Context())
	must(err)
	if r.Eased.Before(r.At.Add(time.Second)) || r.Remembers != 2*time.Second {
		t.Errorf("the TTL was lowered from 2 s to 1 s: %v until the longer one is forgotten, and it is remembered "+
			"for %v", r.Eased.Sub(r.At), r.Remembers)
	}
	testkit.Eventually(t, "the longer TTL is forgotten", func() bool { return time.Now().After(r.Eased) })
	r, err = d.Read(t.Context())
	must(err)
	done, err := d.Set(t.Context(), split.Whole, front.AsRead(r))
	must(err)
	if in := time.Until(done.Everywhere); in < time.Second || in > 3*time.Second {
		t.Errorf("it is in force everywhere in %v, with a TTL of 1 s", in)
	}
	if spare, err := z.ask(t.Context(), z.settings.Server, z.settings.Spare); err != nil || len(spare) != 2 ||
		spare[0] == host(green[0]) || spare[0] == host(green[1]) {
		t.Errorf("the spare's name points to %v, %v", spare, err)
	}
	testkit.Until(t, "blue is given up", func() error {
		left, err := d.Drain(t.Context(), split.Blue)
		if err != nil && !errors.Is(err, front.ErrRefused) {
			t.Fatal(err)
		}
		if err == nil && left.Open != 0 {
			err = fmt.Errorf("%+v", left)
		}
		return err
	})
	if time.Now().Before(done.Everywhere) {
		t.Errorf("given up %v before everybody had heard", time.Until(done.Everywhere))
	}
	must(d.SetInstances(t.Context(), split.Blue, nil))
	for _, i := range blue {
		w.Instance(i.Name).Stop()
	}
	before := load.Answers[split.Green].Load()
	testkit.Eventually(t, "users are answered by green",
		func() bool { return load.Answers[split.Green].Load() > before+200 })
	if lost, first := load.End(); lost > 0 {
		t.Errorf("%d requests were lost, the first: %v", lost, first)
	}
	if a, err := z.ttlOf(t); err != nil || a != 2 {
		t.Errorf("afterwards the TTL is %d s, %v; want 2", a, err)
	}
}

// ttlOf is the TTL of the name, in seconds.
func (z *zoneFront) ttlOf(t *testing.T) (uint32, error) {
	t.Helper()
	a, err := dns.ExchangeContext(t.Context(), new(dns.Msg).SetQuestion(z.settings.Name, dns.TypeA), z.settings.Server)
	if err != nil || len(a.Answer) == 0 {
		return 0, fmt.Errorf("it answers %v, %w", a, err)
	}
	return a.Answer[0].Header().Ttl, nil
}

// A server that has not heard of a change puts off the time when that is in force everywhere; so does one that cannot
// be asked, which is said.
func TestASecondaryThatIsBehind(t *testing.T) {
	w := fronttest.System{Lacks: []fronttest.Ability{fronttest.Ports, fronttest.Each}}.World(t)
	z := start(t, w, func(s *Settings) { s.Counts = asked.Counts{} })
	d := z.driver()
	if err := errors.Join(d.SetInstances(t.Context(), split.Blue, w.Raise(split.Blue, 1, 1)),
		d.SetInstances(t.Context(), split.Green, w.Raise(split.Green, 1, 1))); err != nil {
		t.Fatal(err)
	}
	behind, notify := z.secondary(t)
	z.settings.Secondaries = []string{behind}
	r, err := d.Read(t.Context())
	if err != nil || r.Notice != "" {
		t.Fatalf("read: %q, %v", r.Notice, err)
	}
	if _, err := d.Set(t.Context(), split.Whole, front.AsRead(r)); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "the primary's own TTL is over", func() bool {
		s, err := d.look(t.Context())
		return err == nil && time.Now().After(s.note.until)
	})
	if r, err = d.Read(t.Context()); err != nil || !r.Everywhere.After(time.Now()) ||
		!strings.Contains(r.Notice, "still answers what was before") {
		t.Errorf("a secondary has not heard: everywhere in %v, %q, %v", time.Until(r.Everywhere), r.Notice, err)
	}
	if _, err := d.Drain(t.Context(), split.Blue); !errors.Is(err, front.ErrRefused) {
		t.Errorf("blue is given up: %v", err)
	}
	notify()
	testkit.Until(t, "it is in force everywhere", func() error {
		r, err := d.Read(t.Context())
		if err == nil && (r.Everywhere.After(time.Now()) || r.Notice != "") {
			err = fmt.Errorf("in %v, %q", time.Until(r.Everywhere), r.Notice)
		}
		return err
	})
	port, _ := testkit.Ports(t, 1)
	z.settings.Secondaries = append(z.settings.Secondaries, fronttest.Address(port))
	if r, err := d.Read(t.Context()); err != nil || !strings.Contains(r.Notice, "is not known") ||
		!strings.Contains(r.Notice, "connection refused") {
		t.Errorf("a secondary that is gone: %q, %v", r.Notice, err)
	}
}

// An alias leads to one of two names, whose addresses are those of the sides.
func TestAnAlias(t *testing.T) {
	w := fronttest.System{Lacks: []fronttest.Ability{fronttest.Ports, fronttest.Each}}.World(t)
	z := start(t, w, func(s *Settings) {
		s.Type, s.Shares, s.Targets = Alias, false,
			[2]string{"b.sailings.lineavessa.example.", "g.sailings.lineavessa.example."}
	})
	d := z.driver()
	blue, green := w.Raise(split.Blue, 1, 2), w.Raise(split.Green, 1, 2)
	if err := errors.Join(d.SetInstances(t.Context(), split.Blue, blue),
		d.SetInstances(t.Context(), split.Green, green)); err != nil {
		t.Fatal(err)
	}
	points := func(name, to string) {
		t.Helper()
		a, err := dns.ExchangeContext(t.Context(), new(dns.Msg).SetQuestion(name, dns.TypeCNAME), z.settings.Server)
		if err != nil || len(a.Answer) != 1 || values(a.Answer)[0] != to {
			t.Errorf("%s is %v, %v; want %s", name, a, err, to)
		}
	}
	points(z.settings.Name, z.settings.Targets[split.Blue])
	points(z.settings.Spare, z.settings.Targets[split.Green])
	if list, err := z.ask(t.Context(), z.settings.Server, z.settings.Name); err != nil || len(list) != 2 {
		t.Errorf("users find %v, %v", list, err)
	}
	r, err := d.Read(t.Context())
	if err != nil || r.Split.Share != 0 {
		t.Fatalf("read: %+v, %v", r.Split, err)
	}
	if _, err := d.Set(t.Context(), 2500, front.AsRead(r)); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "moves all at once") {
		t.Errorf("a part: %v", err)
	}
	if done, err := d.Set(t.Context(), split.Whole, front.AsRead(r)); err != nil || done.Share != split.Whole {
		t.Errorf("all: %+v, %v", done, err)
	}
	points(z.settings.Name, z.settings.Targets[split.Green])
	points(z.settings.Spare, z.settings.Targets[split.Blue])
	if err := d.SetInstances(t.Context(), split.Green, green[:1]); err != nil {
		t.Fatal(err)
	}
	if list, err := z.ask(t.Context(), z.settings.Server, z.settings.Name); err != nil ||
		!slices.Equal(list, []string{host(green[0])}) {
		t.Errorf("with one instance less users find %v, %v", list, err)
	}
	z.nsupdate(t, "update delete "+z.settings.Name+" CNAME",
		"update add "+z.settings.Name+" 5 CNAME elsewhere.example.")
	if _, err := d.Read(t.Context()); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "which is neither side's") {
		t.Errorf("led elsewhere: %v", err)
	}
	if done, err := d.Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"}); err != nil || done.Share != 0 {
		t.Errorf("home: %+v, %v", done, err)
	}
	points(z.settings.Name, z.settings.Targets[split.Blue])
}

// What is in the way is said with what the server says, and home is gone to where the records beside the name are
// damaged.
func TestWhatIsInTheWay(t *testing.T) {
	w := fronttest.System{Lacks: []fronttest.Ability{fronttest.Ports, fronttest.Each}}.World(t)
	z := start(t, w, nil)
	d := z.driver()
	blue, green := w.Raise(split.Blue, 1, 2), w.Raise(split.Green, 1, 2)
	// Somebody's name that serves: it stays as it is when Vaiven comes.
	z.nsupdate(t, "update delete "+z.settings.noteName()+" TXT", "update add "+z.settings.Name+" 30 A "+host(blue[0]),
		"update add "+z.settings.Name+" 30 A "+host(blue[1]))
	if _, err := d.Read(t.Context()); !errors.Is(err, front.ErrNotMade) {
		t.Errorf("without a record beside it: %v", err)
	}
	if made, err := d.Prepare(t.Context(), front.Known{blue, nil}); err != nil || !made {
		t.Fatalf("made %v, %v", made, err)
	}
	if list, err := z.ask(t.Context(), z.settings.Server, z.settings.Name); err != nil || len(list) != 2 {
		t.Errorf("afterwards it points to %v, %v", list, err)
	}
	if err := errors.Join(d.SetInstances(t.Context(), split.Blue, blue),
		d.SetInstances(t.Context(), split.Green, green)); err != nil {
		t.Fatal(err)
	}
	wrong := *z.settings
	wrong.Key = filepath.Join(t.TempDir(), "wrong.key")
	fronttest.Write(t, wrong.Key, "key \"vaiven\" { algorithm hmac-sha256; secret \"aGVycmluZ2hlcnJpbmdoZXJyaW5n\"; "+
		"};\n")
	other := z.Front
	other.Settings = &wrong
	if _, err := New(d.on, other).Rehearse(t.Context(), split.Blue); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "does not take the key vaiven") {
		t.Errorf("with another key: %v", err)
	}
	wrong.Key = filepath.Join(t.TempDir(), "none.key")
	if _, err := New(d.on, other).Read(t.Context()); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "no such file") {
		t.Errorf("without a key: %v", err)
	}
	for says, i := range map[string]string{"a name points to an IP address": "ship.example:" + w.Port(),
		"and a name carries no ports": "127.0.0.9:1", "holds A records": "[::1]:" + w.Port()} {
		list := slices.Clone(green)
		list[0].Address = i
		if err := d.SetInstances(t.Context(), split.Green, list); !errors.Is(err, front.ErrRefused) ||
			!strings.Contains(err.Error(), says) {
			t.Errorf("an instance at %s: %v", i, err)
		}
	}
	z.nsupdate(t, "update add "+z.settings.Name+" 30 A 127.0.0.77")
	if _, err := d.Read(t.Context()); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "127.0.0.77, which is an instance of neither side") {
		t.Errorf("with somebody's address: %v", err)
	}
	if err := d.SetInstances(t.Context(), split.Green, green[:1]); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "127.0.0.77") {
		t.Errorf("other instances beside somebody's address: %v", err)
	}
	points := func(when string, want ...string) {
		t.Helper()
		if list, err := z.ask(t.Context(), z.settings.Server, z.settings.Name); err != nil || len(list) != len(want) ||
			slices.ContainsFunc(want, func(a string) bool { return !slices.Contains(list, a) }) {
			t.Errorf("%s it points to %v, %v; want %v", when, list, err, want)
		}
	}
	points("with somebody's address", host(blue[0]), host(blue[1]), "127.0.0.77")
	z.nsupdate(t, "update delete "+z.settings.noteName()+" TXT", "update add "+z.settings.noteName()+" 0 TXT nonsense")
	if err := d.SetInstances(t.Context(), split.Green, green[:1]); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "put it right") {
		t.Errorf("other instances with a damaged record: %v", err)
	}
	if _, err := d.Read(t.Context()); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "put it right, or go home") {
		t.Errorf("with a damaged record: %v", err)
	}
	if done, err := d.Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"}); err != nil || done.Share != 0 {
		t.Errorf("home: %+v, %v", done, err)
	}
	points("home", host(blue[0]), host(blue[1]))
	// The record is gone, and whoever goes home has seen nothing before: the instances stand there.
	z.nsupdate(t, "update delete "+z.settings.noteName()+" TXT")
	if _, err := d.Read(t.Context()); !errors.Is(err, front.ErrNotMade) {
		t.Errorf("without the record: %v", err)
	}
	if done, err := z.driver().Home(t.Context(), front.Homing{Side: split.Green, By: "marit"}); err != nil ||
		done.Share != split.Whole {
		t.Errorf("home without the record: %+v, %v", done, err)
	}
	points("home without the record", host(green[0]), host(green[1]))
	// Nor do they: who knows them goes home, and who does not leaves the name as it is.
	z.nsupdate(t, "update delete "+z.settings.sidesName()+" TXT",
		"update add "+z.settings.sidesName()+" 0 TXT nonsense%zz")
	if done, err := z.driver().Home(t.Context(),
		front.Homing{Side: split.Blue, By: "marit", Force: true}); !errors.Is(err, front.ErrNobody) {
		t.Errorf("home by who knows nobody: %+v, %v", done, err)
	}
	points("then", host(green[0]), host(green[1]))
	if _, err := d.Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"}); err != nil {
		t.Errorf("home by who knows them: %v", err)
	}
	points("home", host(blue[0]), host(blue[1]))
	if r, err := z.driver().Read(t.Context()); err != nil || len(r.Sides[split.Green].Instances) != 2 ||
		r.Order.By != "marit" {
		t.Errorf("another process reads %+v, %v", r, err)
	}
}

// A server that hangs is waited for no longer than a moment, and home is gone to as soon as it goes on.
func TestAServerThatHangs(t *testing.T) {
	w := fronttest.System{Lacks: []fronttest.Ability{fronttest.Ports, fronttest.Each}}.World(t)
	z := start(t, w, nil)
	d := z.driver()
	if err := errors.Join(d.SetInstances(t.Context(), split.Blue, w.Raise(split.Blue, 1, 1)),
		d.SetInstances(t.Context(), split.Green, w.Raise(split.Green, 1, 1))); err != nil {
		t.Fatal(err)
	}
	r, err := d.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := d.Set(t.Context(), split.Whole, front.AsRead(r)); err != nil {
		t.Fatal(err)
	}
	thaw := z.program.Freeze()
	if _, err := d.Home(t.Context(), front.Homing{Side: split.Blue}); !errors.Is(err, front.ErrUnreachable) ||
		!strings.Contains(err.Error(), "no answer in time") {
		t.Errorf("home while it hangs: %v", err)
	}
	home := make(chan error, 1)
	go func() {
		_, err := d.Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"})
		home <- err
	}()
	thaw()
	if err := <-home; err != nil {
		t.Errorf("home when it goes on: %v", err)
	}
	if r, err := z.driver().Read(t.Context()); err != nil || r.Split.Share != 0 || r.Order.By != "marit" {
		t.Errorf("afterwards it is %+v, %v", r.Split, err)
	}
}

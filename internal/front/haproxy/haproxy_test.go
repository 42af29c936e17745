package haproxy

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/place"
	"vaiven/lab/fronttest"
	"vaiven/lab/placetest"
	"vaiven/lab/testkit"
)

// setup is a plan's front as a test wants it, and where its files are.
type setup struct {
	mapped bool
	byAddr bool // its run-time interface is at an address
	key    plan.Key
	sticky bool
	logs   bool   // its log is sent to us
	lines  string // of somebody's own, in the backend
	more   string // of somebody else's, after all
	// the map is read as numbers
	numbers bool
}

// start starts an HAProxy with the configuration that such a plan asks for.
func start(t *testing.T, w *fronttest.World, s setup) (plan.Front, *fronttest.Program, string) {
	t.Helper()
	program := fronttest.Need(t, Kind.Program)
	dir := t.TempDir()
	port, _ := testkit.Ports(t, 1)
	w.Listen = fronttest.Address(port)
	kept := filepath.Join(dir, "kept")
	h := &Settings{
		Socket: filepath.Join(dir, "admin.sock"), Backends: [2]string{"sailings", "sailings"},
		Servers:   [2]string{"blue-", "green-"},
		StateFile: filepath.Join(kept, "state"),
	}
	if s.mapped {
		h.Backends, h.Map, h.MapKey = [2]string{"sailings-blue", "sailings-green"}, filepath.Join(kept, "split.map"),
			"sailings"
	}
	if s.byAddr {
		admin, _ := testkit.Ports(t, 1)
		h.Socket, h.Address = "", fronttest.Address(admin)
	}
	if s.logs {
		h.Log = nobodyReads(t)
	}
	if s.key.From == "" {
		s.key.From = plan.KeyRandom
	}
	f := plan.Front{Listen: w.Listen, Key: s.key, Sticky: s.sticky, Settings: h, Order: filepath.Join(dir, "order")}
	if s.mapped {
		f.Spare = fronttest.NewDoor(dir)
	}
	fronttest.Write(t, filepath.Join(kept, "split.map"), "other 5000\nsailings 0\n")
	c := config("sailings", f, front.Site{Folder: dir, Slots: 6})
	c.Text = strings.Replace(c.Text, "    balance roundrobin\n", "    balance roundrobin\n"+s.lines, 1)
	if s.numbers {
		c.Text = strings.ReplaceAll(c.Text, ",map(", ",map_str_int(")
	}
	fronttest.Write(t, c.File, c.Text+s.more)
	p := fronttest.Start(t, w.Listen, program, c.Args...)
	testkit.Until(t, "its socket", func() error {
		network, address := h.where()
		conn, err := net.Dial(network, address)
		if err == nil {
			err = conn.Close()
		}
		return err
	})
	return f, p, kept
}

// nobodyReads is an address that nobody reads datagrams at.
func nobodyReads(t *testing.T) string {
	t.Helper()
	return testkit.Address(t)
}

func open(s setup, reach fronttest.Reach) func(*testing.T, *fronttest.World) fronttest.Proxy {
	return func(t *testing.T, w *fronttest.World) fronttest.Proxy {
		f, p, kept := start(t, w, s)
		return fronttest.Proxy{
			Driver: func() front.Driver {
				return reach(t, func(on place.Machine) front.Driver {
					d := New(on, f)
					t.Cleanup(d.lasting.Wait)
					return d
				})
			},
			Door: f.Spare,
			Foreign: func(t *testing.T, share split.Share) {
				other := New(place.Local{}, f)
				var commands []string
				if !f.Settings.(*Settings).Weighs() {
					commands = append(commands,
						fmt.Sprintf("set map %s sailings %d", f.Settings.(*Settings).Map, share))
				} else {
					for n := range 3 { // by hand, and half and half
						if share != split.Whole/2 {
							t.Fatal("only half and half is done by hand")
						}
						commands = append(commands, fmt.Sprintf("set server sailings/green-%d weight 7", n+1),
							fmt.Sprintf("set server sailings/blue-%d weight 7", n+1))
					}
				}
				if err := other.tell(t.Context(), commands); err != nil {
					t.Fatal(err)
				}
			},
			Reload: func(t *testing.T) {
				worker := func() (string, error) {
					said, err := New(place.Local{}, f).ask(t.Context(), "show info")
					_, pid, _ := strings.Cut(said, "\nPid: ")
					pid, _, _ = strings.Cut(pid, "\n")
					return pid, err
				}
				before, err := worker()
				if err != nil {
					t.Fatal(err)
				}
				told := time.Time{}
				testkit.Until(t, "the new worker", func() error {
					if time.Since(told) > 3*time.Second { // once more: a master that is busy may miss a signal
						p.Signal(syscall.SIGUSR2)
						told = time.Now()
					}
					after, err := worker()
					if err == nil && after == before {
						err = fmt.Errorf("%s still answers", after)
					}
					return err
				})
			},
			Spoil: func(t *testing.T) {
				if err := os.RemoveAll(kept); err != nil {
					t.Fatal(err)
				}
			},
			Kill: func(*testing.T) { p.Kill() },
		}
	}
}

func TestConformanceByWeight(t *testing.T) {
	fronttest.Run(t, fronttest.System{Open: open(setup{}, fronttest.Here),
		Lacks: []fronttest.Ability{fronttest.Exact, fronttest.Checker, fronttest.Door, fronttest.Beside}})
}

// Steered at an address, and with a log, which make no other difference.
func TestConformanceByMap(t *testing.T) {
	fronttest.Run(t, fronttest.System{Open: open(setup{mapped: true, byAddr: true, logs: true}, fronttest.Here),
		Lacks: []fronttest.Ability{fronttest.Checker, fronttest.Divides, fronttest.Beside}})
}

func TestConformanceOverSSH(t *testing.T) {
	testkit.Long(t)
	reach := fronttest.OverSSH(t)
	fronttest.Run(t, fronttest.System{Open: open(setup{mapped: true}, reach),
		Lacks: []fronttest.Ability{fronttest.Checker, fronttest.Divides, fronttest.Beside}})
}

// Whatever the key, the configuration that is asked for keeps clients on green.
func TestKeysThatStay(t *testing.T) {
	for _, c := range []struct {
		key     plan.Key
		headers func(n int) []string
	}{
		{plan.Key{From: plan.KeyCookie, Name: "passenger"},
			func(n int) []string { return []string{fmt.Sprintf("Cookie: a=b; passenger=p%d", n)} }},
		{plan.Key{From: plan.KeyHeader, Name: "X-Passenger"},
			func(n int) []string { return []string{fmt.Sprintf("X-Passenger: p%d", n)} }},
	} {
		t.Run(c.key.String(), func(t *testing.T) {
			w := fronttest.NewWorld(t)
			f, _, _ := start(t, w, setup{mapped: true, key: c.key})
			d := New(place.Local{}, f)
			fronttest.Grows(t, w, d, c.headers)
			if r, err := d.Read(t.Context()); err != nil || !r.Tells.Both {
				t.Errorf("the prober, with another value each time, does not meet both sides: %+v, %v", r.Tells, err)
			}
		})
	}
}

// The log tells how long answers took, and which clients there were, by a digest of what the key goes by; a log that
// does not come is missed.
func TestTheLog(t *testing.T) {
	for _, mapped := range []bool{true, false} {
		w := fronttest.NewWorld(t)
		s := setup{mapped: mapped, logs: true}
		if mapped {
			s.key = plan.Key{From: plan.KeyCookie, Name: "passenger"}
		}
		f, _, _ := start(t, w, s)
		d := New(place.Local{}, f)
		for _, side := range split.Sides {
			if err := d.SetInstances(t.Context(), side, w.Raise(side, 1, 1)); err != nil {
				t.Fatal(err)
			}
		}
		before, err := d.Read(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if _, err := d.Set(t.Context(), 5000, front.AsRead(before)); err != nil {
			t.Fatal(err)
		}
		if _, err := d.Read(t.Context()); err != nil { // from here on clients are of this share
			t.Fatal(err)
		}
		const clients = 40
		w.Count(3*clients, true,
			func(n int) []string { return []string{fmt.Sprintf("Cookie: passenger=p%d", n%clients)} })
		testkit.Until(t, "all answers are in the log", func() error {
			r, err := d.Read(t.Context())
			if err != nil {
				return err
			}
			timed, of := int64(0), int64(0)
			for _, side := range split.Sides {
				for _, c := range r.Sides[side].Instances {
					h, err := c.Histogram()
					if err != nil {
						return err
					}
					timed, of = timed+h.TotalCount(), of+c.Requests
				}
			}
			met := r.Sides[0].Clients.Seen + r.Sides[1].Clients.Seen
			if timed != of || of < 3*clients || r.Tells.Clients != mapped ||
				mapped && (met < clients-2 || met > clients) || !r.Tells.Times {
				return fmt.Errorf("%d of %d answers have times, %d clients, %+v, %q", timed, of, met, r.Tells, r.Notice)
			}
			return nil
		})
		other := New(place.Local{}, f)
		if r, err := other.Read(t.Context()); err != nil || r.Tells.Times || r.Blind == "" ||
			!strings.Contains(r.Notice, "another process reads it") && mapped {
			t.Errorf("what a second process reads: %+v, %q, %v", r.Tells, r.Notice, err)
		}
	}
}

// A log that names nobody's answers, or is not sent at all, is held against what was counted.
func TestALogThatDoesNotCome(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := start(t, w, setup{mapped: true})
	f.Settings.(*Settings).Log = nobodyReads(t)
	d := New(place.Local{}, f)
	d.held = time.Hour // the time is the test's input
	if err := d.SetInstances(t.Context(), split.Blue, w.Raise(split.Blue, 1, 1)); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Home(t.Context(), front.Homing{Side: split.Blue}); err != nil {
		t.Fatal(err)
	}
	testkit.Until(t, "it is missed", func() error {
		d.mu.Lock()
		d.begun = tallied{}
		d.mu.Unlock()
		if _, err := d.Read(t.Context()); err != nil {
			return err
		}
		w.Count(40, true, nil)
		d.mu.Lock()
		d.begun.at = time.Now().Add(-d.held)
		d.mu.Unlock()
		r, err := d.Read(t.Context())
		if err == nil && (r.Tells.Times || r.Blind == "" ||
			!strings.Contains(r.Notice, "of 40 answers 40 are not in the log")) {
			err = fmt.Errorf("%+v, %q", r.Tells, r.Notice)
		}
		return err
	})
}

// Clients that are told apart by their address all have the same one here.
func TestKeysOfAddresses(t *testing.T) {
	for _, key := range []plan.Key{{From: plan.KeyRandom}, {From: plan.KeyClient}, {From: plan.KeyClient, Prefix: 24}} {
		w := fronttest.NewWorld(t)
		f, _, _ := start(t, w, setup{mapped: true, key: key})
		d := New(place.Local{}, f)
		for _, side := range split.Sides {
			if err := d.SetInstances(t.Context(), side, w.Raise(side, 1, 1)); err != nil {
				t.Fatal(err)
			}
			if _, err := d.Home(t.Context(), front.Homing{Side: side}); err != nil {
				t.Fatal(err)
			}
			if r, err := d.Read(t.Context()); err != nil || r.Tells.Both != (key.From != plan.KeyClient) {
				t.Errorf("%v: it tells %+v, %v", key, r.Tells, err)
			}
			if _, sides := w.Count(20, true, nil); sides[side] != 20 {
				t.Errorf("%v, all on %v: answers of %v", key, side, sides)
			}
		}
	}
}

// gated is a machine from which commands of a kind are held up on their way.
type gated struct {
	place.Machine
	kind string
	held chan chan struct{} // gets a channel for each, which is to be closed for it to go on
}

type gatedConn struct {
	net.Conn
	of gated
}

func (g gated) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	c, err := g.Machine.Dial(ctx, network, address)
	return gatedConn{c, g}, err
}

func (c gatedConn) Write(data []byte) (int, error) {
	if strings.Contains(string(data), c.of.kind) {
		on := make(chan struct{})
		c.of.held <- on
		<-on
	}
	return c.Conn.Write(data)
}

// A keeper has prepared a change before another one's term was in force, by a version of the map that is newer than the
// term's: it is refused when it comes.
func TestATermBesideAChange(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := start(t, w, setup{mapped: true})
	held := make(chan chan struct{})
	on := gated{place.Local{}, "commit map", held}
	keeper, standby := New(on, f), New(on, f)
	plain := New(place.Local{}, f)
	for _, side := range split.Sides {
		list := w.Raise(side, 1, 2)
		for _, d := range []*Driver{plain, keeper} {
			if err := d.SetInstances(t.Context(), side, list); err != nil {
				t.Fatal(err)
			}
		}
	}
	if _, err := plain.Set(t.Context(), 2500, expects(t, plain)); err != nil {
		t.Fatal(err)
	}
	before := expects(t, keeper)
	began, set := make(chan error, 1), make(chan error, 1)
	go func() {
		_, err := standby.NewTerm(t.Context(), before.Term)
		began <- err
	}()
	term := <-held // its version is the older one
	go func() {
		_, err := keeper.Set(t.Context(), 7500, before)
		set <- err
	}()
	change := <-held
	close(term)
	close(<-held) // the term's second one
	if err := <-began; err != nil {
		t.Fatal(err)
	}
	close(change)
	if err := <-set; err == nil {
		t.Error("the change was taken")
	}
	if r, err := plain.Read(t.Context()); err != nil || r.Split.Share != 2500 || r.Order.Term <= before.Term {
		t.Errorf("in the end %v are on green, in term %d after %d (%v)", r.Split.Share, r.Order.Term, before.Term, err)
	}
}

// Two services have one map, and change at the same moment: neither change is lost, whichever version comes first.
func TestTwoServicesOfOneMap(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := start(t, w, setup{mapped: true})
	other := *f.Settings.(*Settings)
	other.MapKey = "other" // which the file has at 50 %
	g := f
	g.Settings = &other
	held := make(chan chan struct{})
	on := gated{place.Local{}, "commit map", held}
	plain, first, second := New(place.Local{}, f), New(on, f), New(on, g)
	for _, side := range split.Sides {
		list := w.Raise(side, 1, 2)
		for _, d := range []*Driver{plain, first, second} {
			if err := d.SetInstances(t.Context(), side, list); err != nil {
				t.Fatal(err)
			}
		}
	}
	set := func(d *Driver, share split.Share) chan error {
		t.Helper()
		e, done := expects(t, d), make(chan error, 1)
		go func() {
			_, err := d.Set(t.Context(), share, e)
			done <- err
		}()
		return done
	}
	for n, share := range []split.Share{2500, 7500} {
		a := set(first, share)
		older := <-held
		b := set(second, split.Whole-share)
		newer := <-held
		if n == 0 { // the older one first: the newer one is put in force over it
			close(older)
			if err := <-a; err != nil {
				t.Errorf("the older one: %v", err)
			}
			close(newer)
			close(<-held) // it puts back what it came over
			if err := <-b; err != nil {
				t.Errorf("the newer one: %v", err)
			}
		} else { // the older one is refused, and made again
			close(newer)
			if err := <-b; err != nil {
				t.Errorf("the newer one: %v", err)
			}
			close(older)
			close(<-held)
			if err := <-a; err != nil {
				t.Errorf("the older one, made again: %v", err)
			}
		}
		for d, want := range map[*Driver]split.Share{plain: share, second: split.Whole - share} {
			if r, err := d.Read(t.Context()); err != nil || r.Split.Share != want {
				t.Errorf("%v are on green, and %v were asked for (%v)", r.Split.Share, want, err)
			}
		}
	}
}

// Of a map that another service has as well nothing is let out, which a rehearsal finds, and all can go home.
func TestAMapOfAnotherService(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := start(t, w, setup{mapped: true})
	other := *f.Settings.(*Settings)
	other.MapKey = "other"
	g := f
	g.Settings = &other
	first, second := New(place.Local{}, f), New(place.Local{}, g)
	for _, side := range split.Sides {
		list := w.Raise(side, 1, 2)
		for _, d := range []*Driver{first, second} {
			if err := d.SetInstances(t.Context(), side, list); err != nil {
				t.Fatal(err)
			}
		}
	}
	if _, err := first.Set(t.Context(), 2500, expects(t, first)); err != nil {
		t.Fatal(err)
	}
	if _, err := second.NewTerm(t.Context(), 0); err != nil {
		t.Fatal(err)
	}
	const says = "split.map is that of other as well"
	if _, err := first.Set(t.Context(), 5000, expects(t, first)); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), says) {
		t.Errorf("it is let out: %v", err)
	}
	if r := front.Rehearse(t.Context(), first, split.Blue); !strings.Contains(r.Failed, says) {
		t.Errorf("a rehearsal says %+v", r)
	}
	if d, err := first.Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"}); err != nil || d.Share != 0 {
		t.Errorf("home: %+v, %v", d, err)
	}
}

// expects is that a front still is as it is now.
func expects(t *testing.T, d *Driver) front.Expect {
	t.Helper()
	r, err := d.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return front.AsRead(r)
}

// A map that takes numbers alone holds a share and no order of going home: that is known before anything is moved.
func TestAMapOfNumbers(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := start(t, w, setup{mapped: true, numbers: true})
	f.Spare = plan.SpareDoor{} // which is a text, too
	d := New(place.Local{}, f)
	if err := d.SetInstances(t.Context(), split.Blue, w.Raise(split.Blue, 1, 2)); err != nil {
		t.Fatal(err)
	}
	_, err := d.Rehearse(t.Context(), split.Blue)
	if !errors.Is(err, front.ErrRefused) || !strings.Contains(err.Error(), "map_str_int") {
		t.Errorf("a rehearsal of going home: %v", err)
	}
}

func TestSessionsStay(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := start(t, w, setup{sticky: true})
	fronttest.Sessions(t, w, New(place.Local{}, f))
}

// What HAProxy has counts, and not what the plan says: who has a session goes home all the same.
func TestSessionsThatThePlanDoesNotName(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := start(t, w, setup{lines: "    cookie ferry insert indirect nocache dynamic\n    dynamic-cookie-key " +
		"ferry\n"})
	d := New(place.Local{}, f)
	fronttest.Sessions(t, w, d)
	r, err := d.Read(t.Context())
	if err != nil || !strings.Contains(r.Notice, "HAProxy keeps clients on a server of backend sailings") {
		t.Errorf("it is said as %q, %v", r.Notice, err)
	}
}

// A table of who was where keeps clients as a cookie does.
func TestATableOfClients(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := start(t, w, setup{lines: "    stick-table type ip size 1k expire 30m\n    stick on src\n"})
	d := New(place.Local{}, f)
	for _, side := range split.Sides {
		if err := d.SetInstances(t.Context(), side, w.Raise(side, 1, 2)); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		share split.Share
		want  split.Side
	}{{split.Whole, split.Green}, {0, split.Green}} {
		r, err := d.Read(t.Context())
		if err == nil {
			_, err = d.Set(t.Context(), c.share, front.AsRead(r))
		}
		if err != nil {
			t.Fatal(err)
		}
		fronttest.Answers(t, w, c.want)
	}
	if _, err := d.Home(t.Context(), front.Homing{Side: split.Blue}); err != nil {
		t.Fatal(err)
	}
	fronttest.Answers(t, w, split.Blue)
}

// The state file is HAProxy's own form, in which a worker that starts finds everything
// again; this is the file as it would be written for a change.
func TestTheStateFile(t *testing.T) {
	text := `1
# be_id be_name srv_id srv_name srv_addr srv_op_state srv_admin_state srv_uweight srv_iweight srv_port
3 sailings 1 blue-1 127.0.0.1 2 4 5 1 7001
3 sailings 2 green-1 127.0.0.1 0 5 0 0 1

`
	raw, err := parseState(text)
	if err != nil {
		t.Fatal(err)
	}
	green := setting{server: server{backend: "sailings", name: "green-1", admin: 5}, weight: 9, in: true,
		address: "127.0.0.1:7009"}
	blue := setting{server: server{backend: "sailings", name: "blue-1", admin: 4}, left: true}
	got := string(raw.with([]setting{green, blue}))
	want := `1
# be_id be_name srv_id srv_name srv_addr srv_op_state srv_admin_state srv_uweight srv_iweight srv_port
3 sailings 1 blue-1 127.0.0.1 0 5 0 1 7001
3 sailings 2 green-1 127.0.0.1 2 4 9 0 7009
`
	if got != want {
		t.Errorf("the state file is\n%swant\n%s", got, want)
	}
}

// The state file is what HAProxy shows of all its servers, whatever several services change at the same moment. It is
// written again if somebody has damaged it, and keeps its mode.
func TestTheStateFileOfSeveralServices(t *testing.T) {
	w := fronttest.NewWorld(t)
	more := ""
	names := []string{"sailings", "fares", "berths", "manifests"}
	for _, name := range names[1:] {
		more += "backend " + name + "\n    load-server-state-from-file global\n" +
			"    server-template blue- 2 127.0.0.1:1 disabled\n    server-template green- 2 127.0.0.1:1 disabled\n"
	}
	f, _, kept := start(t, w, setup{more: more})
	var drivers []*Driver
	lists := [2][]reading.Server{w.Raise(split.Blue, 1, 2), w.Raise(split.Green, 1, 2)}
	for _, name := range names {
		own, g := *f.Settings.(*Settings), f
		own.Backends = [2]string{name, name}
		g.Settings, g.Order = &own, filepath.Join(t.TempDir(), "order")
		d := New(place.Local{}, g)
		t.Cleanup(d.lasting.Wait)
		for side, list := range lists {
			if err := d.SetInstances(t.Context(), split.Side(side), list); err != nil {
				t.Fatal(err)
			}
		}
		drivers = append(drivers, d)
	}
	file := filepath.Join(kept, "state")
	same := func(after string) {
		t.Helper()
		for _, d := range drivers {
			d.lasting.Wait()
		}
		said, err := drivers[0].ask(t.Context(), "show servers state")
		if err != nil {
			t.Fatal(err)
		}
		shown, err := parseState(said)
		if err != nil {
			t.Fatal(err)
		}
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		written, err := parseState(string(text))
		if err != nil {
			t.Fatal(err)
		}
		for n, d := range drivers {
			if !d.sameState(written, shown) {
				t.Fatalf("after %s the file is not what HAProxy shows of %s", after, names[n])
			}
		}
	}
	same("instances came")
	for round := range 20 {
		to := split.Side(1 - round%2)
		var all sync.WaitGroup
		for _, d := range drivers {
			all.Go(func() {
				if _, err := d.Home(t.Context(), front.Homing{Side: to, By: "marit"}); err != nil {
					t.Error(err)
				}
			})
		}
		all.Wait()
		same(fmt.Sprintf("round %d, to %v,", round, to))
	}
	if err := errors.Join(os.WriteFile(file, []byte("1\n# be_id be_name\n"), 0o640), os.Chmod(file, 0o640)); err != nil {
		t.Fatal(err)
	}
	testkit.Until(t, "it is written again", func() error {
		if _, err := drivers[0].Read(t.Context()); err != nil {
			t.Fatal(err)
		}
		if text, err := os.ReadFile(file); err != nil || !strings.Contains(string(text), "fares") {
			return fmt.Errorf("%s, %v", text, err)
		}
		return nil
	})
	same("it was damaged")
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("its mode is %v, %v", info.Mode(), err)
	}
}

// A change never has a moment with neither side: what gains comes first here. Nobody's share goes by what is behind the
// spare side's door.
func TestTheSideThatGainsIsFirst(t *testing.T) {
	on := func(name string, weight int) server { return server{backend: "b", name: name, weight: weight} }
	got := commands([]setting{
		{server: on("blue", 3), weight: 0, in: true},
		{server: on("green", 0), weight: 5, in: true, side: split.Green},
		{server: server{backend: "b", name: "spare", admin: maintenance, address: "127.0.0.1:1"}, weight: 2, in: true,
			address: "127.0.0.1:7", side: split.Green, behind: true},
		{server: on("gone", 4), left: true},
	})
	want := []string{
		"set server b/green weight 5",
		"set server b/spare state maint", "set server b/spare addr 127.0.0.1 port 7", "set server b/spare weight 2",
		"set server b/spare state ready",
		"set server b/blue weight 0", "set server b/gone weight 0", "set server b/gone state maint",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("commands\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

func FuzzTables(f *testing.F) {
	f.Add("1\n# be_id be_name srv_name\n3 b s\n\n# pxname,svname,\nb,s,\n")
	f.Add("# pxname,\"\n")
	f.Add("0x1 sailings 2500\n")
	f.Add("7,green,1764050000,marit,it+looks+wrong%2C+5+%25")
	f.Fuzz(func(t *testing.T, text string) {
		if s, err := parseState(text); err == nil {
			s.with(nil)
		}
		_, _ = parseStat(text)
		var s state
		if err := s.readMap(text, "sailings", "sailings.home", "sailings.term", "sailings-door."); err == nil &&
			(s.share < 0 || s.share > 10_000) {
			t.Errorf("a share of %d", s.share)
		}
		if o := decode(text); o.Generation > 0 && decode(encode(o)) != o && len(o.Why) < 200 &&
			!strings.Contains(o.Why+o.By, "\x00") {
			t.Errorf("the order %+v is read back as %+v", o, decode(encode(o)))
		}
	})
}

// What knows the secret of the spare side's own door is no file for everybody.
func TestTheSecretIsNotForEverybody(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, kept := start(t, w, setup{mapped: true})
	d := New(place.Local{}, f)
	t.Cleanup(d.lasting.Wait)
	if err := d.SetInstances(t.Context(), split.Blue, w.Raise(split.Blue, 1, 1)); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(kept, "split.map")
	data, err := os.ReadFile(file)
	if err != nil || !strings.Contains(string(data), "sailings"+doorSuffix+".") {
		t.Fatalf("the map says %q, %v", data, err)
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm()&0o007 != 0 {
		t.Errorf("the map is %v, %v", info.Mode(), err)
	}
	if err := d.tell(t.Context(),
		[]string{"set map " + f.Settings.(*Settings).Map + " sailings" + doorSuffix +
			".ABCDEFGHIJKLMNOPQRSTUVWX27 nowhere"}); err == nil || strings.Contains(err.Error(), "ABCDEFGH") {
		t.Errorf("what HAProxy refuses is said as %v", err)
	}
}

// What going home writes to a slow disk comes before what is changed after it, and not over it; going
// home itself waits for nothing.
func TestALateDiskComesOverNothing(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, kept := start(t, w, setup{})
	var slow atomic.Pointer[chan struct{}]
	on := &placetest.Elsewhere{Root: "/", Before: func(act, _ string) error {
		if hang := slow.Load(); act == "create" && hang != nil {
			<-*hang
		}
		return nil
	}}
	d := New(on, f)
	t.Cleanup(d.lasting.Wait)
	green := w.Raise(split.Green, 1, 1)
	if err := d.SetInstances(t.Context(), split.Blue, w.Raise(split.Blue, 1, 1)); err != nil {
		t.Fatal(err)
	}
	hang := make(chan struct{})
	slow.Store(&hang)
	if done, err := d.Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"}); err != nil || done.Share != 0 {
		t.Fatalf("home beside a slow disk: %+v, %v", done, err)
	}
	short, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond) // the time is the test's input
	defer cancel()
	if err := d.SetInstances(short, split.Green, green); err == nil {
		t.Error("what came after did not wait for it")
	}
	slow.Store(nil)
	close(hang)
	if err := d.SetInstances(t.Context(), split.Green, green); err != nil {
		t.Fatal(err)
	}
	d.lasting.Wait()
	_, port, _ := net.SplitHostPort(green[0].Address)
	if data, err := os.ReadFile(filepath.Join(kept, "state")); err != nil || !strings.Contains(string(data), port) {
		t.Errorf("what a reload would read knows nobody of green: %v\n%s", err, data)
	}
}

// An HAProxy that is started again without the state of its servers has forgotten who there is. Whoever knows gives
// it that again, with the share that was in force; who knows nothing is told that nobody is there, and names them
// first.
func TestOneThatHasForgottenIsToldAgain(t *testing.T) {
	for _, mapped := range []bool{false, true} {
		t.Run(fmt.Sprintf("by map %v", mapped), func(t *testing.T) {
			w := fronttest.NewWorld(t)
			f, p, kept := start(t, w, setup{mapped: mapped})
			var opened []*Driver
			written := func() {
				for _, d := range opened {
					d.lasting.Wait()
				}
			}
			t.Cleanup(written)
			open := func() front.Driver {
				opened = append(opened, New(place.Local{}, f))
				return opened[len(opened)-1]
			}
			fronttest.ToldAgain(t, w, open, func() {
				written() // else it might be there again
				if err := os.Remove(filepath.Join(kept, "state")); err != nil {
					t.Fatal(err)
				}
				p.Kill()
				p = p.Again(w.Listen)
				other := New(place.Local{}, f)
				testkit.Until(t, "its socket", func() error {
					_, err := other.look(t.Context())
					return err
				})
				if mapped {
					return
				}
				if _, err := other.Home(t.Context(), front.Homing{Side: split.Blue}); !errors.Is(err, front.ErrNobody) {
					t.Errorf("home to who is forgotten: %v", err)
				}
			})
		})
	}
}

// HAProxy's own check is waited for, as long as its configuration says that it takes: an instance that was made known
// before it listened is down there at first. One that is ill stays so.
func TestItsOwnCheckIsWaitedFor(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := start(t, w, setup{lines: "    option httpchk GET /healthz\n    default-server check inter 300ms rise 3 " +
		"fall 1\n"})
	d := New(place.Local{}, f)
	port, _ := testkit.Ports(t, 1)
	address := fronttest.Address(port)
	list := []reading.Server{{Name: "green-1", Address: address}}
	if err := d.SetInstances(t.Context(), split.Green, list); err != nil {
		t.Fatal(err)
	}
	down := func() error {
		s, err := d.look(t.Context())
		if err != nil {
			return err
		}
		for _, v := range s.servers {
			if v.address == address && strings.HasPrefix(v.status, "DOWN") {
				return nil
			}
		}
		return errors.New("it is not down")
	}
	testkit.Until(t, "that nobody listens", down)
	if err := d.Reach(t.Context(), address); err == nil {
		t.Error("who does not listen is reached")
	}
	var well atomic.Bool
	server := &http.Server{Addr: address, Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if !well.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	})}
	listen, err := net.Listen("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	go func() { _ = server.Serve(listen) }()
	t.Cleanup(func() { _ = server.Close() })
	if err := d.Reach(t.Context(), address); err == nil || !strings.Contains(err.Error(), "own check says DOWN") {
		t.Errorf("of one that is ill it says %v", err)
	}
	well.Store(true)
	if err := d.Reach(t.Context(), address); err != nil {
		t.Errorf("one that has become well: %v", err)
	}
	if down() == nil {
		t.Error("it was not waited for HAProxy's own check")
	}
}

// How often HAProxy checks is read as HAProxy reads it.
func TestInterval(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"backend a\n server b1 :1 check":                                      2 * time.Second,
		"backend a\n server b1 :1 check inter 500":                            500 * time.Millisecond,
		"backend a\n server b1 :1 check inter 1s downinter 1m":                time.Minute,
		"backend a\n default-server inter 7s\n server b1 :1 check":            7 * time.Second,
		"defaults\n default-server inter 9s\nbackend a\n server b1 :1 check":  9 * time.Second,
		"backend a\n default-server inter 9s\n server b1 :1 check inter 3s":   3 * time.Second,
		"backend x\n server b1 :1 inter 9s\nbackend a\n server b1 :1 check":   2 * time.Second,
		"backend a\n server-template b 1-4 :1 check inter 4s disabled":        4 * time.Second,
		"backend a\n server b2 :1 check inter 8s\n server b1 :1 check rise 3": 2 * time.Second,
	} {
		if got := interval(blocks("x", text), "a", "b1"); got != want {
			t.Errorf("%q: %v, not %v", text, got, want)
		}
	}
}

// A socket whose queue stays full is tried until there is no more time, and no faster for that.
func TestASocketThatIsFull(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		full := &fullSocket{}
		d := New(full, plan.Front{Settings: &Settings{Socket: "/run/full.sock", Backends: [2]string{"blue", "green"}}})
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		_, err := d.ask(ctx, "show info")
		if !errors.Is(err, front.ErrUnreachable) || full.tries < 1000 || full.tries > 60*1000/16+10 {
			t.Errorf("it was tried %d times in a minute: %v", full.tries, err)
		}
	})
}

// fullSocket is a machine at which nobody is let in for now.
type fullSocket struct {
	place.Local
	tries int
}

func (f *fullSocket) Dial(context.Context, string, string) (net.Conn, error) {
	f.tries++
	return nil, &net.OpError{Op: "dial", Net: "unix", Err: syscall.EAGAIN}
}

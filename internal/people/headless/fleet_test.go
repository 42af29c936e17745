package headless

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/fleet"
	"vaiven/internal/core/plan"
	"vaiven/internal/keeper"
	"vaiven/lab/testkit"
)

// fleetWorld is members whose keepers are fakes, and what was recorded and told.
type fleetWorld struct {
	t       *testing.T
	members map[string]*fakeClient
	away    map[string]bool // not reached

	mu       sync.Mutex // protects what follows
	said     []string
	recorded []fleet.Event
	full     bool // nothing can be recorded
}

func newFleet(t *testing.T, names ...string) *fleetWorld {
	w := &fleetWorld{t: t, members: map[string]*fakeClient{}, away: map[string]bool{}}
	for _, name := range names {
		c := newClient()
		c.begin.Then, c.begin.Number = plan.ThenLeave, 4
		w.members[name] = c
	}
	return w
}

func (w *fleetWorld) crossing(f *fleet.Fleet) *FleetCrossing {
	versions := map[string]string{}
	for _, name := range f.Names() {
		versions[name] = "4.3.0"
	}
	return &FleetCrossing{
		State: fleet.Apply(fleet.Crossing{}, fleet.Event{At: time.Now(), Kind: fleet.Begun, Number: 1, Fleet: f,
			Versions: versions, Turns: f.Course(f.Names(), nil).Names()}),
		Record: func(events ...fleet.Event) error {
			w.mu.Lock()
			defer w.mu.Unlock()
			if w.full {
				return errors.New("no space left")
			}
			w.recorded = append(w.recorded, events...)
			return nil
		},
		Reach: func(_ context.Context, name string) (MemberKeeper, error) {
			if w.away[name] {
				return MemberKeeper{}, errors.New("no route to host")
			}
			return MemberKeeper{Client: w.members[name], Close: func() error { return nil }}, nil
		},
		Each: func(string) Options {
			return Options{By: "marit", Yes: ApprovedAll, Emit: func(any) error { return nil }}
		},
		Told: func(e fleet.Event, _ fleet.Crossing) {
			w.say(strings.TrimSpace(fmt.Sprintf("%s %s %s", e.Kind, e.Name, e.Stage)))
		},
		Stuck: func(name string, waits Summary) { w.say(fmt.Sprintf("%s: %s", name, waits.Outcome)) },
	}
}

func (w *fleetWorld) say(text string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.said = append(w.said, text)
}

func (w *fleetWorld) text() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return strings.Join(w.said, "\n")
}

func faresFirst(both bool) *fleet.Fleet {
	f := &fleet.Fleet{Name: "ferries", AtOnce: 1, Stops: fleet.StopsAll, Members: []fleet.Member{
		{Name: "sailings", Needs: []fleet.Edge{{To: "fares"}}}, {Name: "fares"}}}
	if both {
		f.Both = [][]string{{"fares", "sailings"}}
	}
	return f
}

func TestFleetCrosses(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newFleet(t, "fares", "sailings")
		outcome, err := w.crossing(faresFirst(false)).Run(t.Context())
		if err != nil || outcome != Settled {
			t.Errorf("it is %v, %v", outcome, err)
		}
		if got := w.text(); !strings.Contains(got, "begins fares") || strings.Index(got, "begins fares") >
			strings.Index(got, "begins sailings") || !strings.HasSuffix(got, "ended") {
			t.Errorf("it went\n%s", got)
		}
		if with := w.members["fares"].commands[0].Act.(crossing.Begin).With; with != "" {
			t.Errorf("fares waits for %s", with)
		}
	})
}

// What cannot begin stops the rest, and what arrives both or neither with it goes back.
func TestFleetStops(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newFleet(t, "fares", "sailings")
		w.members["fares"].begin.Keep = time.Hour
		w.members["sailings"].perform = func(task crossing.Task) crossing.Fact {
			if task.Do == crossing.TaskRaise {
				return crossing.Failed{Task: task.ID, Trouble: crossing.Went(crossing.TroubleFront{})}
			}
			return well(task)
		}
		f := w.crossing(faresFirst(true))
		outcome, err := f.Run(t.Context())
		if err != nil || outcome != RolledBack {
			t.Errorf("it is %v, %v", outcome, err)
		}
		if got := w.text(); !strings.Contains(got, "is fares arrived") || !strings.Contains(got, "undone fares") ||
			!strings.Contains(got, "is fares rolled back") {
			t.Errorf("it went\n%s", got)
		}
		if with := w.members["fares"].commands[0].Act.(crossing.Begin).With; with != "ferries" {
			t.Errorf("fares waits for %q", with)
		}
	})
}

// A member that is not reached is tried for a while, and given up if it was never seen to begin.
func TestFleetMemberIsAway(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newFleet(t, "fares", "sailings")
		w.away["fares"] = true
		begun := time.Now()
		outcome, err := w.crossing(faresFirst(false)).Run(t.Context())
		if err != nil || outcome != CalledOff || time.Since(begun) < memberUnseen {
			t.Errorf("after %v it is %v, %v", time.Since(begun), outcome, err)
		}
		if got := w.text(); strings.Contains(got, "begins sailings") || !strings.Contains(got, "fares: failed") {
			t.Errorf("it went\n%s", got)
		}
	})
}

// Where nothing can be recorded nothing begins.
func TestFleetCannotRecord(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newFleet(t, "fares", "sailings")
		w.full = true
		if outcome, err := w.crossing(faresFirst(false)).Run(t.Context()); err == nil || outcome != Failed {
			t.Errorf("it is %v, %v", outcome, err)
		}
		if n := len(w.members["fares"].commands); n > 0 {
			t.Errorf("fares was told %d things", n)
		}
	})
}

// What is to be rolled back is, also where nothing can be recorded any more.
func TestFleetRollsBackUnrecorded(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newFleet(t, "fares", "sailings")
		w.members["fares"].begin.Keep = time.Hour
		w.members["sailings"].perform = func(task crossing.Task) crossing.Fact {
			if task.Do == crossing.TaskRaise {
				w.mu.Lock()
				w.full = true
				w.mu.Unlock()
				return crossing.Failed{Task: task.ID, Trouble: crossing.Went(crossing.TroubleFront{})}
			}
			return well(task)
		}
		outcome, err := w.crossing(faresFirst(true)).Run(t.Context())
		if err == nil || outcome != Failed {
			t.Errorf("it is %v, %v", outcome, err)
		}
		if got := w.members["fares"].state.Stage; got != crossing.RolledBack {
			t.Errorf("fares is %s:\n%s", got, w.text())
		}
	})
}

// A disk that takes nothing and does not say so, and somebody who is asked and does not answer, hold up nothing. It is
// in real time: who waits for a lock stops that of a bubble.
func TestFleetWaitsForNobody(t *testing.T) {
	w := newFleet(t, "fares", "sailings", "berths")
	w.members["fares"].begin.Keep = time.Hour
	w.members["berths"].begin.Hold = true
	of := faresFirst(true)
	of.Members = append(of.Members, fleet.Member{Name: "berths"})
	of.AtOnce = 3
	f := w.crossing(of)
	each, reach, record := f.Each, f.Reach, f.Record
	f.Each = func(name string) Options {
		o := each(name)
		if name == "berths" {
			o.Yes = Approved{}
		}
		return o
	}
	f.Reach = func(ctx context.Context, name string) (MemberKeeper, error) {
		k, err := reach(ctx, name)
		k.Client = again{k.Client}
		return k, err
	}
	gone := make(chan struct{})
	t.Cleanup(func() { close(gone) })
	var asked, frozen atomic.Bool
	f.Ask = func(name, _ string) (bool, error) {
		asked.Store(name == "berths")
		<-gone
		return false, errors.New("nobody is there")
	}
	f.Record = func(events ...fleet.Event) error {
		if frozen.Load() {
			<-gone
		}
		return record(events...)
	}
	w.members["sailings"].perform = func(task crossing.Task) crossing.Fact {
		if task.Do == crossing.TaskRaise {
			frozen.Store(true)
			return crossing.Failed{Task: task.ID, Trouble: crossing.Went(crossing.TroubleFront{})}
		}
		return well(task)
	}
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() {
		_, err := f.Run(ctx)
		ended <- err
	}()
	testkit.Eventually(t, "fares is rolled back, and somebody is asked of berths", func() bool {
		return strings.Contains(w.text(), "is fares rolled back") && asked.Load()
	})
	stop()
	if err := <-ended; !errors.Is(err, context.Canceled) { // who is asked is here: it waits for them
		t.Errorf("it ends with %v", err)
	}
}

// again is a keeper that says every second how it stands.
type again struct{ keeper.Client }

func (c again) Snapshots(ctx context.Context) <-chan keeper.Snapshot {
	in, out := c.Client.Snapshots(ctx), make(chan keeper.Snapshot)
	go func() {
		defer close(out)
		var last keeper.Snapshot
		for {
			select {
			case last = <-in:
			case <-time.After(time.Second):
				last.At = time.Now()
			case <-ctx.Done():
				return
			}
			select {
			case out <- last:
			case <-ctx.Done():
				return
			}
		}
	}()
	return out
}

// A question that nobody here answers is left to somebody, when nothing else goes on.
func TestFleetWaits(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newFleet(t, "fares", "sailings")
		f := w.crossing(faresFirst(false))
		each := f.Each
		f.Each = func(name string) Options {
			o := each(name)
			o.Yes = Approved{}
			return o
		}
		w.members["fares"].begin.Hold = true
		reach := f.Reach
		f.Reach = func(ctx context.Context, name string) (MemberKeeper, error) {
			k, err := reach(ctx, name)
			k.Client = again{k.Client}
			return k, err
		}
		outcome, err := f.Run(t.Context())
		if err != nil || outcome != Waits {
			t.Errorf("it is %v, %v", outcome, err)
		}
		if got := w.text(); strings.Contains(got, "begins sailings") || !strings.Contains(got, "fares: waits") {
			t.Errorf("it went\n%s", got)
		}
	})
}

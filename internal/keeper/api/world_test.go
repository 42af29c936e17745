package api

import (
	"context"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/keeper"
	"vaiven/internal/proving/prober"
	"vaiven/internal/stack"
	"vaiven/internal/world/place"
	"vaiven/internal/world/versions"
	"vaiven/lab/testkit"
)

// world is a service in the middle of a crossing: a quarter of the requests go to green.
type world struct {
	mu     sync.Mutex // protects what follows
	share  split.Share
	order  reading.Order
	counts int64
	events []crossing.Event
	size   int           // instances of a side
	late   time.Duration // that looking up versions takes
}

type (
	worldFront  struct{ *world }
	worldStacks struct{ *world }
	worldBook   struct{ *world }
	worldProber struct{}
	worldHealth struct{}
	worldSource struct{ *world }
)

func (w worldFront) Read(context.Context) (reading.Front, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.counts += 10
	r := reading.Front{At: time.Now(), Split: reading.Split{Revision: 1, Share: w.share}, Order: w.order,
		Tells: reading.Capabilities{Counts: true, Both: true}}
	for _, side := range split.Sides {
		for n := range w.size {
			i := w.instance(side, n)
			r.Sides[side].Instances = append(r.Sides[side].Instances,
				reading.Count{Server: reading.Server{Name: i.Name, Address: i.Address, Version: i.Version},
					Requests: w.counts})
		}
	}
	return r, nil
}

func (w *world) instance(side split.Side, n int) reading.Instance {
	return reading.Instance{
		Name: fmt.Sprintf("%v-%d", side, n+1), Part: "web", Side: side, Version: "4.2.0", Build: "7c1e",
		Address: fmt.Sprintf("10.0.%d.%d:80", side, n), Running: true,
		Started: time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC),
	}
}

func (w worldFront) Foresee(_ context.Context, share split.Share) (front.Change, error) {
	return front.Change{From: w.share, Wanted: share, Reached: share, Steps: []string{"set"}}, nil
}

func (w worldFront) Set(_ context.Context, share split.Share, _ front.Expect) (front.Done, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.share = share
	return front.Done{Split: reading.Split{Revision: 1, Share: share}, Nearest: share}, nil
}

func (w worldFront) Home(_ context.Context, h front.Homing) (front.Done, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.share = split.Toward(h.Side, split.Whole)
	w.order = reading.Order{Generation: w.order.Generation + 1, Side: h.Side, At: time.Now()}
	return front.Done{Split: reading.Split{Revision: 1, Share: w.share}, Order: w.order}, nil
}

func (w worldFront) Rehearse(context.Context, split.Side) ([]wayback.Step, error) {
	return []wayback.Step{{What: "read", Took: time.Millisecond}}, nil
}

func (w worldFront) NewTerm(context.Context, uint64) (uint64, error) { return 1, nil }

func (w worldFront) SetInstances(context.Context, split.Side, []reading.Server) error { return nil }

func (w worldStacks) List(_ context.Context, side split.Side) ([]reading.Instance, error) {
	var list []reading.Instance
	for n := range w.size {
		list = append(list, w.instance(side, n))
	}
	return list, nil
}
func (worldStacks) Raise(context.Context, split.Side, map[string]stack.Build) error { return nil }
func (worldStacks) Stop(context.Context, split.Side) error                          { return nil }
func (worldStacks) Restart(context.Context, reading.Instance, stack.Again) (stack.Restarted, error) {
	return stack.Restarted{}, nil
}
func (worldStacks) Rotate(context.Context, split.Side) error { return nil }
func (worldStacks) From(reading.Instance) place.Place        { return place.Local{} }

func (worldStacks) Place(context.Context, reading.Instance) (place.Place, error) {
	return nil, errors.New("nowhere")
}
func (worldStacks) Describe(context.Context, reading.Instance) (stack.Description, error) {
	return stack.Description{}, nil
}

func (b worldBook) Append(_ context.Context, _ crossing.State, events []crossing.Event) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.events = append(b.events, events...)
	return nil
}
func (worldBook) Check(context.Context) error { return nil }
func (b worldBook) Load(context.Context) (crossing.State, int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := crossing.State{
		Seq: 40, Number: 4, Service: "sailings", Target: split.Green, Version: "4.3.0", Stage: crossing.Shifting,
		Leg: 0, Share: 2500, Moved: true, Proven: true,
		Choices: []raise.Choice{{Part: "web", Version: "4.3.0"}},
		Route:   route.Route{{Part: 2500, Dwell: time.Hour}, {Part: split.Whole}}, Keep: time.Hour, Left: time.Hour,
	}
	for _, e := range b.events {
		s = crossing.Apply(s, e)
	}
	return s, 0, nil
}
func (worldBook) Raises(context.Context) ([]time.Duration, error) { return nil, nil }
func (worldBook) Past(context.Context) ([]crossing.Past, error)   { return nil, nil }
func (b worldBook) Since(_ context.Context, seq uint64, most int) ([]crossing.Event, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	var list []crossing.Event
	for _, e := range b.events {
		if e.Seq > seq && len(list) < most {
			list = append(list, e)
		}
	}
	return list, nil
}

func (b worldBook) Events(_ context.Context, number int) (list []crossing.Event, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, e := range b.events {
		if e.Crossing == number {
			list = append(list, e)
		}
	}
	if len(list) == 0 {
		err = errors.New("no such crossing")
	}
	return list, err
}

func (b worldBook) Digest(_ context.Context, number int, upTo uint64) (string, int, error) {
	return strings.Repeat("ab", 32), int(upTo), nil
}

func (worldProber) Learn(bool)              {}
func (worldProber) Run(ctx context.Context) { <-ctx.Done() }
func (worldProber) Report(now time.Time) reading.Door {
	return reading.Door{At: now, Answers: 7, LastBegun: map[string]time.Time{}}
}
func (worldProber) Sides([2]prober.Runs) {}
func (worldProber) Rest(bool)            {}

func (worldHealth) Round(_ context.Context, list []reading.Instance) []reading.Condition {
	conditions := make([]reading.Condition, len(list))
	for n, i := range list {
		conditions[n] = reading.Condition{Instance: i, State: reading.Healthy, At: time.Now(),
			Took: time.Duration(time.Now().UnixNano() % 1000), History: []float64{1, 2, 3, 4, 5, 6, 7, 8, 9, 10}}
	}
	return conditions
}

func (w worldSource) List(ctx context.Context) ([]raise.Version, error) {
	return []raise.Version{{Name: "4.4.0", ID: "aa"}}, w.wait(ctx)
}
func (w worldSource) Find(ctx context.Context, name string) (raise.Version, error) {
	if err := w.wait(ctx); err != nil {
		return raise.Version{}, err
	}
	if name != "4.4.0" {
		return raise.Version{}, versions.ErrNone
	}
	return raise.Version{Name: name, ID: "aa"}, nil
}

// served is a keeper at a socket.
type served struct {
	*world
	t      testing.TB
	keeper *keeper.Keeper
	socket string
	stop   func() // of the server and the keeper
	ended  chan struct{}
}

// serve runs a keeper of a service with so many instances on each side.
func serve(t testing.TB, size int) *served {
	t.Helper()
	s := &served{world: &world{share: 2500, size: size}, t: t, socket: filepath.Join(t.TempDir(), "keeper.sock"),
		ended: make(chan struct{}, 1)}
	s.start()
	return s
}

func (s *served) start() {
	s.t.Helper()
	p := &plan.Plan{
		Service: "sailings", Front: plan.Front{Key: plan.Key{From: plan.KeyRandom}},
		Route: route.Route{{Part: 2500, Dwell: time.Hour}, {Part: split.Whole}}, Keep: time.Hour, Then: plan.ThenAsk,
		WayBack: plan.WayBack{Every: time.Hour},
		Parts: []plan.Part{{Name: "web", Stacks: [2]plan.Stack{{Instances: s.size}, {Instances: s.size}},
			Health: plan.Check{Every: time.Second, Within: time.Second, Up: 1, Down: 1}}},
	}
	k, err := keeper.New(s.t.Context(), keeper.Config{
		Plan: p, Front: worldFront{s.world}, Stacks: worldStacks{s.world},
		Sources: map[string]versions.Source{"web": worldSource{s.world}}, Book: worldBook{s.world},
		Prober: worldProber{},
		Health: func(split.Side) keeper.Health { return worldHealth{} },
	})
	if err != nil {
		s.t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		k.Run(ctx)
	}()
	l, err := net.Listen("unix", s.socket)
	if err != nil {
		s.t.Fatal(err)
	}
	server := Serve(l, -1, Keeper{
		Keeper: k, Info: func() Info {
			return Info{Protocol: Protocol, Service: "sailings", Fronts: []string{"embedded at 127.0.0.1:8080"},
				Watching: k.Watching()}
		},
		HandOver: func(ctx context.Context) (keeper.Memory, error) { return k.HandOver(ctx) },
		End:      func() { s.ended <- struct{}{} },
	}, fmt.Sprint(time.Now().UnixNano()))
	s.keeper = k
	s.stop = sync.OnceFunc(func() {
		cancel()
		<-done
		if err := server.Close(); err != nil {
			s.t.Error(err)
		}
	})
	s.t.Cleanup(s.stop)
	testkit.Eventually(s.t, "the keeper is ready", func() bool { return (<-k.Snapshots(s.t.Context())).Ready })
}

func (s *served) dial(by string) *Client {
	c := Dial(Config{By: by, From: "quay2", Dial: func(ctx context.Context) (net.Conn, error) {
		return new(net.Dialer).DialContext(ctx, "unix", s.socket)
	}})
	s.t.Cleanup(func() { _ = c.Close() })
	return c
}

// slow has versions take a time to be looked up.
func (w *world) slow(late time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.late = late
}

func (w *world) wait(ctx context.Context) error {
	w.mu.Lock()
	late := w.late
	w.mu.Unlock()
	select {
	case <-time.After(late):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

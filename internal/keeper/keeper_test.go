package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"reflect"
	"strings"
	"sync"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/logbook"
	"vaiven/internal/place"
	"vaiven/internal/plan"
	"vaiven/internal/prober"
	"vaiven/internal/stack"
	"vaiven/internal/testkit"
	"vaiven/internal/versions"
)

// fakeFront is a front in memory. With every reading it counts a hundred more
// answers, by the share in force.
type fakeFront struct {
	mu       sync.Mutex
	reading  reading.Front
	failing  [2]int64      // of a hundred answers, by side
	hang     chan struct{} // Set waits for it, if it is not nil
	down     bool
	homes    int
	emptied  []split.Side
	revision uint64
}

func (f *fakeFront) Read(context.Context) (reading.Front, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.down {
		return reading.Front{}, front.ErrUnreachable
	}
	f.reading.At = time.Now()
	for _, side := range split.Sides {
		list := f.reading.Sides[side].Instances
		for n := range list {
			answers := int64(100*f.reading.Split.Share.Of(side)) / int64(split.Whole) / int64(len(list))
			bad := answers * f.failing[side] / 100
			list[n].Requests += answers
			list[n].Status[5] += bad
			list[n].Status[2] += answers - bad
		}
	}
	r := f.reading
	for _, side := range split.Sides {
		r.Sides[side].Instances = append([]reading.Count(nil), r.Sides[side].Instances...)
	}
	return r, nil
}

func (f *fakeFront) Plan(_ context.Context, share split.Share) (front.Change, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return front.Change{From: f.reading.Split.Share, Wanted: share, Reached: share}, nil
}

func (f *fakeFront) Set(ctx context.Context, share split.Share, revision uint64) (reading.Split, error) {
	f.mu.Lock()
	hang := f.hang
	f.mu.Unlock()
	if hang != nil {
		select {
		case <-hang:
		case <-ctx.Done():
			return reading.Split{}, ctx.Err()
		}
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if revision != f.reading.Split.Revision {
		return reading.Split{}, front.ErrChanged
	}
	return f.put(share), nil
}

func (f *fakeFront) put(share split.Share) reading.Split {
	f.reading.Split = reading.Split{Revision: f.reading.Split.Revision + 1, Share: share, Since: time.Now()}
	return f.reading.Split
}

func (f *fakeFront) Home(_ context.Context, share split.Share) (reading.Split, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.down {
		return reading.Split{}, front.ErrUnreachable
	}
	f.homes++
	return f.put(share), nil
}

func (f *fakeFront) SetInstances(_ context.Context, side split.Side, list []reading.Server) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	counts := make([]reading.Count, len(list))
	for n, i := range list {
		counts[n].Server = i
	}
	f.reading.Sides[side].Instances = counts
	if len(list) == 0 {
		f.emptied = append(f.emptied, side)
	}
	return nil
}

func (f *fakeFront) Drain(_ context.Context, side split.Side) (int64, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.reading.Split.Share.Of(side) > 0 {
		return 0, front.ErrRefused
	}
	return 0, nil
}

func (f *fakeFront) share() split.Share {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.reading.Split.Share
}

func (f *fakeFront) change(do func(*fakeFront)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	do(f)
}

// fakeStacks are instances that are all served by one test server.
type fakeStacks struct {
	mu      sync.Mutex
	address string
	sides   [2][]reading.Instance
	region  [2]string // in the instances' environment
	refuse  error     // of every raise
	hidden  error     // of every list
	stopped []split.Side
}

// fakeSource is what there is to raise.
type fakeSource map[string]string

func (s fakeSource) List(context.Context) ([]versions.Version, error) {
	var list []versions.Version
	for name, id := range s {
		list = append(list, versions.Version{Name: name, ID: id})
	}
	return list, nil
}

func (s *fakeStacks) Raise(_ context.Context, side split.Side, builds map[string]stack.Build) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.refuse != nil {
		return s.refuse
	}
	s.sides[side] = nil
	for _, part := range []string{"web", "worker"} {
		if b, ok := builds[part]; ok {
			s.sides[side] = append(s.sides[side], reading.Instance{
				Name: side.String() + "-" + part, Part: part, Side: side, Version: b.Version, Build: b.ID, Address: s.address, Started: time.Now(), Running: true,
			})
		}
	}
	return nil
}

func (s *fakeStacks) Place(context.Context, reading.Instance) (place.Place, error) {
	return place.Local{}, nil
}

func (s *fakeStacks) Describe(_ context.Context, i reading.Instance) (stack.Description, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return stack.Description{Environment: map[string]string{"REGION": s.region[i.Side]}}, nil
}

func (s *fakeStacks) List(_ context.Context, side split.Side) ([]reading.Instance, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.hidden != nil {
		return nil, s.hidden
	}
	return append([]reading.Instance(nil), s.sides[side]...), nil
}

func (s *fakeStacks) Stop(_ context.Context, side split.Side) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sides[side] = nil
	s.stopped = append(s.stopped, side)
	return nil
}

// brokenBook is a logbook whose disk can fail.
type brokenBook struct {
	*logbook.Book
	mu     sync.Mutex
	broken bool
}

func (b *brokenBook) Append(ctx context.Context, s crossing.State, e crossing.Event, effects []crossing.Effect) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.broken {
		return errors.New("no space left on device")
	}
	return b.Book.Append(ctx, s, e, effects)
}

func (b *brokenBook) breakIt(broken bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.broken = broken
}

// rig is a service in memory with a keeper.
type rig struct {
	t      *testing.T
	plan   *plan.Plan
	front  *fakeFront
	stacks *fakeStacks
	source fakeSource
	book   *brokenBook
	sick   *sync.Map // instances' health paths that fail
	keeper *Keeper
	stop   func()
}

func newRig(t *testing.T, change func(*plan.Plan)) *rig {
	t.Helper()
	t.Parallel()
	r := &rig{t: t, front: &fakeFront{}, sick: &sync.Map{}}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if _, sick := r.sick.Load(q.URL.Path); sick {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	}))
	t.Cleanup(server.Close)
	r.stacks = &fakeStacks{address: server.Listener.Addr().String()}
	r.source = fakeSource{"4.2.0": "7c1e", "4.3.0": "b92f", "4.2.1": "7c1e"}
	failing := plan.Guard{Name: "failing", Watch: plan.Failing, Bound: evidence.Bound{Margin: 0.01, Sure: 0.99, AtLeast: 20}, Over: time.Minute, Then: plan.RollBack}
	r.plan = &plan.Plan{
		Service: "sailings",
		Parts: []plan.Part{{
			Name:   "web",
			Health: plan.Check{Name: "health", Every: 20 * time.Millisecond, Within: 5 * time.Second, Up: 1, Down: 1, What: plan.HTTP{Method: "GET", URL: "/healthz"}},
			Smoke:  []plan.Check{{Name: "search", Every: 20 * time.Millisecond, Within: 5 * time.Second, Up: 1, Down: 1, What: plan.HTTP{Method: "GET", URL: "/sailings"}}},
		}},
		Differences: plan.Differences{Then: plan.Ask, Meant: []plan.Meant{{Area: "build"}}},
		Route:       route.Route{{Part: 2000, Dwell: 50 * time.Millisecond}, {Part: 5000, Dwell: 50 * time.Millisecond, Ask: true}, {Part: split.Whole}},
		Keep:        50 * time.Millisecond, Then: plan.ThenRetire,
		Guards: []plan.Guard{
			failing, {Name: "over 250ms", Watch: plan.Slow, Off: true},
			{Name: "unhealthy", Watch: plan.Unhealthy, Then: plan.RollBack}, {Name: "lost at front", Watch: plan.Lost, Then: plan.RollBack},
		},
	}
	for _, side := range split.Sides {
		r.plan.Parts[0].Stacks[side] = plan.Stack{Instances: 1, Raise: 20 * time.Second, Grace: time.Second, Capacity: 1000}
	}
	if change != nil {
		change(r.plan)
	}
	r.front.reading.Split.Revision = 7
	live := map[string]stack.Build{}
	for _, part := range r.plan.Parts {
		live[part.Name] = stack.Build{Version: "4.2.0", ID: "7c1e"}
	}
	if err := r.stacks.Raise(t.Context(), split.Blue, live); err != nil {
		t.Fatal(err)
	}
	r.front.SetInstances(t.Context(), split.Blue, []reading.Server{{Name: "blue-web", Address: r.stacks.address, Version: "4.2.0"}})
	book, err := logbook.Open(filepath.Join(t.TempDir(), "log.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { book.Close() })
	r.book = &brokenBook{Book: book}
	r.start()
	return r
}

// start starts a keeper, as a new process would.
func (r *rig) start() {
	r.t.Helper()
	p := prober.New(prober.Config{URLs: []string{"http://" + r.stacks.address + "/"}, Rate: 50, Timeout: time.Second, Status: 200})
	k, err := New(r.t.Context(), Config{Plan: r.plan, Front: r.front, Stacks: r.stacks, Book: r.book, Prober: p, Sources: map[string]versions.Source{"web": r.source}})
	if err != nil {
		r.t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		k.Run(ctx)
	}()
	r.keeper = k
	r.stop = sync.OnceFunc(func() {
		cancel()
		<-done
	})
	r.t.Cleanup(r.stop)
	r.until("the front is read", func(s Snapshot) bool { return s.Ready })
}

// until waits for a snapshot.
func (r *rig) until(what string, ok func(Snapshot) bool) Snapshot {
	r.t.Helper()
	ctx, cancel := context.WithTimeout(r.t.Context(), 30*time.Second)
	defer cancel()
	var last Snapshot
	for s := range r.keeper.Snapshots(ctx) {
		if last = s; ok(s) {
			return s
		}
	}
	r.t.Fatalf("waited in vain: %s\nlast: %v\ntrouble %q, front %+v", what, last.Crossing, last.Trouble, last.Front)
	return last
}

func (r *rig) do(c Command) {
	r.t.Helper()
	c.By = "marit"
	if err := r.keeper.Do(r.t.Context(), c); err != nil {
		r.t.Fatalf("%s: %v", c.Do, err)
	}
}

func (r *rig) refused(c Command, want string) {
	r.t.Helper()
	if err := r.keeper.Do(r.t.Context(), c); err == nil || !strings.Contains(err.Error(), want) {
		r.t.Errorf("%s: %v, want an error with %q", c.Do, err, want)
	}
}

func (r *rig) stage(s crossing.Stage) Snapshot {
	r.t.Helper()
	return r.until("stage "+string(s), func(v Snapshot) bool { return v.Crossing.Stage == s && !v.Crossing.Retiring })
}

// onFirstLeg brings a crossing to where it asks for the second leg.
func (r *rig) onFirstLeg() {
	r.t.Helper()
	r.do(Command{Do: Begin, Version: "4.3.0"})
	r.until("the question for the second leg", func(s Snapshot) bool { return strings.Contains(s.Crossing.Waiting, "50 %") })
}

func TestACrossingFromBeginningToEnd(t *testing.T) {
	r := newRig(t, nil)
	events := r.keeper.Events(t.Context())
	r.onFirstLeg()
	if got := r.front.share(); got != 2000 {
		t.Errorf("on the first leg the front has %v", got)
	}
	r.do(Command{Do: Next})
	s := r.stage(crossing.Settled)
	if r.front.share() != split.Whole || s.Live != split.Green {
		t.Errorf("settled, the front has %v, live is %v", r.front.share(), s.Live)
	}
	if got := r.stacks.stopped; !reflect.DeepEqual(got, []split.Side{split.Blue}) {
		t.Errorf("stopped %v, want blue and nothing else", got)
	}
	if got := r.front.emptied; !reflect.DeepEqual(got, []split.Side{split.Blue}) {
		t.Errorf("taken out of the front: %v", got)
	}
	recorded, err := r.book.Events(t.Context(), 1)
	if err != nil {
		t.Fatal(err)
	}
	for n, want := range recorded {
		if got := <-events; got.What.Kind() != want.What.Kind() {
			t.Fatalf("event %d was told as %q and recorded as %q", n+1, got.What.Kind(), want.What.Kind())
		}
	}
	// The next one goes back to blue, with the roles swapped.
	r.do(Command{Do: Begin, Version: "4.2.0", Hold: true})
	v := r.until("blue is proven and asks", func(s Snapshot) bool { return strings.Contains(s.Crossing.Waiting, "blue is proven") })
	if v.Crossing.Number != 2 || v.Crossing.Target != split.Blue || v.WayBack.State == wayback.Closed {
		t.Errorf("the second crossing is %d to %v, way back %+v", v.Crossing.Number, v.Crossing.Target, v.WayBack)
	}
	if got := r.front.share(); got != split.Whole {
		t.Errorf("before anybody said so, %v is on green", got)
	}
	r.do(Command{Do: Back})
	r.stage(crossing.CalledOff)
}

func TestWhatABeginningNeeds(t *testing.T) {
	r := newRig(t, nil)
	r.refused(Command{Do: Begin}, "needs a version")
	r.refused(Command{Do: Begin, Version: "9.9"}, "no such version: 9.9")
	r.refused(Command{Do: Next}, "no crossing has begun")
	r.refused(Command{Do: "sing"}, "no command")
	r.refused(Command{Do: Retire, Typed: "sailing"}, `"sailings" has to be typed`)
	r.do(Command{Do: Begin, Version: "4.2.1"})
	s := r.until("it asks about the same build", func(s Snapshot) bool { return s.Crossing.Waiting != "" })
	if !strings.Contains(s.Crossing.Waiting, "same build as blue") || s.Crossing.Stage != crossing.Raise {
		t.Errorf("it asks %q", s.Crossing.Waiting)
	}
	r.refused(Command{Do: Begin, Version: "4.3.0"}, `still at "raise"`)
	r.do(Command{Do: Back})
	r.stage(crossing.CalledOff)
	r.front.change(func(f *fakeFront) { f.put(3000) })
	r.refused(Command{Do: Begin, Version: "4.3.0"}, "take them all to one side first")
}

func TestARaiseThatComesToNothingNamesTheStuckInstance(t *testing.T) {
	r := newRig(t, func(p *plan.Plan) { p.Parts[0].Stacks[split.Green].Raise = 2 * time.Second })
	r.sick.Store("/healthz", true)
	r.do(Command{Do: Begin, Version: "4.3.0"})
	s := r.stage(crossing.CalledOff)
	if !strings.Contains(s.Crossing.Why, "green-web is answering (status 503 after ") {
		t.Errorf("it was called off because %q", s.Crossing.Why)
	}
	if len(r.stacks.sides[split.Green]) != 0 {
		t.Error("the spare side was not cleared")
	}
}

func TestAProofThatFailsStopsBeforeTrafficMoves(t *testing.T) {
	r := newRig(t, nil)
	r.sick.Store("/sailings", true)
	r.do(Command{Do: Begin, Version: "4.3.0", Hold: true})
	s := r.until("it asks to try again", func(s Snapshot) bool { return strings.Contains(s.Crossing.Waiting, "proof failed") })
	if s.Proof.Pass() || r.front.share() != 0 {
		t.Errorf("proof %+v, share %v", s.Proof, r.front.share())
	}
	r.refused(Command{Do: Steer, Share: 1000}, "not proven")
	r.sick.Delete("/sailings")
	r.do(Command{Do: Next})
	r.until("it is proven", func(s Snapshot) bool { return s.Crossing.Proven })
}

func TestAGuardRollsBackByItself(t *testing.T) {
	r := newRig(t, nil)
	r.front.change(func(f *fakeFront) { f.failing[split.Green] = 50 })
	r.do(Command{Do: Begin, Version: "4.3.0"})
	s := r.stage(crossing.RolledBack)
	if !strings.Contains(s.Crossing.Why, "failing: 50 % against 0 %") || r.front.share() != 0 {
		t.Errorf("rolled back because %q, share %v", s.Crossing.Why, r.front.share())
	}
}

func TestAGuardThatFreezesCanBeOverruled(t *testing.T) {
	r := newRig(t, func(p *plan.Plan) {
		p.Guards[0].Then = plan.Freeze
		p.Route[0].Dwell = time.Hour
	})
	r.front.change(func(f *fakeFront) { f.failing[split.Green] = 50 })
	r.do(Command{Do: Begin, Version: "4.3.0"})
	r.until("it is frozen", func(s Snapshot) bool { return strings.Contains(s.Crossing.Frozen, "failing") })
	r.do(Command{Do: GoOn})
	read := time.Now()
	s := r.until("the guards have looked again", func(s Snapshot) bool { return s.Front.At.After(read.Add(frontEvery)) })
	if s.Crossing.Frozen != "" {
		t.Errorf("it froze again in spite of a person's word: %q", s.Crossing.Frozen)
	}
	if s.Guards[0].State != Tripped {
		t.Errorf("the guard reads %v", s.Guards[0].State)
	}
}

func TestAnUnhealthyInstanceRollsBackAndIsTakenOut(t *testing.T) {
	r := newRig(t, func(p *plan.Plan) { p.Guards[2].Most = 5 })
	r.onFirstLeg()
	r.sick.Store("/healthz", true)
	r.until("the front has it out", func(Snapshot) bool {
		reading, _ := r.front.Read(t.Context())
		return len(reading.Sides[split.Green].Instances) == 1 && reading.Sides[split.Green].Instances[0].Out
	})
	s := r.until("the way back is closed", func(s Snapshot) bool { return s.WayBack.State == wayback.Closed })
	if !strings.Contains(s.WayBack.Why, "0 of 1") {
		t.Errorf("the way back is closed because %q", s.WayBack.Why)
	}
	r.do(Command{Do: Back}) // works all the same
	r.stage(crossing.RolledBack)
}

// Going back needs no disk, and what was done meanwhile is recorded once there is
// one again.
func TestGoingBackWithoutALogbook(t *testing.T) {
	r := newRig(t, nil)
	r.onFirstLeg()
	r.book.breakIt(true)
	r.refused(Command{Do: Next}, "the logbook cannot be written")
	if r.front.share() != 2000 {
		t.Fatalf("a step that could not be recorded was made: %v", r.front.share())
	}
	r.do(Command{Do: Freeze})
	s := r.until("the trouble is told", func(s Snapshot) bool { return strings.Contains(s.Trouble, "no space left") })
	if s.Crossing.Frozen == "" {
		t.Error("freezing depends on the disk")
	}
	r.do(Command{Do: Back, Why: "it looks wrong"})
	testkit.Eventually(t, "all are home", func() bool { return r.front.share() == 0 })
	r.book.breakIt(false)
	r.stage(crossing.RolledBack)
	testkit.Eventually(t, "all of it is recorded", func() bool {
		state, err := r.book.Replay(t.Context(), 1)
		return err == nil && state.Stage == crossing.RolledBack && state.Why == "it looks wrong"
	})
}

// What somebody else does at the front is seen without a disk, too, and nothing
// is done against it once there is one again.
func TestSomebodyElseGoesBackWithoutALogbook(t *testing.T) {
	r := newRig(t, nil)
	r.onFirstLeg()
	r.book.breakIt(true)
	r.front.change(func(f *fakeFront) { f.put(0) })
	r.until("it is over", func(s Snapshot) bool { return s.Crossing.Stage == crossing.RolledBack })
	r.book.breakIt(false)
	testkit.Eventually(t, "it is recorded", func() bool {
		state, err := r.book.Replay(t.Context(), 1)
		return err == nil && state.Stage == crossing.RolledBack
	})
	if got := r.front.share(); got != 0 {
		t.Errorf("%v is on green", got)
	}
}

// Going back does not wait for a front that hangs over another change, and that
// change does not come through afterwards.
func TestGoingBackOvertakesAChangeThatHangs(t *testing.T) {
	r := newRig(t, nil)
	r.onFirstLeg()
	hang := make(chan struct{})
	r.front.change(func(f *fakeFront) { f.hang = hang })
	r.do(Command{Do: Next})
	r.do(Command{Do: Back})
	r.stage(crossing.RolledBack)
	close(hang)
	if got := r.front.share(); got != 0 {
		t.Errorf("after all %v is on green", got)
	}
	if r.front.homes < 2 {
		t.Errorf("it went home %d times: at once, and once more in order", r.front.homes)
	}
}

func TestGoingBackIsTriedUntilTheFrontAnswers(t *testing.T) {
	r := newRig(t, nil)
	r.onFirstLeg()
	r.front.change(func(f *fakeFront) { f.down = true })
	r.do(Command{Do: Back})
	s := r.until("the trouble is told", func(s Snapshot) bool { return s.Crossing.Trouble != "" && s.Front.Error != "" })
	if !s.Crossing.GoingBack {
		t.Errorf("state %v", s.Crossing)
	}
	r.front.change(func(f *fakeFront) { f.down = false })
	r.stage(crossing.RolledBack)
}

func TestSomebodyElseAtTheFront(t *testing.T) {
	r := newRig(t, nil)
	r.onFirstLeg()
	r.front.change(func(f *fakeFront) { f.put(4000) })
	s := r.until("it is noticed", func(s Snapshot) bool {
		return strings.Contains(s.Crossing.Frozen, "somebody changed the front from 20 % to 40 %")
	})
	if s.Crossing.Share != 4000 || r.front.share() != 4000 {
		t.Errorf("the state has %v, the front %v: nothing may be overwritten", s.Crossing.Share, r.front.share())
	}
	r.front.change(func(f *fakeFront) { f.put(0) })
	r.until("it is over", func(s Snapshot) bool { return s.Crossing.Stage == crossing.RolledBack })
}

// Stopped at any stage and started again, the keeper believes what it finds.
func TestStartedAgainInTheMiddle(t *testing.T) {
	r := newRig(t, nil)
	r.onFirstLeg()
	r.stop()
	r.front.change(func(f *fakeFront) { f.put(2600) }) // meanwhile
	r.start()
	s := r.until("it says what it found", func(s Snapshot) bool { return s.Crossing.Frozen != "" })
	if !strings.Contains(s.Crossing.Frozen, "26 % to green, the notes said 20 %") || s.Crossing.Proven {
		t.Errorf("found %q, proven %v", s.Crossing.Frozen, s.Crossing.Proven)
	}
	r.do(Command{Do: GoOn})
	r.until("green is proven anew and the next leg is asked for", func(s Snapshot) bool { return s.Crossing.Proven && s.Crossing.Waiting != "" })
	r.do(Command{Do: Next})
	r.stage(crossing.Settled)

	r.do(Command{Do: Begin, Version: "4.2.0"})
	r.until("the next one shifts", func(s Snapshot) bool { return s.Crossing.Stage == crossing.Shift })
	r.stop()
	r.start()
	r.do(Command{Do: Back})
	r.stage(crossing.RolledBack)
	if got := r.front.share(); got != split.Whole {
		t.Errorf("back on green, the share is %v", got)
	}
}

func TestRetireByHand(t *testing.T) {
	r := newRig(t, func(p *plan.Plan) { p.Keep = time.Hour })
	r.onFirstLeg()
	r.refused(Command{Do: Retire, Typed: "sailings"}, "when all traffic is on the other")
	r.do(Command{Do: Steer, Share: split.Whole})
	r.until("blue is kept", func(s Snapshot) bool { return s.Crossing.Stage == crossing.Keep })
	r.do(Command{Do: Retire, Typed: "sailings"})
	s := r.stage(crossing.Settled)
	if len(s.Sides[split.Blue].Instances) != 0 || s.WayBack.State != wayback.Closed {
		t.Errorf("blue has %v, way back %v", s.Sides[split.Blue].Instances, s.WayBack.State)
	}
	r.refused(Command{Do: Back}, "is over (settled)")
}

// What passes between keeper and screen can be written and read again.
func TestSnapshotsAndCommandsCanBeSerialised(t *testing.T) {
	r := newRig(t, nil)
	r.onFirstLeg()
	s := r.until("there is a track", func(s Snapshot) bool { return len(s.Track) > 0 && len(s.Guards) == 4 })
	data, err := json.Marshal(s)
	if err != nil {
		t.Fatal(err)
	}
	var again Snapshot
	if err := json.Unmarshal(data, &again); err != nil {
		t.Fatal(err)
	}
	twice, err := json.Marshal(again)
	if err != nil || string(twice) != string(data) {
		t.Errorf("written twice, it differs: %v\n%s\n%s", err, data, twice)
	}
}

func TestTheKeeperStopsCleanly(t *testing.T) {
	r := newRig(t, nil)
	events, snapshots := r.keeper.Events(t.Context()), r.keeper.Snapshots(t.Context())
	r.stop()
	for range events {
	}
	for range snapshots {
	}
	if err := r.keeper.Do(t.Context(), Command{Do: Next}); err == nil {
		t.Error("a keeper that has stopped takes commands")
	}
	if _, open := <-r.keeper.Snapshots(t.Context()); !open {
		t.Error("the last snapshot cannot be had")
	}
}

// What the proof finds and the plan leaves to a person is asked, accepted by name,
// and stands in the logbook.
func TestFindingsAreAccepted(t *testing.T) {
	r := newRig(t, nil)
	r.stacks.region = [2]string{"north", "south"}
	events := r.keeper.Events(t.Context())
	r.do(Command{Do: Begin, Version: "4.3.0", Hold: true})
	s := r.until("the finding is asked about", func(s Snapshot) bool { return len(s.Crossing.Asked) > 0 })
	if !strings.Contains(s.Crossing.Waiting, "environment REGION") || r.front.share() != 0 {
		t.Fatalf("it waits for %q, with %v on green", s.Crossing.Waiting, r.front.share())
	}
	if d := s.About.Differences.Questioned(); len(d) != 1 || d[0].Value != [2]string{"north", "south"} {
		t.Errorf("the differences are %+v", d)
	}
	r.do(Command{Do: Next})
	s = r.until("the first leg is asked about", func(s Snapshot) bool { return strings.Contains(s.Crossing.Waiting, "Start to shift") })
	if len(s.Crossing.Accepted) != 1 || s.Proving {
		t.Errorf("accepted %q, proving %v", s.Crossing.Accepted, s.Proving)
	}
	r.do(Command{Do: Back})
	r.stage(crossing.CalledOff)
	for e := range events {
		if a, ok := e.What.(crossing.AcceptAsked); ok {
			if e.By != "marit" || len(a.Findings) != 1 || !strings.Contains(a.Findings[0], "environment REGION") {
				t.Errorf("recorded as %+v", e)
			}
			return
		}
	}
	t.Error("that it was accepted is not told")
}

func TestWhatAPlanStopsAtIsNotAccepted(t *testing.T) {
	r := newRig(t, func(p *plan.Plan) { p.Differences.Then = plan.Stop })
	r.stacks.region = [2]string{"north", "south"}
	r.do(Command{Do: Begin, Version: "4.3.0"})
	if s := r.stage(crossing.CalledOff); !strings.Contains(s.Crossing.Why, "environment REGION") {
		t.Errorf("called off because of %q", s.Crossing.Why)
	}
}

// A version that stands for another build than when it was chosen is not raised.
func TestABuildThatChangesUnderOurHands(t *testing.T) {
	r := newRig(t, nil)
	r.do(Command{Do: Begin, Version: "4.2.1"}) // asks: the same build as the live one
	r.until("the question", func(s Snapshot) bool { return strings.Contains(s.Crossing.Waiting, "nothing has changed") })
	r.keeper.Sources["web"].(fakeSource)["4.2.1"] = "0000000"
	r.do(Command{Do: Next})
	if s := r.stage(crossing.CalledOff); !strings.Contains(s.Crossing.Why, "was build 7c1e when it was chosen") {
		t.Errorf("called off because of %q", s.Crossing.Why)
	}
}

// All parts of a side are raised, and it is proven when all are.
func TestParts(t *testing.T) {
	r := newRig(t, func(p *plan.Plan) {
		worker := p.Parts[0]
		worker.Name = "worker"
		p.Parts = append(p.Parts, worker)
	})
	r.refused(Command{Do: Begin, Version: "4.3.0", Versions: map[string]string{"worker": "4.2.0"}}, "no versions of its own")
	r.refused(Command{Do: Begin, Version: "4.3.0", Versions: map[string]string{"cache": "1"}}, `no part "cache"`)
	r.refused(Command{Do: Begin, Version: "4.4.0"}, "no such version: 4.4.0; there are")
	r.do(Command{Do: Begin, Version: "4.3.0", Hold: true})
	s := r.until("proven", func(s Snapshot) bool { return s.Crossing.Proven && !s.Proving })
	green := s.Sides[split.Green]
	if len(green.Instances) != 2 || green.Wanted != 2 || green.Version != "4.3.0" || green.Capacity != 1000 {
		t.Errorf("green is %+v", green)
	}
	if got := s.Crossing.Others; len(got) != 1 || got[0].Part != "worker" || got[0].Build != "b92f" {
		t.Errorf("the other parts are raised at %+v", got)
	}
	if s.Overlap.Since.IsZero() {
		t.Error("both sides stand, and nobody says since when")
	}
	reading, err := r.front.Read(t.Context())
	if err != nil || len(reading.Sides[split.Green].Instances) != 1 || reading.Sides[split.Green].Instances[0].Name != "green-web" {
		t.Errorf("the front sends requests to %+v, %v", reading.Sides[split.Green].Instances, err)
	}
	r.do(Command{Do: Back})
	r.stage(crossing.CalledOff)
}

// A host that cannot be asked hides nothing: its instances are asked themselves.
func TestAListThatFailsHidesNoInstance(t *testing.T) {
	r := newRig(t, nil)
	r.onFirstLeg()
	r.stacks.mu.Lock()
	r.stacks.hidden = errors.New("host green.vessa does not answer")
	r.stacks.mu.Unlock()
	s := r.until("the error is shown", func(s Snapshot) bool { return s.Sides[split.Green].Error != "" })
	if len(s.Sides[split.Green].Instances) != 1 || s.Crossing.GoingBack {
		t.Errorf("green is %+v", s.Sides[split.Green])
	}
	r.sick.Store("/healthz", true)
	s = r.stage(crossing.RolledBack)
	if !strings.Contains(s.Crossing.Why, "unhealthy: green-web") {
		t.Errorf("rolled back because of %q", s.Crossing.Why)
	}
}

// Checks can be made again without moving the crossing.
func TestChecksAreMadeAgain(t *testing.T) {
	r := newRig(t, nil)
	r.refused(Command{Do: Prove}, "no instances to check")
	r.do(Command{Do: Begin, Version: "4.3.0", Hold: true})
	s := r.until("proven", func(s Snapshot) bool { return s.Crossing.Waiting != "" && !s.Proving })
	smoke := func(s Snapshot) proof.Result {
		for _, c := range s.Proof.Results {
			if c.Kind == proof.KindSmoke {
				return c
			}
		}
		return proof.Result{}
	}
	if !smoke(s).Pass {
		t.Fatalf("the proof is %+v", s.Proof)
	}
	r.sick.Store("/sailings", true)
	r.do(Command{Do: Again, Cell: smoke(s)})
	s = r.until("that check fails", func(s Snapshot) bool { return !s.Proving && !smoke(s).Pass })
	if got := smoke(s); len(got.History) != 2 || !strings.Contains(got.Got, "status 503") || !s.Crossing.Proven {
		t.Errorf("made again, it is %+v, proven %v", got, s.Crossing.Proven)
	}
	r.do(Command{Do: Prove}) // the whole proof, which the crossing waits for
	s = r.until("the proof fails", func(s Snapshot) bool { return strings.Contains(s.Crossing.Trouble, "503") && !s.Proving })
	if s.Crossing.Proven {
		t.Error("a side whose proof failed is proven")
	}
	r.do(Command{Do: Back})
	r.stage(crossing.CalledOff)
}

// How long raises take is learnt from the logbook.
func TestTypicalRaise(t *testing.T) {
	r := newRig(t, nil)
	r.do(Command{Do: Begin, Version: "4.3.0", Hold: true})
	r.until("proven", func(s Snapshot) bool { return s.Crossing.Waiting != "" })
	r.stop()
	r.start()
	if s := r.until("the typical time", func(s Snapshot) bool { return s.Typical > 0 }); s.Typical > 30*time.Second {
		t.Errorf("a raise typically takes %v", s.Typical)
	}
}

func BenchmarkPublish(b *testing.B) {
	p := &plan.Plan{Service: "sailings", Parts: []plan.Part{{Name: "web"}}}
	k := &Keeper{Config: Config{Plan: p, Prober: prober.New(prober.Config{})}}
	b.ReportAllocs()
	for b.Loop() {
		k.publish(time.Now())
	}
}

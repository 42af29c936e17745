package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/proving/differ"
	"vaiven/internal/proving/prober"
	"vaiven/internal/proving/prove"
	"vaiven/internal/stack"
	"vaiven/internal/world/delivered"
	"vaiven/internal/world/permit"
	"vaiven/internal/world/place"
	"vaiven/internal/world/versions"
	"vaiven/lab/testkit/judge"
)

// world is a service in memory: a front, two sides, a logbook and what they are asked with.
// What must never happen is looked for in all that is done to it.
type world struct {
	tells  func(reading.Instance) reading.Told // what an instance tells of itself; nil for nothing
	leak   func() float64                      // more than it should, of those on green
	silent bool                                // they tell nothing
	mu     sync.Mutex
	plan   *plan.Plan
	offers offers
	// trouble is what happens before something is done: how long it takes, whether it does
	// not heed a context that ends, and the error it comes to. nil: nothing happens.
	trouble func(what string) (late time.Duration, deaf bool, err error)
	broken  []string       // the promises that were
	like    stack.Settings // of the other side, with what it was raised last
	writing atomic.Int64   // into the logbook
	judge   *judge.Judge   // of what was done

	// The front.

	compares bool // it holds the order of going home itself, and refuses stale changes as they take effect
	share    split.Share
	order    reading.Order
	revision uint64
	since    time.Time
	counts   [2][]reading.Count
	counted  time.Time
	failing  [2]float64 // part of the answers
	answers  [2]float64 // so far
	bad      [2]float64 // of them
	open     [2]int64   // requests
	homes    int
	apart    []reading.Apart
	foreign  time.Time // when somebody else changed it last

	queued bool       // it hands out messages that wait for instances
	lies   [2]float64 // messages that wait for a side, or are being done
	hung   [2]bool    // its instances have taken them, and hang

	// The sides.

	sides     [2][]reading.Instance
	health    map[string]reading.Health // by name; healthy if it is not there
	stopped   []split.Side
	restarted []string     // instances, in order
	ended     [2]time.Time // by side: when it ceased to serve
	narrows   bool         // the side to go back to is not what it was
	closes    bool         // and the data do not fit it any more
	differs   [2]string    // by side: what of its build is not as it was delivered
	deadline  time.Time    // that the last stop was given, zero if none
	findings  []proof.Result

	// The logbook.

	events []crossing.Event
	state  crossing.State // that they lead to
}

type offers map[string]string

func (s offers) List(context.Context) ([]raise.Version, error) {
	var list []raise.Version
	for name, id := range s {
		list = append(list, raise.Version{Name: name, ID: id})
	}
	slices.SortFunc(list, func(a, b raise.Version) int { return strings.Compare(b.Name, a.Name) })
	return list, nil
}

func (s offers) Find(ctx context.Context, name string) (raise.Version, error) {
	list, _ := s.List(ctx)
	if v, ok := raise.Pick(list, name); ok {
		return v, nil
	}
	return raise.Version{}, versions.ErrNone
}

// newWorld is a service with its first version on blue.
func newWorld() *world {
	w := &world{judge: judge.New(time.Now()), compares: true, revision: 7, since: time.Now(), counted: time.Now(),
		health: map[string]reading.Health{}}
	w.offers = offers{"4.2.0": "7c1e", "4.3.0": "b92f", "4.2.1": "7c1e"}
	w.plan = &plan.Plan{
		Service: "sailings", Front: plan.Front{Key: plan.Key{From: plan.KeyRandom}},
		Parts: []plan.Part{{Name: "web",
			Health: plan.Check{Name: "health", Every: time.Second, Within: time.Second, Up: 1, Down: 2}}},
		Route: route.Route{{Part: 2000, Dwell: 10 * time.Second}, {Part: 5000, Dwell: 10 * time.Second, Ask: true},
			{Part: split.Whole}},
		Keep: 20 * time.Second, Then: plan.ThenRetire, WayBack: plan.WayBack{Every: 5 * time.Second, Freezes: true},
		Find: 0.02, Sure: 0.99,
		Guards: []plan.Guard{
			{Name: "failing", Watch: plan.Failing, Margin: 0.01, Find: 0.02, Then: plan.RollBack},
			{Name: "unhealthy", Watch: plan.Unhealthy, Then: plan.RollBack},
			{Name: "no answer at the front", Watch: plan.Lost, Then: plan.RollBack},
		},
	}
	for _, side := range split.Sides {
		w.plan.Parts[0].Stacks[side] = plan.Stack{Instances: 2, Raise: 20 * time.Second, Grace: 5 * time.Second,
			Capacity: plan.Capacity{Each: 1000}}
	}
	w.stand(split.Blue, "4.2.0", "7c1e", 2)
	clear(w.health) // they have stood for long
	w.counts[split.Blue] = countsOf(w.sides[split.Blue])
	return w
}

// stand makes a side consist of a build.
func (w *world) stand(side split.Side, version, build string, instances int) {
	stays := w.sides[side]
	w.sides[side] = nil
	defer w.noted(side, stays)
	for n := range instances {
		name := fmt.Sprintf("%v-%d", side, n+1)
		if at := slices.IndexFunc(stays, func(i reading.Instance) bool {
			return i.Name == name && i.Running && i.Version == version && i.Build == build
		}); at >= 0 {
			w.sides[side] = append(w.sides[side], stays[at])
			continue
		}
		if w.share.Of(side) > 0 { // it needs a while
			w.health[name] = reading.Starting
			time.AfterFunc(time.Second, func() {
				w.with(func() {
					if w.health[name] == reading.Starting {
						delete(w.health, name)
					}
				})
			})
		}
		w.sides[side] = append(w.sides[side], reading.Instance{
			Name: name, Part: "web", Side: side, Version: version, Build: build,
			Address: fmt.Sprintf("10.1.%d.%d:80", side, n+1), Started: time.Now(), Running: true,
		})
	}
}

// noted tells the judge who stands now where others stood.
func (w *world) noted(side split.Side, before []reading.Instance) {
	same := func(a, b reading.Instance) bool { return a.Name == b.Name && a.Started.Equal(b.Started) }
	for _, i := range before {
		if !slices.ContainsFunc(w.sides[side], func(now reading.Instance) bool { return same(i, now) }) {
			w.judge.Gone(time.Now(), side, i.Name)
		}
	}
	for _, i := range w.sides[side] {
		if !slices.ContainsFunc(before, func(was reading.Instance) bool { return same(i, was) }) {
			w.judge.Stands(time.Now(), side, i.Name)
		}
	}
}

// seen tells the judge how the instances are, and to whom the front sends requests.
func (w *world) seen(by judge.By) {
	for _, side := range split.Sides {
		for _, i := range w.sides[side] {
			h, ill := w.health[i.Name]
			w.judge.Well(time.Now(), side, i.Name, i.Running && (!ill || h == reading.Healthy))
		}
		var names []string
		for _, c := range w.counts[side] {
			names = append(names, c.Name)
		}
		w.judge.Lists(time.Now(), by, side, names)
	}
}

// tellsOf takes in what people are told.
func (w *world) tellsOf(e crossing.Event, before, now crossing.State) {
	at := time.Now()
	switch f := e.What.(type) {
	case crossing.Begun:
		main := raise.Main(f.Choices)
		w.judge.Begins(at, f.Target, f.First || f.AtOnce, main.Until, main.Then)
	case crossing.Frozen:
		w.judge.Frozen(at, e.Seq)
	case crossing.RollsBack:
		w.judge.Returns(at)
	case crossing.Ended:
		w.judge.Ends(at, f.Stage == crossing.Settled)
	case crossing.Ordered:
		// where the side gets more instances first, it was that order that went on
		if f.Task.Do == crossing.TaskMove || f.Task.More {
			w.judge.Ordered(at, e.Seq, f.Task.Share, e.By == engine.Self && !before.Due.On)
		}
	}
	for _, f := range before.Freezes {
		if now.Stage.UnderWay() &&
			!slices.ContainsFunc(now.Freezes, func(left crossing.Freezing) bool { return left.ID == f.ID }) {
			w.judge.Thawed(at, f.ID, f.ID)
		}
	}
	w.judge.Retiring(now.Retiring())
}

// lastOrder is the last recorded order of a share.
func (w *world) lastOrder(share split.Share) (seq uint64, recorded bool) {
	for _, e := range slices.Backward(w.events) {
		if o, ok := e.What.(crossing.Ordered); ok && o.Task.Do == crossing.TaskMove && o.Task.Share == share {
			return e.Seq, true
		}
	}
	return 0, false
}

// missed tells the judge that nobody has watched since a time, and what is recorded of before.
func (w *world) missed(since time.Time) {
	w.with(func() {
		s := w.state
		var ids []uint64
		for _, f := range s.Freezes {
			ids = append(ids, f.ID)
		}
		w.judge.Recorded(time.Now(), s.Target, s.Stage.UnderWay(), s.Wheel.Client, ids...)
		w.judge.Retiring(s.Retiring())
		w.judge.Missed(since, time.Now())
	})
}

func countsOf(list []reading.Instance) []reading.Count {
	var counts []reading.Count
	for _, i := range list {
		counts = append(counts, reading.Count{Server: reading.Server{Name: i.Name, Address: i.Address,
			Version: i.Version}})
	}
	return counts
}

// broke notes a broken promise.
func (w *world) broke(format string, args ...any) {
	w.broken = append(w.broken, fmt.Sprintf(format, args...))
}

// with does something with the world while nobody else does.
func (w *world) with(do func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	do()
}

// meet is the trouble that something runs into before it is done.
func (w *world) meet(ctx context.Context, what string) error {
	w.mu.Lock()
	trouble := w.trouble
	w.mu.Unlock()
	if f, ok := ctx.Value(whose{}).(*first); ok {
		if err := f.meets(ctx, what); err != nil {
			return err
		}
	}
	if trouble == nil {
		return ctx.Err()
	}
	late, deaf, err := trouble(what)
	if late > 0 {
		over := ctx.Done()
		if deaf {
			over = nil
		}
		select {
		case <-time.After(late):
		case <-over:
			return context.Cause(ctx)
		}
	}
	if err == nil && !deaf {
		err = ctx.Err()
	}
	return err
}

// serves reports whether anybody of a side does. The caller holds the lock.
func (w *world) serves(side split.Side) bool {
	return len(w.counts[side]) > 0 && w.failing[side] < 0.5 &&
		slices.ContainsFunc(w.sides[side], func(i reading.Instance) bool {
			h, ill := w.health[i.Name]
			return i.Running && (!ill || h == reading.Healthy)
		})
}

// home is the share on green at all requests on a side.
func home(side split.Side) split.Share { return split.Toward(side, split.Whole) }

// --- the front

type worldFront struct{ *world }

func (f worldFront) Read(ctx context.Context) (reading.Front, error) {
	if err := f.meet(ctx, "read"); err != nil {
		return reading.Front{}, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.count()
	r := reading.Front{At: time.Now(), Split: f.split(), Order: f.order, Apart: f.apart,
		Tells: reading.Capabilities{Counts: true, Both: true}}
	for _, side := range split.Sides {
		r.Sides[side] = reading.Side{Instances: slices.Clone(f.counts[side]), Open: f.open[side]}
		if f.queued {
			r.Sides[side].Queue = &reading.Queue{Ready: int64(f.lies[side])}
		}
	}
	return r, nil
}

func (w *world) split() reading.Split {
	return reading.Split{Revision: w.revision, Share: w.share, Since: w.since}
}

// count lets the answers come in that were given since the last time: a hundred a second.
func (w *world) count() {
	now := time.Now()
	w.seen(judge.Outside)
	over := now.Sub(w.counted).Seconds()
	answers := 100 * over
	w.counted = now
	w.work(over)
	for _, side := range split.Sides {
		more := answers * w.share.Of(side).Fraction()
		w.answers[side] += more
		w.bad[side] += more * w.failing[side]
		for n := range w.counts[side] {
			c := &w.counts[side][n]
			c.Requests, c.Status[5] = int64(w.answers[side])/int64(len(w.counts[side])),
				int64(w.bad[side])/int64(len(w.counts[side]))
			c.Status[2] = c.Requests - c.Status[5]
		}
	}
}

// work lets each instance that is well do 100 messages a second, for so many seconds.
func (w *world) work(seconds float64) {
	for _, side := range split.Sides {
		if !w.queued {
			continue
		}
		w.lies[side] += 100 * seconds * w.share.Of(side).Fraction()
		running := func(i reading.Instance) bool { return i.Running }
		if w.share.Of(side) == 0 && !slices.ContainsFunc(w.sides[side], running) &&
			slices.ContainsFunc(w.sides[side.Other()], running) {
			w.lies[side.Other()] += w.lies[side] // the front carries what nobody takes
			w.lies[side] = 0
		}
		for _, i := range w.sides[side] {
			if h, ill := w.health[i.Name]; i.Running && (!ill || h == reading.Healthy) {
				w.lies[side] -= 100 * seconds
			}
		}
		w.lies[side] = max(w.lies[side], 0)
	}
}

// put puts a share in force.
func (w *world) put(by judge.By, share split.Share) {
	w.count()
	order, recorded := w.lastOrder(share)
	w.judge.Share(time.Now(), by, share, order, recorded)
	w.share, w.revision, w.since = share, w.revision+1, time.Now()
}

func (f worldFront) Foresee(ctx context.Context, share split.Share) (front.Change, error) {
	return front.Change{From: f.now(), Wanted: share, Reached: share, Steps: []string{"set weight"},
		Connections: front.StaysOpen, Usually: 1}, ctx.Err()
}

func (w *world) now() split.Share {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.share
}

// stale says why a change is not made any more.
func (w *world) stale(share split.Share, e front.Expect) error {
	if err := e.Allows(share, w.order); err != nil {
		return err
	}
	if w.revision != e.Revision {
		return front.ErrChanged
	}
	return nil
}

func (f worldFront) Set(ctx context.Context, share split.Share, e front.Expect) (front.Done, error) {
	if err := f.meet(ctx, "before set"); err != nil {
		return front.Done{}, err
	}
	if !share.Valid() {
		return front.Done{}, front.ErrRefused
	}
	f.mu.Lock()
	err := f.stale(share, e)
	compares := f.compares
	f.mu.Unlock()
	if err != nil {
		return front.Done{}, err
	}
	errSet := f.meet(ctx, "set") // frozen between its check and its command
	if errors.Is(errSet, errLost) {
		return front.Done{}, errSet
	}
	if err := permit.Ask(ctx); err != nil {
		return front.Done{}, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if compares {
		if err := f.stale(share, e); err != nil {
			return front.Done{}, err
		}
	}
	if share.Of(split.Green) > 0 && len(f.counts[split.Green]) == 0 ||
		share.Of(split.Blue) > 0 && len(f.counts[split.Blue]) == 0 {
		return front.Done{}, front.ErrRefused
	}
	f.recorded("a share", crossing.TaskMove)
	if of, ok := ctx.Value(whose{}).(*first); ok {
		of.moves(share)
	}
	by := judge.Vaiven
	if f.order.Generation > e.Generation {
		by = judge.Stray
	}
	f.put(by, share)
	if f.order.Generation > e.Generation { // it could not compare: it takes itself back
		f.put(judge.Home, home(f.order.Side))
		return front.Done{}, front.ErrNewer
	}
	if errSet != nil {
		return front.Done{}, errSet // it was done, and nobody heard of it
	}
	return front.Done{Split: f.split(), Nearest: share, Order: f.order, Did: []string{"set weight"}}, nil
}

// errLost is something that was not done; what fails in another way was.
var errLost = errors.New("no answer, and nothing was done")

func (f worldFront) Home(ctx context.Context, h front.Homing) (front.Done, error) {
	errHome := f.meet(ctx, "home")
	if errors.Is(errHome, errLost) || errHome != nil && ctx.Err() != nil {
		return front.Done{}, errHome
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if len(f.counts[h.Side]) == 0 && len(f.counts[h.Side.Other()]) > 0 && !h.Force {
		return front.Done{}, front.ErrNobody
	}
	next, err := h.Next(f.order, time.Now())
	if err != nil {
		return front.Done{}, err
	}
	f.homes++
	f.order = next
	f.judge.Closed(time.Now(), next.Side.Other(), next.Closed)
	f.put(judge.Home, home(h.Side))
	if errHome != nil {
		return front.Done{}, errHome
	}
	return front.Done{Split: f.split(), Nearest: f.share, Order: f.order, Did: []string{"all home"}}, nil
}

func (f worldFront) NewTerm(ctx context.Context, after uint64) (uint64, error) {
	if err := f.meet(ctx, "term"); errors.Is(err, errLost) || err != nil && ctx.Err() != nil {
		return 0, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.order.Term = max(f.order.Term, after) + 1
	return f.order.Term, nil
}

func (f worldFront) Rehearse(ctx context.Context, side split.Side) ([]wayback.Step, error) {
	r, err := f.Read(ctx)
	if err == nil && len(r.Sides[side].Instances) == 0 {
		err = front.Nobody(side)
	}
	if err == nil {
		_, err = front.Homing{Side: side}.Next(r.Order, time.Now())
	}
	return []wayback.Step{{What: "read", Took: time.Millisecond}}, err
}

func (f worldFront) SetInstances(ctx context.Context, side split.Side, list []reading.Server) error {
	if err := f.meet(ctx, "instances"); err != nil {
		return err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if len(list) == 0 && f.share.Of(side) > 0 {
		return front.ErrRefused
	}
	f.count()
	var counts []reading.Count
	for _, s := range list {
		c := reading.Count{Server: s}
		known := slices.ContainsFunc(f.counts[side], func(was reading.Count) bool { return was.Address == s.Address })
		if !known && len(f.counts[side]) > 0 && f.share.Of(side) > 0 && f.health[s.Name] == reading.Starting &&
			!s.Out && time.Since(f.foreign) > knownAfter {
			f.broke("%s was told to the front, which sends it requests, before it was healthy", s.Name)
		}
		for _, was := range f.counts[side] {
			if was.Address == s.Address {
				c = was
				c.Server = s
			}
		}
		counts = append(counts, c)
	}
	f.seen(judge.Outside)
	f.counts[side] = counts
	f.seen(judge.Vaiven)
	return nil
}

func (f worldFront) Drain(ctx context.Context, side split.Side) (front.Left, error) {
	if err := f.meet(ctx, "drain"); err != nil {
		return front.Left{}, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.share.Of(side) > 0 {
		return front.Left{}, front.ErrRefused
	}
	f.count()
	left := front.Left{Open: f.open[side], Waits: int64(math.Ceil(f.lies[side]))}
	if f.hung[side] && len(f.sides[side]) > 0 {
		left.Taken = left.Waits
	}
	return left, nil
}

// --- the sides

type worldStacks struct{ *world }

func (s worldStacks) Raise(ctx context.Context, side split.Side, builds map[string]stack.Build) error {
	if err := s.meet(ctx, "raise"); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	b := builds["web"]
	other := slices.ContainsFunc(s.sides[side], func(i reading.Instance) bool { return i.Running && !b.Made(i) })
	asked := slices.ContainsFunc(s.sides[side], func(i reading.Instance) bool { // that would be stopped
		last, _ := strconv.Atoi(i.Name[strings.LastIndexByte(i.Name, '-')+1:])
		return i.Running && last > b.Instances && slices.ContainsFunc(s.counts[side],
			func(c reading.Count) bool { return c.Address == i.Address })
	})
	if of := s.share.Of(side); of > 0 && time.Since(s.foreign) > knownAfter && (other || asked) {
		s.broke("%v was raised while it got %v of the requests", side, of)
	}
	s.recorded("instances of "+side.String(), crossing.TaskRaise)
	s.stand(side, b.Version, b.ID, b.Instances)
	s.like = b.Like
	return nil
}

func (s worldStacks) From(reading.Instance) place.Place { return place.Local{} }

func (s worldStacks) Place(context.Context, reading.Instance) (place.Place, error) {
	return place.Local{}, nil
}

func (s worldStacks) Describe(context.Context, reading.Instance) (stack.Description, error) {
	return stack.Description{Environment: map[string]string{"REGION": "north"}}, nil
}

func (s worldStacks) List(ctx context.Context, side split.Side) ([]reading.Instance, error) {
	if err := s.meet(ctx, "list"); err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.sides[side]), nil
}

func (s worldStacks) Restart(ctx context.Context, i reading.Instance, a stack.Again) (stack.Restarted, error) {
	err := s.meet(ctx, "restart")
	s.mu.Lock()
	defer s.mu.Unlock()
	s.like = a.Like
	is := stack.Restarted{Build: s.differs[i.Side]}
	n := slices.IndexFunc(s.sides[i.Side], func(o reading.Instance) bool { return o.Name == i.Name })
	switch {
	case err != nil:
		return is, err
	case n < 0:
		return is, fmt.Errorf("there is no note on %s", i.Name)
	case s.sides[i.Side][n].Running:
		return stack.Restarted{}, nil
	case is.Build != "" && !a.Even:
		return is, delivered.ErrOther
	}
	s.sides[i.Side][n].Other = is.Build
	s.sides[i.Side][n].Running, s.sides[i.Side][n].Exit, s.sides[i.Side][n].Started = true, "", time.Now()
	delete(s.health, i.Name)
	s.restarted = append(s.restarted, i.Name)
	return is, nil
}

func (s worldStacks) Rotate(ctx context.Context, _ split.Side) error { return s.meet(ctx, "rotate") }

// Stop ends one instance after the other, and asks before each. One that was told to end cannot be told otherwise.
func (s worldStacks) Stop(ctx context.Context, side split.Side) error {
	for {
		if err := permit.Ask(ctx); err != nil {
			return err
		}
		name, left := s.tellToEnd(ctx, side)
		if !left {
			return nil
		}
		err := s.meet(ctx, "stop") // it was begun: nothing ends it half way
		s.mu.Lock()
		if errors.Is(ctx.Err(), context.Canceled) {
			s.broke("a stop of %v was cut short, and its grace with it", side)
		}
		if err == nil {
			s.sides[side] = slices.DeleteFunc(slices.Clone(s.sides[side]),
				func(i reading.Instance) bool { return i.Name == name })
			s.judge.Gone(time.Now(), side, name)
			delete(s.health, name)
			if len(s.sides[side]) == 0 {
				s.stopped = append(s.stopped, side)
			}
		}
		s.mu.Unlock()
		if err != nil {
			return err
		}
	}
}

// tellToEnd tells the next instance of a side to end, at which moment that has to be right, and reports whether there
// is one.
func (s worldStacks) tellToEnd(ctx context.Context, side split.Side) (name string, left bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if of := s.share.Of(side); of > 0 && time.Since(s.foreign) > knownAfter {
		s.broke("%v was stopped while it got %v of the requests", side, of)
	}
	if s.serves(side) && !s.serves(side.Other()) && time.Since(s.ended[side.Other()]) > knownAfter {
		s.broke("%v was stopped, which serves, and %v does not", side, side.Other())
	}
	s.recorded("a stop of "+side.String(), crossing.TaskRetire)
	if n := s.lies[side]; n > 0 && !s.hung[side] && time.Since(s.foreign) > knownAfter {
		s.broke("%v was stopped while %.1f messages waited there", side, n)
	}
	if n := slices.IndexFunc(s.events,
		func(e crossing.Event) bool { _, stopping := e.What.(crossing.Stopping); return stopping }); n < 0 {
		s.broke("%v was stopped before the logbook had it that there is no way back", side)
	}
	s.deadline, _ = ctx.Deadline()
	if len(s.sides[side]) == 0 {
		return "", false
	}
	name = s.sides[side][0].Name
	if s.seen(judge.Outside); time.Since(s.foreign) > knownAfter {
		s.judge.Stops(time.Now(), side, name)
	}
	s.health[name] = reading.Failing
	return name, true
}

var _ differ.Standing = worldStacks{}

// recorded holds what is done to the logbook: that it was ordered stands there already.
func (w *world) recorded(what string, deed crossing.TaskKind) {
	for _, e := range w.events {
		if o, ok := e.What.(crossing.Ordered); ok && o.Task.Do == deed {
			return
		}
	}
	w.broke("%s was done before the logbook had it", what)
}

// knownAfter is how long a keeper may act on what it has read before somebody else changed
// the front.
const knownAfter = 15 * time.Second

// worldHealth is how the instances are.
type worldHealth struct{ *world }

func (h worldHealth) Round(ctx context.Context, list []reading.Instance) []reading.Condition {
	_ = h.meet(ctx, "health")
	h.mu.Lock()
	defer h.mu.Unlock()
	var conditions []reading.Condition
	for _, i := range list {
		c := reading.Condition{Instance: i, State: reading.Healthy, At: time.Now(), Since: i.Started,
			History: []float64{1}}
		if state, ok := h.health[i.Name]; ok {
			c.State, c.Said = state, "status 503"
		}
		if !i.Running {
			c.State = reading.Exited
		}
		conditions = append(conditions, c)
	}
	return conditions
}

// worldProber gets an answer a tick.
type worldProber struct {
	mu      sync.Mutex
	answers int64
}

func (*worldProber) Run(ctx context.Context) { <-ctx.Done() }
func (*worldProber) Sides([2]prober.Runs)    {}
func (*worldProber) Rest(bool)               {}
func (*worldProber) Learn(bool)              {}
func (p *worldProber) Report(now time.Time) reading.Door {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.answers++
	return reading.Door{At: now, Answers: p.answers}
}

// proves makes a proof of what the world says is found.
// holds is a look at the side to go back to, which finds something now and then.
func (w *world) holds(ctx context.Context, q prove.Question, _ wayback.Record, _ []byte, _ int) wayback.Looks {
	if err := w.meet(ctx, "hold"); err != nil {
		return wayback.Looks{Smoke: wayback.Look{Error: err.Error()}}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	l := wayback.Look{At: time.Now(), Of: 3}
	looks := wayback.Looks{Same: l, Smoke: l, Data: l}
	if w.narrows {
		looks.Same.Failed = []wayback.Failing{{What: "environment FARES", Where: "web", Said: "is not what it was"}}
	}
	if w.closes {
		looks.Data.Failed = []wayback.Failing{{What: "fits", Said: "want 0, got 12"}}
	}
	return looks
}

func (w *world) proves(ctx context.Context, q prove.Question) (proof.Proof, prove.About) {
	var names []string
	w.with(func() {
		for _, i := range w.sides[q.Target] {
			names = append(names, i.Name)
		}
	})
	err := w.meet(ctx, "prove")
	w.mu.Lock()
	defer w.mu.Unlock()
	if err == nil { // what it finds somebody has to accept
		w.judge.Proven(time.Now(), q.Target, names...)
	}
	p := proof.Proof{Results: append([]proof.Result{{Part: "web", Kind: proof.KindSmoke, Check: "search",
		Instance: q.Target.String(), Pass: err == nil, Want: "status 200", Got: "status 200"}}, w.findings...)}
	return p, prove.About{}
}

// troubled is a world in which one thing is late, deaf or fails.
func troubled(thing string, late time.Duration, deaf bool, err error) func(string) (time.Duration, bool, error) {
	return func(what string) (time.Duration, bool, error) {
		if what == thing {
			return late, deaf, err
		}
		return 0, false, nil
	}
}

// --- the logbook

type worldBook struct{ *world }

func (b worldBook) Append(ctx context.Context, s crossing.State, events []crossing.Event) error {
	b.writing.Add(1)
	defer b.writing.Add(-1)
	errAppend := b.meet(ctx, "book")
	if errAppend != nil && (errors.Is(errAppend, errLost) || ctx.Err() != nil) {
		return errAppend
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, e := range events {
		var again crossing.Event
		data, err := json.Marshal(e)
		if err == nil {
			err = json.Unmarshal(data, &again)
		}
		switch last := uint64(len(b.events)); {
		case err != nil:
			b.broke("event %d cannot be read again: %v", e.Seq, err)
		case e.Seq == last+1:
			before := b.state
			b.state = crossing.Apply(before, again)
			b.events = append(b.events, again)
			b.tellsOf(again, before, b.state)
		case e.Seq > last+1:
			b.broke("event %d was recorded after number %d", e.Seq, last)
		case !reflect.DeepEqual(b.events[e.Seq-1], again):
			return errors.New("somebody else has written")
		}
	}
	return errAppend // it was done, and nobody heard of it
}

// locked waits until nobody writes any more, as the lock of a process does that has been ended: the disk keeps that
// alive.
func (w *world) locked() {
	for w.writing.Load() > 0 {
		time.Sleep(10 * time.Millisecond)
	}
}

func (b worldBook) Check(ctx context.Context) error { return b.meet(ctx, "book") }

func (b worldBook) Load(context.Context) (s crossing.State, unknown int, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, e := range b.events {
		s = crossing.Apply(s, e)
	}
	return s, 0, nil
}

func (b worldBook) Raises(context.Context) ([]time.Duration, error) {
	return []time.Duration{2 * time.Second}, nil
}
func (b worldBook) Since(ctx context.Context, seq uint64, most int) ([]crossing.Event, error) {
	if err := b.meet(ctx, "book"); err != nil {
		return nil, err
	}
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
	return list, nil
}

func (b worldBook) Digest(ctx context.Context, number int, upTo uint64) (sum string, events int, err error) {
	if err := b.meet(ctx, "book"); err != nil {
		return "", 0, err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, e := range b.events {
		if e.Crossing == number && e.Seq <= upTo {
			events++
		}
	}
	return fmt.Sprintf("%064x", events), events, nil
}

func (b worldBook) Past(context.Context) ([]crossing.Past, error) { return nil, nil }

// worldLog is the file of the program's log.
type worldLog struct{ *world }

func (l worldLog) Write(p []byte) (int, error) {
	if err := l.meet(context.Background(), "log"); err != nil {
		return 0, err
	}
	return len(p), nil
}

// --- a keeper in the world

// rig is a world with a keeper, in a bubble of synctest: no second passes.
type rig struct {
	*world
	asks   Ask  // nil: nobody is
	sends  Send // nil: nobody is told
	t      *testing.T
	keeper *Keeper
	memory Memory // for the next keeper, of the one that it goes on for
	stop   func()
}

func newRig(t *testing.T, change ...func(*world)) *rig {
	t.Helper()
	r := &rig{world: newWorld(), t: t}
	for _, do := range change {
		do(r.world)
	}
	r.start()
	r.until("the front is read", func(s Snapshot) bool { return s.Ready })
	return r
}

// told is what instances tell.
func (w *world) told(_ context.Context, list []reading.Instance) []reading.Told {
	var told []reading.Told
	w.with(func() {
		for _, i := range list {
			if w.tells != nil {
				told = append(told, w.tells(i))
			}
		}
	})
	return told
}

// start starts a keeper, as a new process would.
func (r *rig) start() {
	r.t.Helper()
	k, err := New(context.Background(), r.config())
	if err != nil {
		r.t.Fatal(err)
	}
	r.memory = Memory{}
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
}

// config is what a keeper of this world works with.
func (r *rig) config() Config {
	return Config{
		Plan: r.plan, Front: worldFront{r.world}, Stacks: worldStacks{r.world}, Book: worldBook{r.world},
		Prober:  &worldProber{},
		Sources: map[string]versions.Source{"web": r.offers},
		Health:  func(split.Side) Health { return worldHealth{r.world} }, Prove: r.proves, Hold: r.holds,
		Memory: r.memory, Tell: r.told, Ask: r.asks, Send: r.sends, Key: []byte("a key"),
		Log: slog.New(slog.NewTextHandler(worldLog{r.world}, nil)),
	}
}

// end ends the keeper and holds the world to its promises.
func (r *rig) end() {
	r.t.Helper()
	r.with(func() { r.trouble = nil })
	r.stop()
	time.Sleep(2 * time.Hour) // what was left behind ends
	for _, b := range r.broken {
		r.t.Error(b)
	}
}

// now is the last snapshot.
func (r *rig) last() Snapshot { return *r.keeper.latest.Load() }

// until waits for a snapshot, and looks at the world while nobody changes it.
func (r *rig) until(what string, ok func(Snapshot) bool) Snapshot {
	r.t.Helper()
	for range 6000 {
		s, done := r.last(), false
		r.with(func() { done = ok(s) })
		if done {
			return s
		}
		time.Sleep(20 * time.Millisecond)
	}
	s := r.last()
	r.t.Fatalf("waited in vain: %s\nlast: %v\ntrouble %q, front %+v", what, s.Crossing, s.Trouble, s.Front)
	return s
}

func (r *rig) do(c Command) {
	r.t.Helper()
	c.By = "marit"
	if _, err := r.keeper.Do(context.Background(), c); err != nil {
		r.t.Fatalf("%s: %v", c.Act.About().Name, err)
	}
}

// begin begins a crossing, to its first leg.
func (r *rig) begin(version string) {
	r.t.Helper()
	r.do(Command{Act: crossing.Begin{Version: version}, By: "marit"})
}

func (r *rig) refused(c Command, want string) {
	r.t.Helper()
	if _, err := r.keeper.Do(context.Background(), c); err == nil || !strings.Contains(err.Error(), want) {
		r.t.Errorf("%s: %v, want an error with %q", c.Act.About().Name, err, want)
	}
}

func (r *rig) stage(s crossing.Stage) Snapshot {
	r.t.Helper()
	return r.until("stage "+string(s), func(v Snapshot) bool { return v.Crossing.Stage == s && !v.Crossing.Retiring() })
}

// asked waits for a question.
func (r *rig) asked(kind crossing.QuestionKind) crossing.Question {
	r.t.Helper()
	name := crossing.Questions.Name(kind)
	return r.until("it asks: "+name,
		func(s Snapshot) bool { return s.Crossing.Question.Kind() == name }).Crossing.Question
}

// yes answers a question of a kind with yes.
func (r *rig) yes(kind crossing.QuestionKind) {
	r.t.Helper()
	r.do(Command{Act: crossing.Yes{Question: r.asked(kind).ID}})
}

// onFirstLeg brings a crossing to where it asks for the second leg.
func (r *rig) onFirstLeg() {
	r.t.Helper()
	r.do(Command{Act: crossing.Begin{Version: "4.3.0"}})
	r.asked(crossing.AskLeg{})
}

// onLeg brings a crossing to the middle of its first leg.
func (r *rig) onLeg() {
	r.t.Helper()
	r.do(Command{Act: crossing.Begin{Version: "4.3.0"}})
	r.until("the first leg",
		func(s Snapshot) bool { return s.Crossing.Stage == crossing.Shifting && s.Crossing.Task.ID == 0 })
}

// frozen waits for a freeze.
func (r *rig) frozen(kind crossing.CauseKind) Snapshot {
	r.t.Helper()
	name := crossing.Causes.Name(kind)
	return r.until("it is frozen: "+name, func(s Snapshot) bool {
		return slices.ContainsFunc(s.Crossing.Freezes,
			func(f crossing.Freezing) bool { return f.Cause.Kind() == name })
	})
}

// kinds are the names of the recorded events, with how often each stands there.
func (r *rig) kinds() (n map[string]int) {
	r.with(func() { n = r.counted() })
	return n
}

func (r *rig) counted() map[string]int {
	n := map[string]int{}
	for _, e := range r.events {
		n[e.What.Kind()]++
	}
	return n
}

package keeper

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/differ"
	"vaiven/internal/front"
	"vaiven/internal/plan"
	"vaiven/internal/prober"
	"vaiven/internal/prove"
	"vaiven/internal/secret"
	"vaiven/internal/stack"
	"vaiven/internal/versions"
)

// Front is all that the keeper asks of a front.
type Front = front.Driver

// Stacks is all that the keeper asks of the stacks of a service.
type Stacks interface {
	differ.Standing
	// Raise makes every part of the side consist of the planned number of instances
	// of a build. It can be repeated.
	Raise(ctx context.Context, side split.Side, builds map[string]stack.Build) error
	// List is every instance of the side, also those that ended. What could be read
	// is there even beside an error.
	List(context.Context, split.Side) ([]reading.Instance, error)
	// Stop ends all instances of the side, gracefully first.
	Stop(context.Context, split.Side) error
}

// Book is all that the keeper asks of a logbook.
type Book interface {
	Append(context.Context, crossing.State, crossing.Event, []crossing.Effect) error
	Last(context.Context) (int, error)
	Replay(ctx context.Context, number int) (crossing.State, error)
	// Raises is how long instances took until they were healthy in the last
	// crossings.
	Raises(context.Context) ([]time.Duration, error)
	// Past are earlier crossings, the newest first.
	Past(context.Context) ([]crossing.Past, error)
}

// Config is what a keeper works with. All fields have to be set.
type Config struct {
	Plan    *plan.Plan
	Secrets secret.Values
	Front   Front
	Stacks  Stacks
	Sources map[string]versions.Source // by part; a part without one takes the first part's versions
	Book    Book
	Prober  *prober.Prober
}

// self is who the keeper's own events come from.
const self = "vaiven"

// The rhythm of the keeper.
const (
	tickEvery  = 100 * time.Millisecond // time-outs, retries, snapshots
	idleEvery  = 500 * time.Millisecond // snapshots while nothing is crossing
	frontEvery = 500 * time.Millisecond // readings of the front
	frontLimit = 2 * time.Second        // for one reading of the front
	setLimit   = 25 * time.Second       // for one change of it: some have to be reloaded
	bookLimit  = 2 * time.Second        // for one entry in the logbook
	figureSpan = 10 * time.Second       // that displayed figures are taken over
	rateSpan   = 3 * time.Second        // that requests a second are taken over: they change at once when the share does
)

// Keeper runs one service's crossings. Make it with New.
type Keeper struct {
	Config

	commands chan request
	reports  chan crossing.Event
	looks    chan looking
	fronts   chan frontReading
	rounds   chan round
	done     chan struct{} // closed when Run has returned
	effects  sync.WaitGroup
	latest   atomic.Pointer[Snapshot]
	homing   atomic.Int32 // commands to go back that the loop has not taken yet
	hub      hub

	// What follows belongs to the goroutine of Run.

	state     crossing.State
	begun     time.Time
	point     Point           // the second of the track that is not over
	cleared   [2]time.Time    // when a side's instances were last changed
	overruled map[string]bool // guards that tripped and that a person went on in spite of
	resumed   bool            // the front was read since the start
	revision  uint64
	settled   time.Time // when the last change of ours was confirmed
	cancel    context.CancelFunc
	raising   raising
	clearing  [2]bool          // a side is being raised or retired: its instances at the front are left alone
	queue     []crossing.Event // reports that wait until the logbook takes entries again
	owed      []entry          // entries that it does not have yet
	series    figures.Series   // the front's counts
	reading   reading.Front    // the last good one
	view      Snapshot         // what does not follow from the rest
	guards    *guards
	since     time.Time // when the target first got traffic, zero before
	synced    bool      // the front's instances are being set
	proofs    int       // begun so far, the last one's number
}

// request is a command on its way to the loop.
type request struct {
	event crossing.Event
	reply chan error
}

// frontReading is the outcome of reading the front.
type frontReading struct {
	asked   time.Time
	reading reading.Front
	err     error
}

// round is the outcome of reading the instances of a side.
type round struct {
	side       split.Side
	begun      time.Time
	at         time.Time
	conditions []reading.Condition
	err        error
}

// raising is a raise whose instances have been started, or are being.
type raising struct {
	effect   int
	side     split.Side
	builds   map[string]stack.Build
	started  bool
	deadline time.Time
}

// New makes a keeper with the crossing that the logbook ends with. It starts
// nothing.
func New(ctx context.Context, c Config) (*Keeper, error) {
	k := &Keeper{
		Config: c, commands: make(chan request), reports: make(chan crossing.Event), looks: make(chan looking), fronts: make(chan frontReading),
		rounds: make(chan round), done: make(chan struct{}), cancel: func() {}, guards: newGuards(c.Plan.Guards), overruled: map[string]bool{},
	}
	number, err := c.Book.Last(ctx)
	if err != nil {
		return nil, err
	}
	if number > 0 {
		if k.state, err = c.Book.Replay(ctx, number); err != nil {
			return nil, err
		}
	}
	k.earlierRaises(ctx)
	k.publish(time.Now())
	return k, nil
}

// earlierRaises learns how long a raise usually takes.
func (k *Keeper) earlierRaises(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, bookLimit)
	defer cancel()
	earlier, err := k.Book.Raises(ctx)
	if err != nil {
		slog.Warn("how long raises took", "err", err) // nothing depends on it
		return
	}
	k.view.Typical = raise.Typical(earlier)
}

// Run does the keeper's work until the context ends. Instances and front go on
// without it.
func (k *Keeper) Run(ctx context.Context) {
	defer close(k.done)
	ctx, stop := context.WithCancel(ctx)
	var parts sync.WaitGroup
	parts.Go(func() { k.watchFront(ctx) })
	for _, side := range split.Sides {
		parts.Go(func() { k.watchStacks(ctx, side) })
	}
	parts.Go(func() { k.Prober.Run(ctx) })
	defer func() {
		if err := k.settleDebts(context.WithoutCancel(ctx)); err != nil {
			slog.Error("what was done is not in the logbook", "err", err)
		}
		stop()
		k.effects.Wait()
		parts.Wait()
		k.hub.close()
	}()
	ticker := time.NewTicker(tickEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case r := <-k.commands:
			r.reply <- k.command(ctx, r.event)
		case l := <-k.looks:
			k.beginLook(ctx, l)
		case e := <-k.reports:
			k.report(ctx, e)
		case f := <-k.fronts:
			k.frontRead(ctx, f)
		case r := <-k.rounds:
			k.stacksRead(ctx, r)
		case now := <-ticker.C:
			k.tick(ctx, now)
			if k.busy() || now.Sub(k.latest.Load().At) >= idleEvery {
				k.publish(now)
			}
		}
	}
}

// busy reports whether anything moves that a screen should follow closely.
func (k *Keeper) busy() bool {
	return k.state.Stage.UnderWay() || k.state.Retiring
}

// Do carries out a command. See [Client].
func (k *Keeper) Do(ctx context.Context, c Command) error {
	if c.Do == Again || c.Do == Prove && !k.latest.Load().Crossing.Stage.UnderWay() {
		return k.look(ctx, c)
	}
	fact, err := k.fact(ctx, c)
	if err != nil {
		return err
	}
	event := crossing.Event{At: time.Now(), By: c.By, What: fact}
	if c.Do == Back {
		k.homing.Add(1)
		defer k.homing.Add(-1)
		k.homeAtOnce(ctx, event)
	}
	reply := make(chan error, 1)
	select {
	case k.commands <- request{event, reply}:
		return <-reply
	case <-k.done:
		return errors.New("the keeper has stopped")
	case <-ctx.Done():
		return ctx.Err()
	}
}

// homeAtOnce takes all traffic home before the loop even hears of it, so that a
// rollback waits neither for a slow disk nor for anything else that the loop is
// at. The loop then does it once more, in its order, which does no harm.
func (k *Keeper) homeAtOnce(ctx context.Context, e crossing.Event) {
	_, effects, err := crossing.Step(k.latest.Load().Crossing, e)
	if err != nil || !goesHome(effects) {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, setLimit)
	defer cancel()
	if _, err := k.Front.Home(ctx, effects[0].Share); err != nil {
		slog.Warn("going home at once", "err", err) // the loop tries until it works, and says so
	}
}

// fact turns a command into the fact it asks for.
func (k *Keeper) fact(ctx context.Context, c Command) (crossing.Fact, error) {
	switch c.Do {
	case Begin:
		return k.beginning(ctx, c)
	case Next:
		if asked := k.latest.Load().Crossing.Asked; len(asked) > 0 {
			return crossing.AcceptAsked{Findings: asked}, nil // what was seen, and nothing else
		}
		return crossing.NextAsked{}, nil
	case Prove:
		return crossing.ProveAsked{}, nil
	case Again:
		return nil, errors.New("nothing of a check that is made again is recorded")
	case Steer:
		return crossing.SteerAsked{Share: c.Share}, nil
	case PutBack:
		return crossing.PutBackAsked{}, nil
	case Freeze:
		return crossing.FreezeAsked{}, nil
	case GoOn:
		return crossing.GoOnAsked{}, nil
	case Back:
		return crossing.BackAsked{Why: c.Why}, nil
	case Retire:
		if c.Typed != k.Plan.Service {
			return nil, fmt.Errorf("%w: to retire a side, the name %q has to be typed, not %q", crossing.ErrNotNow, k.Plan.Service, c.Typed)
		}
		return crossing.RetireAsked{}, nil
	}
	return nil, fmt.Errorf("there is no command %q", c.Do)
}

// beginning reads what a crossing begins from: the share from the front, the
// builds from the stacks.
func (k *Keeper) beginning(ctx context.Context, c Command) (crossing.Fact, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	if c.Version == "" {
		return nil, fmt.Errorf("%w: a crossing needs a version to go to", crossing.ErrNotNow)
	}
	r, err := k.Front.Read(ctx)
	if err != nil {
		return nil, err
	}
	live, err := Live(r.Split.Share)
	if err != nil {
		return nil, err
	}
	b := crossing.Begun{
		Service: k.Plan.Service, Target: live.Other(), Version: c.Version, Route: k.Plan.Route, Keep: k.Plan.Keep, Then: k.Plan.Then,
		Hold: c.Hold, SameBuild: c.SameBuild, Share: r.Split.Share, Revision: r.Split.Revision,
		Nobody: len(r.Sides[live].Instances) == 0,
	}
	instances, err := k.Stacks.List(ctx, live)
	if err != nil {
		return nil, err
	}
	choices, err := Choose(ctx, k.Plan, k.Sources, c.Version, c.Versions)
	if err != nil {
		return nil, err
	}
	for _, i := range instances {
		if !i.Running {
			continue
		}
		for n := range choices {
			if choices[n].Part == i.Part {
				choices[n].LiveBuild = i.Build
			}
		}
		if i.Part == k.Plan.Main().Name {
			b.LiveVersion = i.Version
		}
	}
	main := choices[0]
	b.Version, b.Build, b.LiveBuild, b.Built, b.Others = main.Version, main.Build, main.LiveBuild, main.Built, choices[1:]
	last, err := k.Book.Last(ctx)
	if err != nil {
		return nil, err
	}
	b.Number = last + 1
	return b, nil
}

// Versions is what there is to choose from, for each part that has versions of its
// own.
func (k *Keeper) Versions(ctx context.Context) ([]Offer, error) {
	offers, err := Offers(ctx, k.Plan, k.Sources)
	if err != nil {
		return nil, err
	}
	past, err := k.Book.Past(ctx)
	if err != nil {
		slog.Warn("earlier crossings", "err", err) // the choice does not depend on them
	}
	for n := range offers {
		if offers[n].Part == k.Plan.Main().Name {
			offers[n].Past = past
		}
	}
	return offers, nil
}

// Foresee is what the front would do to put a share on green in force.
func (k *Keeper) Foresee(ctx context.Context, share split.Share) (front.Change, error) {
	ctx, cancel := context.WithTimeout(ctx, frontLimit)
	defer cancel()
	return k.Front.Plan(ctx, share)
}

// choices are what the parts of the crossing's target are raised from.
func choices(s crossing.State, main string) []crossing.Choice {
	return append([]crossing.Choice{{Part: main, Version: s.Version, Build: s.Build, Built: s.Built}}, s.Others...)
}

// Live is the side that all requests go to, and an error if they are split.
func Live(share split.Share) (split.Side, error) {
	switch share {
	case 0:
		return split.Blue, nil
	case split.Whole:
		return split.Green, nil
	}
	return 0, fmt.Errorf("%w: the front sends %v of the requests to green, and no crossing is known that did it: "+
		"take them all to one side first (vaiven back PLAN --to blue, or --to green)", crossing.ErrNotNow, share)
}

// command steps on what a person asked for.
func (k *Keeper) command(ctx context.Context, e crossing.Event) error {
	if _, ok := e.What.(crossing.BackAsked); !ok && !k.resumed {
		return fmt.Errorf("%w: the front has not been read yet%s", crossing.ErrNotNow, k.frontTrouble())
	}
	if _, ok := e.What.(crossing.Begun); ok {
		if k.state.Stage.UnderWay() {
			return fmt.Errorf("%w: crossing %d is still at %q", crossing.ErrNotNow, k.state.Number, k.state.Stage)
		}
		if k.state.Retiring {
			return fmt.Errorf("%w: a side is still being retired", crossing.ErrNotNow)
		}
	}
	err := k.take(ctx, e)
	k.publish(time.Now())
	return err
}

func (k *Keeper) frontTrouble() string {
	if k.view.Front.Error == "" {
		return ""
	}
	return " (" + k.view.Front.Error + ")"
}

// enter makes a state the present one, tells it, and starts its effects.
func (k *Keeper) enter(ctx context.Context, e crossing.Event, next crossing.State, effects []crossing.Effect) {
	k.state = next
	if b, ok := e.What.(crossing.Begun); ok {
		k.begun, k.since, k.revision = e.At, time.Time{}, b.Revision
		k.guards = newGuards(k.Plan.Guards)
		k.view.Proof, k.view.About = proof.Proof{}, prove.About{}
		k.view.Switch, k.view.Split = Switch{}, SplitView{}
		slog.Info("crossing begins", "number", b.Number, "version", b.Version, "target", b.Target)
	}
	switch e.What.(type) {
	case crossing.GoOnAsked, crossing.NextAsked, crossing.SteerAsked, crossing.PutBackAsked:
		k.overrule()
	}
	k.hub.send(e)
	k.cancelUnless(effects)
	for _, effect := range effects {
		k.perform(ctx, effect)
	}
}

// cancelUnless ends the effect that is being performed if it is no longer
// awaited.
func (k *Keeper) cancelUnless(effects []crossing.Effect) {
	if len(effects) > 0 || k.state.Pending.ID == 0 {
		k.cancel()
		k.cancel = func() {}
		k.raising = raising{}
		k.clearing = [2]bool{}
		k.view.Proving = false
	}
}

// tick lets time pass: it takes up what waits, and steps.
func (k *Keeper) tick(ctx context.Context, now time.Time) {
	k.work(ctx)
	if len(k.queue) > 0 {
		return
	}
	if len(k.owed) > 0 {
		_ = k.settleDebts(ctx) // told as trouble; tried again with the next tick
	}
	if !k.resumed || k.state.Stage == crossing.None {
		return
	}
	k.watchRaise(now)
	if err := k.take(ctx, crossing.Event{At: now, By: self, What: crossing.Tick{}}); err != nil && !errors.Is(err, errNotRecorded) {
		slog.Error("tick", "err", err)
	}
}

// note keeps what reports say beyond the state.
func (k *Keeper) note(e crossing.Event) {
	switch f := e.What.(type) {
	case crossing.Applied:
		k.view.Switch = Switch{At: e.At, Share: f.Share, Took: f.Took}
		k.revision, k.settled = f.Revision, e.At
		k.view.Front.Split = reading.Split{Revision: f.Revision, Share: f.Share, Since: e.At} // the front's own word
	case crossing.Proved:
		k.view.Proof, k.view.Proving = f.Proof, false
	case crossing.Raised:
		k.earlierRaises(context.Background())
	case crossing.Retired:
		k.forget(f.Side, e.At)
	}
}

// forget drops what is known of a side's instances, because they are others now.
// Rounds that began before say nothing of them.
func (k *Keeper) forget(side split.Side, at time.Time) {
	v := k.view.Sides[side]
	k.cleared[side] = at
	k.view.Sides[side] = SideView{Every: v.Every, Wanted: v.Wanted, Figures: v.Figures}
}

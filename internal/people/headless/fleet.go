package headless

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/fleet"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/api"
	"vaiven/internal/words"
)

// MemberKeeper is a member's keeper as a fleet's crossing uses it.
type MemberKeeper struct {
	keeper.Client
	As    *uint64 // generation of the front's order when it was reached, see [keeper.Command]
	Close func() error
}

// FleetCrossing takes a fleet's crossing from where its logbook has it to its end. It begins the members' crossings,
// which are their keepers' from then on, and has those rolled back that arrive both or neither with one that was: for
// that nobody has to be there who reads what it tells, answers what it asks, or writes its record. All fields but Ask
// are needed.
type FleetCrossing struct {
	State  fleet.Crossing
	Record func(...fleet.Event) error // durably, before it is acted on
	Reach  func(ctx context.Context, name string) (MemberKeeper, error)
	Each   func(name string) Options                 // of a member's crossing, but for what is taken from State
	Told   func(e fleet.Event, after fleet.Crossing) // what is recorded; it waits for nobody
	Stuck  func(name string, waits Summary)          // somebody is waited for from now on, and why; the same
	// what a member asks and nobody has approved; nil where nobody is there. It may still wait when all is over
	Ask func(name, question string) (bool, error)

	mu      sync.Mutex // protects what follows, and State
	members map[string]*memberOf
	changed chan struct{}
	broken  error      // what came last could not be recorded
	writing chan error // a record that the disk has not taken yet
}

// memberOf is what is known of a member beside its stage.
type memberOf struct {
	followed, undone bool      // somebody does that
	stuck            time.Time // since when somebody is waited for, zero if nobody is
	waits            Outcome   // how it stands then
	end              Outcome   // what it came to, "" until then
	asked            uint64    // question that somebody here was asked
	here             bool      // who is asked is here
}

// The times of a fleet's crossing.
const (
	fleetEvery   = time.Second
	recordLimit  = 2 * time.Second  // for the disk
	stuckFor     = 3 * time.Second  // so long all that goes on waits for somebody, before it is left to them
	memberAgain  = 2 * time.Second  // after a member was not reached
	memberUnseen = 30 * time.Second // after which one that was never seen to begin is given up,
	memberAway   = time.Minute      // and one that is in its crossing is left to somebody
)

// Run goes on until all is over, or nothing goes on but by somebody who is not here. The outcome is the gravest of the
// members'. If ctx ends, nothing new begins, and members go on as planned.
func (f *FleetCrossing) Run(ctx context.Context) (Outcome, error) {
	f.members, f.changed = map[string]*memberOf{}, make(chan struct{}, 1)
	for _, p := range f.State.Parts {
		f.members[p.Name] = &memberOf{here: f.Ask != nil}
	}
	ctx, stop := context.WithCancel(ctx)
	var members sync.WaitGroup
	defer members.Wait()
	defer stop()
	tick := time.NewTicker(fleetEvery)
	defer tick.Stop()
	for {
		f.proceed(ctx, &members)
		switch outcome, over, err := f.standing(); {
		case err != nil:
			return outcome, err
		case over:
			return outcome, nil
		}
		select {
		case <-tick.C:
		case <-f.changed:
		case <-ctx.Done():
			return Reached, context.Cause(ctx)
		}
	}
}

// proceed records what is to be done by now, and does it.
func (f *FleetCrossing) proceed(ctx context.Context, members *sync.WaitGroup) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.take(f.State.Proceed(time.Now()))
	for _, p := range f.State.Parts {
		m := f.members[p.Name]
		if p.Turn > 0 && !p.Stage.Over() && !m.followed {
			m.followed = true
			of := f.State.Fleet
			members.Go(func() { f.follow(ctx, of, p) })
		}
		if !p.Undone.IsZero() && !p.Stage.Over() && !m.undone {
			m.undone = true
			members.Go(func() { f.back(ctx, p) })
		}
	}
}

// take records events. Where nothing can be recorded nothing begins, and it is tried again; who is to be rolled back is
// all the same. The caller holds mu.
func (f *FleetCrossing) take(events []fleet.Event) {
	if len(events) == 0 {
		return
	}
	if f.broken = f.record(events); f.broken != nil {
		events = slices.DeleteFunc(events, func(e fleet.Event) bool { return e.Kind == fleet.Begins })
	}
	for _, e := range events {
		f.State = fleet.Apply(f.State, e)
		f.Told(e, f.State)
	}
}

// record records events, as far as the disk takes them in time. The caller holds mu.
func (f *FleetCrossing) record(events []fleet.Event) error {
	if f.writing == nil {
		f.writing = make(chan error, 1)
		go func(done chan<- error) { done <- f.Record(events...) }(f.writing)
	} else { // what was before is not written yet
		select {
		case <-f.writing:
			f.writing = nil
			return f.record(events)
		default:
			return errNotWritten
		}
	}
	select {
	case err := <-f.writing:
		f.writing = nil
		return err
	case <-time.After(recordLimit):
		return errNotWritten
	}
}

var errNotWritten = fmt.Errorf("the disk has not taken the fleet's record for %v", recordLimit)

// sees takes in how far a member is.
func (f *FleetCrossing) sees(name string, stage fleet.Stage, why string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if events := f.State.Seen(time.Now(), name, stage, why); len(events) > 0 {
		f.take(events)
		select {
		case f.changed <- struct{}{}:
		default:
		}
	}
}

// standing is what it has come to, and whether it is over or left to somebody.
func (f *FleetCrossing) standing() (outcome Outcome, over bool, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	worst, rank := Settled, map[Outcome]int{Kept: 1, CalledOff: 2, RolledBack: 3, Waits: 4, Frozen: 5, LiveIll: 6,
		Failed: 7}
	over = true
	for _, p := range f.State.Parts {
		m := f.members[p.Name]
		o := cmp.Or(m.end, m.waits)
		if p.Stage == fleet.Back && o != CalledOff {
			o = RolledBack
		}
		if rank[o] > rank[worst] {
			worst = o
		}
		over = over && (p.Turn == 0 || m.end != "" || p.Stage == fleet.Back || m.left() ||
			p.Stage == fleet.Arrived && p.Undone.IsZero() && !f.State.AllThere(p.Name))
	}
	if f.broken != nil && over {
		return Failed, true, fmt.Errorf("nothing new begins: %w", f.broken)
	}
	return worst, over, nil
}

// left reports whether a member goes on only when somebody comes who is not here.
func (m *memberOf) left() bool {
	limit := stuckFor
	if m.waits == Failed {
		limit = memberAway
	}
	return !m.stuck.IsZero() && time.Since(m.stuck) > limit && !(m.here && m.waits == Waits)
}

// follow takes one member's crossing to its end, from where it is.
func (f *FleetCrossing) follow(ctx context.Context, of *fleet.Fleet, p fleet.Part) {
	begun, seen := time.Now(), false
	for ctx.Err() == nil {
		o := f.Each(p.Name)
		o.Version, o.Until, o.Ask = p.Version, Until{}, nil // who is asked holds up nothing
		o.Member = Member{After: &p.Before, Together: func() bool { return f.together(p.Name) },
			Seen: func(s keeper.Snapshot, waits *Summary) {
				seen = true
				f.waits(p.Name, waits)
				if waits != nil && waits.Outcome == Waits {
					f.asks(ctx, p.Name, *waits)
				}
				stage, why := stageOf(s.Crossing), ""
				if stage == fleet.Back { // what it had raised may take a while yet to be retired
					why = words.Cause(s.Crossing.Why, s.Crossing)
				}
				f.sees(p.Name, stage, why)
			}}
		if of.InBoth(p.Name) {
			o.Member.With = of.Name
		}
		sum, err := f.cross(ctx, p.Name, o)
		switch {
		case ctx.Err() != nil:
			return
		case err == nil:
			f.ended(p.Name, sum)
			return
		case !seen && (errors.Is(err, crossing.ErrNotNow) || time.Since(begun) > memberUnseen):
			f.ended(p.Name, Summary{Outcome: CalledOff, Why: err.Error()})
			return
		}
		f.waits(p.Name, &Summary{Outcome: Failed, Why: err.Error()})
		Pause(ctx, memberAgain)
	}
}

func (f *FleetCrossing) cross(ctx context.Context, name string, o Options) (Summary, error) {
	k, err := f.Reach(ctx, name)
	if err != nil {
		return Summary{}, err
	}
	o.As = k.As
	sum, err := Cross(ctx, k, o)
	return sum, errors.Join(err, k.Close())
}

// together reports whether a member's keep may end.
func (f *FleetCrossing) together(name string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.State.AllThere(name)
}

// waits takes in whether a member waits for somebody.
func (f *FleetCrossing) waits(name string, sum *Summary) {
	f.mu.Lock()
	m := f.members[name]
	first := m.stuck.IsZero()
	switch {
	case sum == nil:
		m.stuck, m.waits = time.Time{}, ""
	default:
		if m.waits = sum.Outcome; first {
			m.stuck = time.Now()
		}
	}
	f.mu.Unlock()
	if sum != nil && first {
		f.Stuck(name, *sum)
	}
}

// asks asks whoever is here what a member asks, once, and has its keeper told. Nothing waits for that.
func (f *FleetCrossing) asks(ctx context.Context, name string, waits Summary) {
	f.mu.Lock()
	m := f.members[name]
	again := m.asked == waits.Question
	m.asked = waits.Question
	f.mu.Unlock()
	if f.Ask == nil || again {
		return
	}
	go func() {
		yes, err := f.Ask(name, waits.Why)
		if err != nil { // nobody is there any more
			f.mu.Lock()
			m.here = false
			f.mu.Unlock()
		}
		act := crossing.Act(crossing.No{Question: waits.Question})
		if yes {
			act = crossing.Yes{Question: waits.Question}
		}
		if err == nil && ctx.Err() == nil {
			err = f.do(ctx, name, keeper.Command{Act: act, By: f.Each(name).By})
		}
		if err == nil || ctx.Err() != nil {
			return
		}
		f.Stuck(name, Summary{Outcome: Waits, Why: err.Error()})
		Pause(ctx, memberAgain)
		f.mu.Lock()
		m.asked = 0 // if it is still asked then
		f.mu.Unlock()
	}()
}

// do has a member's keeper do something.
func (f *FleetCrossing) do(ctx context.Context, name string, command keeper.Command) error {
	k, err := f.Reach(ctx, name)
	if err != nil {
		return err
	}
	_, err = k.Do(ctx, command)
	return errors.Join(err, k.Close())
}

// stageOf is how far a member is, as its keeper has it.
func stageOf(s crossing.State) fleet.Stage {
	switch {
	case s.Stage == crossing.Settled:
		return fleet.Settled
	case s.Stage.Over():
		return fleet.Back
	case s.GoingBack:
		return fleet.GoesBack
	case s.Stage == crossing.Keeping && s.Everyone(s.Full()):
		return fleet.Arrived
	}
	return fleet.Crosses
}

// ended takes in what a member's crossing has come to.
func (f *FleetCrossing) ended(name string, sum Summary) {
	f.mu.Lock()
	f.members[name].end = sum.Outcome
	f.mu.Unlock()
	stage := fleet.Back
	if sum.Outcome == Settled || sum.Outcome == Kept || sum.Outcome == LiveIll {
		stage = fleet.Settled
	}
	f.sees(name, stage, sum.Why)
}

// back has a member rolled back, and tries until it is, or nothing is left to roll back.
func (f *FleetCrossing) back(ctx context.Context, p fleet.Part) {
	for ctx.Err() == nil {
		f.mu.Lock()
		now, _ := f.State.Part(p.Name)
		f.mu.Unlock()
		if now.Stage.Lost() && now.Stage != fleet.NotBegun || now.Stage.Over() {
			return
		}
		err := f.rollBack(ctx, p)
		if err == nil || ctx.Err() != nil {
			return
		}
		f.waits(p.Name, &Summary{Outcome: Failed, Why: "it is not rolled back yet: " + err.Error()})
		Pause(ctx, memberAgain)
	}
}

func (f *FleetCrossing) rollBack(ctx context.Context, p fleet.Part) error {
	err := f.do(ctx, p.Name, keeper.Command{Act: crossing.Back{}, By: f.Each(p.Name).By, Why: p.Because})
	if errors.Is(err, api.ErrPast) {
		return nil // its requests are home, past the keeper
	}
	return err
}

// Pause waits, unless ctx ends.
func Pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

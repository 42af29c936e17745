package engine

import (
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
)

// The times that the engine goes by.
const (
	FrontEvery = forecast.Every // how often the front is to be read

	freshFront = 4 * FrontEvery  // a reading of the front counts for so long
	staleSides = 5               // and one of a side for so many of its intervals,
	freshSide  = 3 * time.Second // but no less than this
	judgeEvery = FrontEvery      // how often guards are evaluated
	// all traffic is held at home until it was read there for so long after it went there,
	holdFor    = 5 * time.Second
	holdMost   = 30 * time.Second // but no longer than this
	knownFor   = 10 * time.Second // what a side was read to be counts for so long for going home
	tellFor    = 10 * time.Second // a front is given so long to know a side's instances before a share goes there
	lapseAfter = 30 * time.Second // what is not known for so long stops the route until a person goes on
	startFor   = 3 * time.Second  // a keeper that was started waits for its sides for so long
	figureSpan = 10 * time.Second // that displayed figures are taken over
	rateSpan   = 3 * time.Second  // that requests a second are taken over: they change at once when the share does
)

// Self is who the engine's own events come from.
const (
	Self   = "vaiven"
	Guards = "guard"
)

// world is what was read of front, sides and door, and of what was done to them. It knows of no crossing.
type world struct {
	plan  *plan.Plan
	begun time.Time // when the engine was made
	now   time.Time // the last moment that was heard of

	front  frontSight
	sides  [2]sideSight
	named  [2]map[string]bool // by side: addresses of instances that stand, as they were ever listed
	serves bool               // somebody of some side was seen healthy

	outside   Outside
	outsideAt time.Time // when that was read last
	slept     time.Time // when the machine stood still last
	passed    passed

	series figures.Series     // the front's counts
	beside *figures.Series    // of a side with a control group that alone; nil while there is none
	probes map[string]*probes // by front, of those that count by a log
	door   reading.Door
	before reading.Door      // the door log of the one that is gone on for
	asked  map[string]string // by guard: why the source that was asked for its figure last did not answer, "" if it did
	peaks  peaks
	hours  hours

	settled  time.Time // when the last change of ours was confirmed
	revision uint64    // of the front's split as last read or confirmed
	change   Switch

	looks     wayback.Looks
	rehearsal wayback.Rehearsal // the last one
	rehearsed []time.Duration   // how long the last ones took that would have worked
}

// sight is what is known of a service: the crossing's state, the world as it was read, and what both mean together.
type sight struct {
	world
	state crossing.State

	homed   time.Time       // when all traffic went home last,
	seen    time.Time       // and when it was last read to be where it belongs
	tasked  time.Time       // when the present task was ordered
	rested  time.Time       // nothing is retired before
	alone   split.Side      // the side that had all requests last
	handed  bool            // it goes on for another, without a time in which nobody watched
	served  map[string]bool // by name: the target's instances that stood before it was to get more of them
	hook    Hook            // that is waited for
	typical time.Duration
}

// watching is for how long what was seen, and by whom.
type watching struct {
	left  time.Duration // of leg or keep, of the time that is watched
	ready bool          // the front was read, and held against the state
	since time.Time     // since when the side that guards watch gets requests, zero while it gets none
	well  time.Time     // since when nothing ails the sides that get requests, while nothing is under way
	hole  Hole          // the last time in which nobody watched
	// since when the way back is another than people were told last, zero if it is not
	wayChanged time.Time
	silent     bool             // nothing is heard just now of whoever has the wheel
	heard      time.Time        // when something was last heard of whoever has the wheel
	counted    crossing.Counted // of the crossing that is under way
}

// verdict is what was judged of it last.
type verdict struct {
	guards   *guard.Guards
	gathered guard.Memory // that was kept before a time in which nobody watched
	statuses []guard.Status
	judged   time.Time // when the guards were last evaluated
	raising  raising
	lacking  map[lackKey]time.Time // what has been missing since when the route needs it
	again    map[named]again       // instances that were started again
	split    SplitView
	splitAt  time.Time       // of the door log that it was judged by
	clumps   evidence.Clumps // of the instances of the side that is not on trial
	clumped  time.Time       // until when
	bursts   evidence.Bursts // that is what they come to
	swings   evidence.Swings // of that side as a whole
	track    []Point
	point    Point // the second of the track that is not over
}

// judgement is what is judged of what is known, for as long as that was watched. It decides nothing.
type judgement struct {
	sight
	watching
	verdict
}

// Engine is the judgement on one service, and decides by it. Make it with New. The times that it is given have to be
// those of a clock that nobody sets, as time.Now is within a process.
type Engine struct{ judgement }

// Asked is when a reading was asked for, and after how many changes of what is read, as a
// [View] has them: what was changed meanwhile makes a reading worthless.
type Asked struct {
	At      time.Time
	Changes uint64
}

// frontSight is the front as last read.
type frontSight struct {
	reading reading.Front
	at      time.Time // when the reading was asked for
	moved   time.Time // when the share was last read to be another one
	apart   time.Time // since when members are read to have different shares, zero while they have the same
	changes uint64    // of ours that were confirmed
	failed  string    // why the last try gave none, "" if it did
	again   time.Time // when it was read again after it could not be for a while, zero if that never was
}

// The times of a front that cannot be reached.
const (
	cutAfter   = 3 * time.Second // without a reading, which may be slow
	reachedFor = 5 * time.Second // of readings, until what else is asked from here counts: checks take a while to pass
)

// unreached reports whether the front cannot be reached, or could not a moment ago.
func (f frontSight) unreached(now time.Time) bool {
	return !f.at.IsZero() && (now.Sub(f.at) > cutAfter || now.Sub(f.again) < reachedFor)
}

// fresh reports whether a reading still counts.
func (f frontSight) fresh(now time.Time) bool { return !f.at.IsZero() && now.Sub(f.at) <= freshFront }

// New makes an engine for a plan with the state that its logbook ends with, and with what the
// one before it knew.
func New(p *plan.Plan, s crossing.State, now time.Time, m Memory) *Engine {
	e := &Engine{judgement{
		sight: sight{world: world{plan: p, begun: now, now: now, probes: map[string]*probes{},
			asked: map[string]string{}}, state: s},
		watching: watching{left: s.Left, heard: now},
	}}
	if s.Stage != crossing.None {
		e.alone = s.Live()
	}
	e.guards = guard.New(p.Guards, e.terms())
	for side := range e.sides {
		e.sides[side].view = SideView{Wanted: p.Wanted(split.Side(side)), Every: p.HealthEvery(),
			Stands: p.Stands(split.Side(side))}
	}
	e.wants(s.Target, s.Choices)
	if s.Control.Begun {
		e.wants(s.Target.Other(), s.Control.Choices)
	}
	e.remember(m)
	return e
}

// Hooking takes in which hook is waited for; none is the zero value.
func (k *sight) Hooking(h Hook) { k.hook = h }

// State is the service's state.
func (k *sight) State() crossing.State { return k.state }

// SetTypical says how long a raise usually takes.
func (k *sight) SetTypical(d time.Duration) { k.typical = d }

// decide decides on an input and takes in what comes of it.
func (e *Engine) decide(at time.Time, by string, in crossing.Input) []crossing.Event {
	events, _ := e.decideFor(crossing.Moment{At: at, By: by}, in) // nothing but what people ask for is refused
	return events
}

// known is a moment with what is known then.
func (e *Engine) known(m crossing.Moment) crossing.Moment {
	m.Unsure, m.Confirm, m.Counted = e.unsure(), e.plan.Service, e.countedNow()
	m.Rest, m.There, m.Old, m.Lacks, m.Again, m.Load = max(e.left, 0), e.there(), e.standing(e.state.Target.Other()),
		append(e.lacks(m.At), e.forbidden(m.At)...), e.rested, e.load(m.At)
	if live, all := e.state.Share.Alone(); all {
		m.Stays = e.stays(m.At, live)
	}
	return m
}

func (e *Engine) decideFor(m crossing.Moment, in crossing.Input) ([]crossing.Event, error) {
	m = e.known(m)
	before, facts := e.state, e.facts(m.At)
	events, err := crossing.Decide(e.state, m, in)
	for _, ev := range events {
		e.apply(ev)
	}
	begins := before.Part() == 0 && e.state.Part() > 0
	arrives := e.state.Stage == crossing.Keeping && (before.Stage != crossing.Keeping || e.state.Since != before.Since)
	if begins || arrives && !(before.LiveIll() && len(before.Baselines) > 0) { // an ill side is nothing to compare with
		since := time.Time{} // the other side alone got requests until now
		if before.Stage == crossing.Shifting && !begins {
			since = before.Since
		}
		facts.Hours = e.hours.counts(m.At)
		more, _ := crossing.Decide(e.state, m, crossing.Arrived{Baselines: e.guards.Baselines(facts, since)})
		for _, ev := range more {
			e.apply(ev)
		}
		events = append(events, more...)
	}
	return events, err
}

// apply takes an event in, and what follows from it beside the state.
func (e *Engine) apply(ev crossing.Event) {
	before := e.state
	e.state = crossing.Apply(before, ev)
	if e.state.Since != before.Since || e.state.Left != before.Left {
		e.left = e.state.Left
	}
	if e.state.Since != before.Since || e.state.Frozen() || !e.state.Timed() {
		e.lacking = nil
	}
	switch f := ev.What.(type) {
	case crossing.Begun:
		e.since, e.guards, e.statuses, e.well = time.Time{}, guard.New(e.plan.Guards, e.terms()), nil, time.Time{}
		e.looks, e.rehearsal, e.served = wayback.Looks{}, wayback.Rehearsal{}, nil
		e.change, e.split, e.raising, e.counted = Switch{}, SplitView{}, raising{}, crossing.Counted{}
	case crossing.TakenUp:
		if !e.handed {
			// What was kept is as true as it was; those who know nothing may be wrong about less.
			e.guards = guard.New(e.plan.Guards, e.terms())
			e.guards.Remember(e.gathered)
		}
	case crossing.TookEffect:
		e.inForce(ev.At, f.Share, f.Revision, f.Took)
		if e.state.Part() > before.Part() {
			e.served = nil // with all of them
		}
	case crossing.Returned:
		e.inForce(ev.At, f.Share, f.Revision, f.Took)
		e.homed = ev.At
	case crossing.NotReturned: // the front's own word is younger than its last reading
		e.front.reading.Sides[f.Home.Side].Instances = nil
		e.front.changes++
	case crossing.SentBack:
		if f.Share == split.Toward(f.Order.Side, split.Whole) {
			e.homed = ev.At
		}
	case crossing.Resumed:
		e.judged = time.Time{} // what was overruled is judged anew before anything goes on
	case crossing.TookWheel:
		e.heard, e.silent = ev.At, false
	case crossing.Retired:
		e.forget(f.Side)
	case crossing.Ordered:
		switch t := f.Task; {
		case t.Do == crossing.TaskRaise && (!t.More || t.Control && t.Act):
			e.wants(t.Side, t.Choices)
		case t.Grows() && e.served == nil: // else it is another try
			e.served = map[string]bool{}
			for _, c := range e.sides[t.Side].view.Instances {
				e.served[c.Name] = true
			}
		}
	case crossing.Raised:
		if t := before.Task; f.Task == t.ID {
			e.wants(t.Side, t.Choices)
		}
	}
	if t := e.state.Task; t.ID != before.Task.ID {
		e.raising, e.tasked = raising{}, ev.At
		if t.Do == crossing.TaskRaise {
			e.raising = raising{task: t.ID, deadline: ev.At.Add(e.plan.RaiseLimit(t.Side))}
		}
	}
	e.sending(ev.At)
}

// wants takes in how many instances a side is to have.
func (w *world) wants(side split.Side, choices []raise.Choice) {
	if n := raise.Wanted(choices); n > 0 {
		w.sides[side].view.Wanted = n
	}
}

// inForce takes the front's own word for what it has now.
func (w *world) inForce(at time.Time, share split.Share, revision uint64, took time.Duration) {
	w.change = Switch{At: at, Share: share, Took: took}
	w.revision, w.settled = revision, at
	w.front.changes++
	w.front.reading.Split = reading.Split{Revision: revision, Share: share, Since: at}
}

// Command decides on what a person asks for. The error is a [*crossing.Refusal], and
// then nothing has changed.
func (e *Engine) Command(m crossing.Moment, in crossing.Input) ([]crossing.Event, error) {
	events := e.Pass(m.At)
	m.Silent = e.silent
	in, err := e.weighed(m, in)
	if err != nil {
		return events, err
	}
	more, err := e.decideFor(m, in)
	return append(events, more...), err
}

// Would is the refusal that a person would get who asks for something now, nil for none. It changes nothing.
func (e *Engine) Would(m crossing.Moment, in crossing.Input) error {
	m.Silent = e.silent
	in, err := e.weighed(m, in)
	if err == nil {
		_, err = crossing.Decide(e.state, e.known(m), in)
	}
	return err
}

// weighed is what a person asks for, with what is known for it, or why it is refused whatever the state.
func (e *Engine) weighed(m crossing.Moment, in crossing.Input) (crossing.Input, error) {
	switch i := in.(type) {
	case crossing.Back:
		i.Home, i.Stands, i.Read = e.standing(e.state.Target.Other()), e.stands(e.state.Target.Other()),
			e.front.fresh(m.At)
		in = i
	case crossing.Shift:
		for _, side := range split.Sides {
			i.Proven[side] = e.proven(side)
		}
		in = i
	case crossing.Begin:
		if err := e.spared(i.Target); err != nil {
			return nil, err
		}
		i.Live = e.standing(i.Target.Other())
		i.Front = crossing.FrontSeen{Share: e.state.Share, Order: reading.Order{Generation: e.state.Generation}}
		in = i
	case crossing.Raise:
		if err := e.spared(i.Side); err != nil {
			return nil, err
		}
	}
	_, back := in.(crossing.Back)
	_, halt := in.(crossing.Freeze)
	if o := e.front.reading.Order; !back && !halt && m.As != nil && o.Generation > *m.As {
		return nil, crossing.Refuse(crossing.Overtaken{Order: o})
	}
	if !back && !e.ready {
		return nil, crossing.Refuse(crossing.NotRead{Said: e.front.failed})
	}
	if act, is := in.(crossing.Act); is {
		if err := crossing.Allowed(e.plan, e.state, m, act); err != nil {
			return nil, err
		}
	}
	return in, nil
}

// Drop gives up a version that waits for its turn.
func (e *Engine) Drop(at time.Time, d crossing.Drop) []crossing.Event {
	return append(e.Pass(at), e.decide(at, Self, d)...)
}

// spared refuses to raise a side that some member of the front sends requests to.
func (w *world) spared(side split.Side) error {
	for _, a := range w.front.reading.Apart {
		if of := a.Share.Of(side); of > 0 {
			return crossing.Refuse(crossing.GetsRequests{Side: side, Share: of, Front: a.Front})
		}
	}
	return nil
}

// Report takes in what a task has come to.
func (e *Engine) Report(at time.Time, f crossing.Fact) []crossing.Event {
	return append(e.Pass(at), e.decide(at, Self, crossing.Report{Fact: f})...)
}

// FrontRead takes in a reading of the front.
func (e *Engine) FrontRead(at time.Time, asked Asked, r reading.Front) []crossing.Event {
	events := e.Pass(at)
	if asked.Changes != e.front.changes || asked.At.Before(e.slept) {
		return events // it was asked for before a change of ours was through, or before the machine stood still
	}
	r.At = asked.At // the front's own clock may be another one
	e.logs(at, &r)
	e.compare(r)
	if err := e.series.Add(r); err != nil {
		return append(events, e.FrontFailed(at, err.Error())...)
	}
	e.learnNoise()
	if before := e.front.reading.Split.Share; r.Split.Share != before && !e.front.at.IsZero() {
		e.front.moved = asked.At
	}
	switch {
	case len(r.Apart) == 0:
		e.front.apart = time.Time{}
	case e.front.apart.IsZero():
		e.front.apart = at
	}
	if !e.front.at.IsZero() && asked.At.Sub(e.front.at) > cutAfter {
		e.front.again = at
	}
	e.front.reading, e.front.at, e.front.failed = r, asked.At, ""
	e.sending(at)
	e.draw(at)
	return append(append(events, e.hold(at)...), e.watch(at)...)
}

// grouped reports whether a control group gets requests beside the target, by the front's last reading.
func (w *world) grouped() bool {
	return w.beside != nil && slices.ContainsFunc(w.front.reading.Sides[:], reading.Side.Grouped)
}

// compare takes a reading into what guards compare by, as long as there is a control group, and for as long as guards
// look back.
func (e *Engine) compare(r reading.Front) {
	switch {
	case e.beside == nil && slices.ContainsFunc(r.Sides[:], reading.Side.Grouped):
		e.beside = e.series.Beside()
	case !e.state.Stage.UnderWay():
		e.beside = nil
	}
	if e.beside == nil {
		return
	}
	if err := e.beside.Add(r); err != nil {
		e.beside = nil // nor will all of it be taken in, which is said
	}
}

// compared is what guards compare by.
func (w *world) compared() *figures.Series {
	if w.beside != nil {
		return w.beside
	}
	return &w.series
}

// FrontFailed takes in that the front could not be read, and why.
func (e *Engine) FrontFailed(at time.Time, why string) []crossing.Event {
	events := e.Pass(at)
	e.front.failed = why
	return append(events, e.watch(at)...)
}

// Rehearsed takes in what a rehearsal of going home came to.
func (w *world) Rehearsed(r wayback.Rehearsal) {
	w.rehearsal = r
	if r.Failed == "" {
		w.rehearsed = append(w.rehearsed[max(0,
			len(w.rehearsed)-wayback.SpreadMost+1):len(w.rehearsed):len(w.rehearsed)], r.Took)
	}
}

// Remember takes in what the side crossed from is, as a proof's task found it.
func (e *Engine) Remember(at time.Time, task uint64, r wayback.Record) []crossing.Event {
	events := e.Pass(at)
	if e.state.Task.ID != task || len(r.Instances) == 0 {
		return events
	}
	return append(events, e.decide(at, Self, crossing.Remember{Record: r})...)
}

// Looked takes in what was found when the side to go back to was held to what it was, and where
// the plan wants it, stands still when there is no way back any more.
func (e *Engine) Looked(at time.Time, l wayback.Looks) []crossing.Event {
	events := e.Pass(at)
	if e.state.Was.At.IsZero() || e.state.Stage.UnderWay() && !e.state.Moved {
		return events // there is nothing to go back from
	}
	e.looks = l
	return append(events, e.watchWayBack(at)...)
}

// watchWayBack stands still when the way back has closed for a reason that stays. A front or a
// side that is not read is seen to by what the route needs to know.
func (e *Engine) watchWayBack(at time.Time) []crossing.Event {
	s := e.state
	if !e.plan.WayBack.Freezes || s.Alone() || s.GoingBack ||
		s.Stage != crossing.Shifting && s.Stage != crossing.Keeping || s.Part() == 0 || !e.ready {
		return nil
	}
	var t forecast.Traffic
	for _, c := range e.wayBack(at, t).Conditions {
		if c.State == wayback.Closed && e.closedFor(at, c) {
			return e.decide(at, Self, crossing.WayBackClosed{Worst: c})
		}
	}
	return nil
}

// closedFor reports whether a way back that is closed is so for a reason that stays: the front was read, and it is
// known that nobody of a side that is kept could serve any more. As long as it gets requests others see to that.
func (k *sight) closedFor(at time.Time, c wayback.Condition) bool {
	switch is := c.Is.(type) {
	case wayback.Front:
		return is.Read
	case wayback.Healthy:
		return k.state.Part() == split.Whole && is.Stale == 0 && k.sides[c.Side].fresh(at) &&
			k.lastStanding(c.Side).Healthy == 0
	}
	return true
}

// hold holds what the front was read to have against what is remembered.
func (e *Engine) hold(at time.Time) []crossing.Event {
	r := e.front.reading
	seen := crossing.FrontSeen{Share: r.Split.Share, Apart: e.apart(at), Order: r.Order, Revision: r.Split.Revision,
		Holding: e.holding(at)}
	e.seen = e.front.at
	if !e.ready {
		return e.takeUp(at)
	}
	switch task := e.state.Task.Do; {
	case task == crossing.TaskHome:
		return nil // whoever performs it has a word of its own
	case task == crossing.TaskMove && r.Order.Generation <= e.state.Generation:
		return nil // about to change
	}
	e.revision = r.Split.Revision
	return e.decide(at, Self, seen)
}

// takeUp holds the first reading of the front against the notes. What was under way waits
// for its sides to be read as well, for a while: then a person is told what was found.
func (e *Engine) takeUp(at time.Time) []crossing.Event {
	if !e.state.GoingBack && at.Sub(e.begun) < startFor && !(e.sides[0].tried && e.sides[1].tried) {
		return nil
	}
	r := e.front.reading
	found := crossing.Found{Share: r.Split.Share, Apart: e.apart(at), Noted: e.state.Share, Known: true}
	for _, side := range split.Sides {
		found.Wanted[side], found.Running[side] = e.sides[side].view.Wanted, len(e.Running(side))
	}
	e.ready, e.revision = true, r.Split.Revision
	if e.goesOnAsWas(found, r.Order) {
		return nil
	}
	return e.decide(at, Self, crossing.TookUp{Found: found, Order: r.Order})
}

// Pass lets time pass: legs and keep end, raises are judged, guards are heard.
func (e *Engine) Pass(at time.Time) []crossing.Event {
	delta := at.Sub(e.now)
	if delta <= 0 {
		return nil
	}
	var events []crossing.Event
	if delta >= holeLeast {
		events = e.missed(e.now, at)
	}
	e.now = at
	if e.counts(at) { // after a time in which nobody watched all readings are old
		e.left -= min(delta, at.Sub(e.everywhere()))
	}
	if !e.ready && !e.front.at.IsZero() {
		events = append(events, e.takeUp(at)...)
	}
	events = append(events, e.judgeRaise(at)...)
	if at.Sub(e.judged) >= judgeEvery {
		events = append(append(events, e.watch(at)...), e.tells(at)...)
	}
	events = append(events, e.release(at)...)
	if e.lapses(at) {
		events = append(events, e.decide(at, Self, crossing.Lapsed{})...)
	}
	if (e.left <= 0 || e.sure()) && e.ready && e.counts(at) {
		events = append(events, e.decide(at, Self, crossing.TimeUp{})...)
	}
	return events
}

// growing reports whether the target may have instances that it is only just getting for a leg.
func (k *sight) growing() bool {
	s := k.state
	return s.Task.Grows() || s.Due.On ||
		slices.ContainsFunc(s.Choices, func(c raise.Choice) bool { return c.Until > 0 })
}

// coming reports whether an instance is one of those, and not proven yet.
func (k *sight) coming(i reading.Instance) bool {
	switch target := k.state.Target; {
	case i.Side != target || !k.growing():
		return false
	case k.served != nil:
		return !k.served[i.Name]
	default: // the keeper was restarted since: by what the front has
		return i.Part == k.plan.Main().Name && len(k.front.reading.Sides[target].Instances) > 0 && k.state.Part() > 0 &&
			!k.lists(target, i.Address)
	}
}

// serving are the target's instances that requests may go to, and how many there are to be. Those that are only just
// coming are not among them: nobody is hurt by one of them that does not come up.
func (k *sight) serving() (list []reading.Condition, wanted int) {
	target := k.sides[k.state.Target].view
	if !k.growing() {
		return target.Instances, target.Wanted
	}
	list = slices.DeleteFunc(slices.Clone(target.Instances),
		func(c reading.Condition) bool { return k.coming(c.Instance) })
	if len(list) < len(target.Instances) {
		return list, len(k.served)
	}
	return list, target.Wanted
}

// load is what is known of how much of the target's capacity a share takes.
func (k *sight) load(at time.Time) crossing.Load {
	rate := 0.0
	for _, side := range split.Sides {
		rate += k.series.Count(side, at.Add(-figureSpan), 0).Rate
	}
	return crossing.Load{Rate: rate, Capacity: k.sides[k.state.Target].view.Capacity, Limit: k.plan.Limit.Part,
		Refused: k.plan.Limit.Refuses}
}

// Order is a task with what the front has to have for it to be done.
type Order struct {
	crossing.Task
	Revision   uint64 // of the split that a share is put in force over
	Generation uint64 // of the order of going home that it is put in force under
}

// Orders is what has to be done now, and may be. An order is the same as long as its ID is. Whoever performs one
// asks again before each step: what is not permitted any more is not among them.
func (j *judgement) Orders() []Order {
	var list []Order
	for _, t := range j.state.Orders() {
		switch {
		case !j.ready && t.Do != crossing.TaskHome:
			continue // what was found comes first
		case t.Do == crossing.TaskMove && (!j.known(t.Share) || j.joining(j.state.Target) || j.besideLate(t)) &&
			j.now.Sub(j.tasked) < tellFor:
			continue // the front is being told who is there
		case (t.Do == crossing.TaskRaise || t.Do == crossing.TaskRetire) &&
			(j.holding(j.now) || j.now.Before(j.everywhere())):
			// a change that was begun before the going home may still come through, or somebody not have heard of it
			continue
		case len(j.withheld(t)) > 0:
			continue
		}
		list = append(list, Order{Task: t, Revision: j.revision, Generation: j.state.Generation})
	}
	return list
}

// besideLate reports whether the front has not been told yet who is of the control group that a share goes beside.
func (k *sight) besideLate(t crossing.Task) bool {
	return !t.Act && k.state.Beside() && t.Share.Of(k.state.Target) > 0 && !k.hasControl()
}

// hasControl reports whether the front has an instance of the control group that can take requests, as last read.
func (w *world) hasControl() bool {
	return slices.ContainsFunc(w.front.reading.Sides[:], func(s reading.Side) bool {
		return slices.ContainsFunc(s.Instances, func(c reading.Count) bool { return c.Control && !c.Out })
	})
}

// controlLack is that the front has no control group, while a leg goes beside one or is to.
func (k *sight) controlLack(at time.Time) (crossing.Lack, bool) {
	if !k.state.Beside() || k.state.Stage == crossing.Raising || k.hasControl() || !k.front.fresh(at) {
		return crossing.Lack{}, false
	}
	l := crossing.LackControl{OfSide: crossing.OfSide{Side: k.state.Target.Other()}}
	for _, c := range k.sides[l.Side].view.Instances {
		if !k.state.OfControl(c.Instance) {
			continue
		}
		if l.Of++; c.State == reading.Healthy {
			l.Healthy++
		}
	}
	return crossing.Lacking(l), true
}

// holding reports whether all traffic went home just now, and is held there: a front that
// could not be read meanwhile may have let something through.
func (k *sight) holding(at time.Time) bool {
	return !k.homed.IsZero() && k.seen.Sub(k.homed) < holdFor && at.Sub(k.homed) <= holdMost
}

// known reports whether the front knows somebody on each side that a share sends requests
// to, as last read.
func (w *world) known(share split.Share) bool {
	for _, side := range split.Sides {
		if share.Of(side) > 0 && len(w.front.reading.Sides[side].Instances) == 0 {
			return false
		}
	}
	return true
}

// Due is the next moment at which time alone may change something.
func (j *judgement) Due(at time.Time) time.Time {
	due := at.Add(judgeEvery)
	if j.state.Timed() && !j.state.Frozen() {
		if end := at.Add(max(j.left, 0)); end.Before(due) {
			due = end
		}
	}
	return due
}

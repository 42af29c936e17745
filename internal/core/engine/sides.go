package engine

import (
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// SideReading is what was read of a side's instances.
type SideReading struct {
	Side       split.Side
	Asked      Asked     // the list of instances
	At         time.Time // when their conditions were
	Conditions []reading.Condition
	Error      string // what could not be read, "" if everything was
}

// sideSight is a side as last read.
type sideSight struct {
	view  SideView
	tried bool      // it was read, or could not be
	asked time.Time // when the list was asked for that the view has
}

// fresh reports whether the reading still counts.
func (s *sideSight) fresh(now time.Time) bool {
	return !s.view.At.IsZero() && now.Sub(s.view.At) <= max(staleSides*s.view.Every, freshSide)
}

// raising is a raise whose instances are being started, or have been.
type raising struct {
	task     uint64
	deadline time.Time
	started  time.Time // zero if not all were yet
}

// SideRead takes in a reading of a side's instances, unless they were changed since, or the machine stood still.
func (e *Engine) SideRead(at time.Time, r SideReading) []crossing.Event {
	events := e.Pass(at)
	s := &e.sides[r.Side]
	s.tried = true
	if r.Asked.Changes == s.view.Changes && !r.Asked.At.Before(e.slept) {
		e.see(s, r)
	}
	if !e.ready && !e.front.at.IsZero() {
		events = append(events, e.takeUp(at)...)
	}
	return append(append(events, e.judgeRaise(at)...), e.watch(at)...)
}

// FiguresRead takes in what instances told of themselves, or what a source told.
func (e *Engine) FiguresRead(at time.Time, r reading.Figures) []crossing.Event {
	events := e.Pass(at)
	e.asked[r.Guard] = r.Failed
	e.guards.TakeFigures(e.facts(at), e.figuresBeside(r))
	return append(events, e.watch(at)...)
}

// figuresBeside are the figures that guards compare: of a side with a control group only that group's.
func (k *sight) figuresBeside(r reading.Figures) reading.Figures {
	if !k.grouped() || r.Guard != "" { // what a source is asked says of whom
		return r
	}
	live := k.state.Target.Other()
	main := raise.Main(k.state.Control.Choices).Part
	r.Of = slices.DeleteFunc(slices.Clone(r.Of), func(t reading.Told) bool {
		return t.Side == live && !k.state.OfControl(reading.Instance{Name: t.Name, Side: live, Part: main})
	})
	return r
}

func (k *sight) see(s *sideSight, r SideReading) {
	v := s.view
	v.Error = r.Error
	if k.plan.Stands(r.Side) {
		for _, c := range r.Conditions {
			if k.named[r.Side] == nil {
				k.named[r.Side] = map[string]bool{}
			}
			k.named[r.Side][c.Address] = true
		}
	}
	if r.Error != "" && len(r.Conditions) == 0 {
		s.view = v
		return
	}
	s.asked = r.Asked.At
	v.At, v.Instances, v.Healthy = r.At, r.Conditions, 0
	var names, builds []string
	v.Capacity = 0
	main := k.plan.Main()
	for _, c := range v.Instances {
		if c.State == reading.Healthy {
			v.Healthy++
		}
		if c.Part != main.Name {
			continue
		}
		names = addOnce(names, c.Version)
		builds = addOnce(builds, raise.Short(c.Build))
		if c.State == reading.Healthy && !k.state.OfControl(c.Instance) { // that does not stay
			k.serves = true
			v.Capacity += main.Stacks[r.Side].Capacity.At(c.Name, c.Address)
		}
	}
	v.Version, v.Build = strings.Join(names, " and "), strings.Join(builds, " and ")
	s.view = v
}

func addOnce(list []string, text string) []string {
	if slices.Contains(list, text) {
		return list
	}
	return append(list, text)
}

// forget drops what is known of a side's instances, because they are others now.
func (w *world) forget(side split.Side) {
	s := &w.sides[side]
	s.view = SideView{Changes: s.view.Changes + 1, Every: s.view.Every, Wanted: s.view.Wanted, Stands: s.view.Stands,
		Figures: s.view.Figures}
}

// Started takes in that all instances of a raise were started, and now have to become
// healthy. What was read of them before says nothing.
func (j *judgement) Started(at time.Time, task uint64) {
	if j.raising.task == task && task != 0 {
		j.raising.started = at
		if !j.state.Task.More { // else those that serve are the same
			j.forget(j.state.Task.Side)
		}
	}
}

// judgeRaise reports a raise as done when all instances are healthy, and as failed when
// one has ended or time is up.
func (e *Engine) judgeRaise(at time.Time) []crossing.Event {
	if e.raising.started.IsZero() && e.holding(at) {
		e.raising.deadline = at.Add(e.plan.RaiseLimit(e.state.Task.Side)) // it has not begun
	}
	r, t := e.raising, e.state.Task
	switch {
	case r.task == 0 || r.task != t.ID:
		return nil
	case r.started.IsZero() && !at.After(r.deadline):
		return nil
	case t.More && !e.sides[t.Side].asked.After(r.started) && !at.After(r.deadline):
		return nil // what was read before says nothing of those that are new
	}
	v := raise.Judge(e.plan, t.Side, t.Choices, e.sides[t.Side].view.Instances)
	if t.Control {
		v = e.controlRaised(t)
	}
	switch {
	case !r.started.IsZero() && v.Healthy():
		return e.decide(at, Self,
			crossing.Report{Fact: crossing.Raised{Task: t.ID, Instances: v.Names, Times: v.Times}})
	case !r.started.IsZero() && v.Exited():
		return e.decide(at, Self,
			crossing.Report{Fact: crossing.Failed{Task: t.ID,
				Trouble: crossing.Went(crossing.TroubleRaise{Raise: v})}})
	case at.After(r.deadline):
		limit := e.plan.RaiseLimit(t.Side)
		return e.decide(at, Self,
			crossing.Report{Fact: crossing.Failed{Task: t.ID,
				Trouble: crossing.Went(crossing.TroubleRaise{Raise: v, Limit: limit})}})
	}
	return nil
}

// controlRaised is how far a control group is with coming, or with going: the live side's other instances have nothing
// to do with it.
func (k *sight) controlRaised(t crossing.Task) raise.Verdict {
	group := slices.DeleteFunc(slices.Clone(k.sides[t.Side].view.Instances),
		func(c reading.Condition) bool { return !k.state.OfControl(c.Instance) })
	main := raise.Main(t.Choices)
	if main.Instances -= len(k.state.Control.Stood); main.Instances > 0 {
		return raise.Judge(k.plan.Alone(), t.Side, []raise.Choice{main}, group)
	}
	v := raise.Verdict{}
	for _, c := range group {
		v.Stuck = append(v.Stuck, raise.Stuck{Name: c.Name, Health: c.State, Said: "it is to be stopped"})
	}
	return v
}

// controlLeft reports whether instances of a control group stand that its crossing has left behind, and that nobody
// sends requests to any more.
func (j *judgement) controlLeft(at time.Time) bool {
	s := j.state
	if !s.LeavesControl() || s.Task.ID != 0 || at.Sub(s.Since) < leftFor ||
		s.Trouble.Is != nil && at.Sub(j.tasked) < leftAgain || !j.ready {
		return false
	}
	side := s.Target.Other()
	if !j.sides[side].fresh(at) || !j.front.fresh(at) || len(j.front.reading.Unread) > 0 {
		return false
	}
	left := false
	for _, c := range j.sides[side].view.Instances {
		if !s.OfControl(c.Instance) {
			continue
		}
		if left = true; j.lists(side, c.Address) {
			return false
		}
	}
	return left
}

const (
	leftFor   = 10 * time.Second // for instances of a control group to finish what they answer
	leftAgain = 5 * time.Minute  // until it is tried again to stop them
)

// ill reports whether an instance that gets requests does not serve as it should: also
// one that was never seen healthy, when it has said no as often as its part's check
// needs to call it down.
func (w *world) ill(c reading.Condition) bool {
	switch c.State {
	case reading.Healthy:
		return false
	case reading.Failing, reading.Exited:
		return true
	}
	down := 1
	for _, part := range w.plan.Parts {
		if part.Name == c.Part {
			down = max(part.Health.Down, 1)
		}
	}
	bad := 0
	for n := len(c.History) - 1; n >= 0 && c.History[n] < 0; n-- {
		bad++
	}
	return bad >= down
}

// standing is what is known of a side's ability to serve.
func (k *sight) standing(side split.Side) crossing.Serving {
	b := k.lastStanding(side)
	for _, s := range k.sides {
		b.Known = b.Known && k.now.Sub(s.view.At) <= knownFor
	}
	return b
}

// there is what is known of the target. That nobody of it serves is known without the other side's word.
func (k *sight) there() crossing.Serving {
	target := k.state.Target
	if last := k.lastStanding(target); last.Healthy == 0 && k.sides[target].fresh(k.now) {
		if k.sides[target.Other()].view.At.IsZero() && len(k.unnoted(k.now, target)) == 0 {
			last.Known, last.Other = true, max(last.Other, 1) // who was not read yet is no worse
		}
		return last
	}
	return k.standing(target)
}

// lastStanding is what was known of it last, however long ago.
func (k *sight) lastStanding(side split.Side) crossing.Serving {
	b := crossing.Serving{Side: side, Known: true}
	for _, s := range split.Sides {
		b.Known = b.Known && !k.sides[s].view.At.IsZero()
		for _, c := range k.sides[s].view.Instances {
			switch {
			case c.Part != k.plan.Main().Name:
			case k.state.OfControl(c.Instance) && k.ill(c): // nobody relies on it
			case s == side:
				b.Instances++
				if !k.ill(c) {
					b.Healthy++
				}
			case !k.ill(c):
				b.Other++
			}
		}
	}
	b.Known = b.Known && (b.Healthy > 0 || len(k.unnoted(k.now, side)) == 0)
	return b
}

// unnoted are addresses that the front sends requests to, that answered well just now, and that no list has. Of such a
// side it is not known who is there: its memory is missing, and not its instances.
func (w *world) unnoted(at time.Time, side split.Side) []string {
	v := w.sides[side].view
	if v.At.IsZero() || !w.front.fresh(at) || w.front.reading.Sends(side) == 0 || w.plan.Stands(side) {
		return nil
	}
	noted := func(address string) bool {
		return slices.ContainsFunc(v.Instances, func(c reading.Condition) bool { return c.Address == address })
	}
	if !slices.ContainsFunc(w.front.reading.Sides[side].Instances,
		func(c reading.Count) bool { return !noted(c.Address) }) {
		return nil // mostly
	}
	var list []string
	for _, s := range w.series.Each(side, at) {
		all, last := int64(0), s.History[max(len(s.History)-2, 0):]
		for _, n := range s.History {
			all += n
		}
		if !noted(s.Address) && slices.Max(last) > 0 && 2*s.Failing < all {
			list = append(list, s.Address)
		}
	}
	return list
}

// stands reports whether instances of a side are there, or may be.
func (w *world) stands(side split.Side) bool {
	v := w.sides[side].view
	if v.At.IsZero() {
		return true // the front's own look decides
	}
	return slices.ContainsFunc(w.frontPart(side), func(c reading.Condition) bool { return c.Running })
}

// frontPart are a side's instances that the front sends requests to.
func (w *world) frontPart(side split.Side) []reading.Condition {
	var list []reading.Condition
	for _, c := range w.sides[side].view.Instances {
		if c.Part == w.plan.Main().Name {
			list = append(list, c)
		}
	}
	return list
}

// Tell is what a front has to be told of a side's instances.
type Tell struct {
	Side    split.Side
	Servers []reading.Server
}

// Telling is which instances the front has to be given because it has them differently,
// and false if it has them all. A side that the stacks know nothing of, or that is being
// raised or retired, is left as it is.
func (j *judgement) Telling(at time.Time) (Tell, bool) {
	if !j.front.fresh(at) || j.front.failed != "" {
		return Tell{}, false
	}
	for _, side := range split.Sides {
		conditions := j.frontPart(side)
		t := j.state.Task
		busy := t.ID != 0 && t.Side == side &&
			(t.Do == crossing.TaskRetire || t.Do == crossing.TaskRaise && j.raising.started.IsZero())
		if busy || len(conditions) == 0 || j.sides[side].view.Error != "" || !j.sides[side].fresh(at) ||
			j.state.Out[side] && j.front.reading.Sends(side) == 0 {
			continue
		}
		var wanted []reading.Server
		for _, c := range conditions {
			if j.joins(side, c) {
				wanted = append(wanted, reading.Server{Name: c.Name, Address: c.Address, Version: c.Version,
					Out:     c.State == reading.Failing || c.State == reading.Exited,
					Control: j.state.OfControl(c.Instance) && j.state.Beside()})
			}
		}
		if len(j.strangers(side)) == 0 && len(j.unnoted(at, side)) == 0 &&
			!sameServers(wanted, j.front.reading.Sides[side].Instances) {
			return Tell{side, wanted}, true
		}
	}
	return Tell{}, false
}

// joins reports whether the front is told of an instance. One that it does not know, of a side that gets requests,
// has to be healthy, and where it is the target's, the side has to be proven with it.
func (k *sight) joins(side split.Side, c reading.Condition) bool {
	listed, s := len(k.front.reading.Sides[side].Instances), k.state
	// and a share that was ordered before may come yet
	if s.LeavesControl() && s.OfControl(c.Instance) {
		return false
	}
	grows := side == s.Target && s.Stage.UnderWay() && (s.Due.On || s.Task.Grows())
	switch {
	case k.front.reading.Sends(side) == 0 && !grows || k.lists(side, c.Address):
		return true
	case listed == 0: // it has forgotten them
		return !k.coming(c.Instance)
	case c.State != reading.Healthy:
		return false
	case side == s.Target && s.Stage.UnderWay():
		main := raise.Main(s.Choices)
		return s.Proven && !s.Due.On && !s.Task.Grows() && (main.Until == 0 || listed < main.Instances)
	}
	return true
}

// joining reports whether the front has not been told yet of an instance that it is to be told of.
func (k *sight) joining(side split.Side) bool {
	return slices.ContainsFunc(k.frontPart(side), func(c reading.Condition) bool {
		return c.State == reading.Healthy && k.joins(side, c) && !k.lists(side, c.Address)
	})
}

// lists reports whether the front has an instance of a side at an address, as last read.
func (w *world) lists(side split.Side, address string) bool {
	return slices.ContainsFunc(w.front.reading.Sides[side].Instances,
		func(c reading.Count) bool { return c.Address == address })
}

// strangers are instances that the front sends requests to, and that the plan does not name though it says who stands
// on the side. They are left as they are, and so is the side, until a person says what they are. Those that were
// named once are no strangers.
func (w *world) strangers(side split.Side) []string {
	r := w.front.reading
	if !w.plan.Stands(side) || r.Sends(side) == 0 {
		return nil
	}
	named := w.named[side]
	var list []string
	for _, c := range r.Sides[side].Instances {
		if !named[c.Address] {
			list = append(list, c.Address)
		}
	}
	return list
}

func sameServers(wanted []reading.Server, counts []reading.Count) bool {
	return slices.EqualFunc(wanted, counts, func(w reading.Server, c reading.Count) bool { return w == c.Server })
}

// parts are the plan's, as views have them.
func parts(p *plan.Plan) []Part {
	list := make([]Part, len(p.Parts))
	for n, part := range p.Parts {
		list[n] = Part{Name: part.Name, Wanted: [2]int{part.Stacks[0].Planned(), part.Stacks[1].Planned()}}
	}
	return list
}

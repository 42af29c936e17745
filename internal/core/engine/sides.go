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

// freshFigures is how long figures count at least.
const freshFigures = 10 * time.Second

// FiguresRead takes in what instances told of themselves.
func (e *Engine) FiguresRead(at time.Time, r reading.Figures) []crossing.Event {
	events := e.Pass(at)
	e.figures = r
	e.guards.TakeFigures(e.facts(at), r)
	return append(events, e.watch(at)...)
}

func (e *Engine) see(s *sideSight, r SideReading) {
	v := s.view
	v.Error = r.Error
	if e.plan.Stands(r.Side) {
		for _, c := range r.Conditions {
			if e.named[r.Side] == nil {
				e.named[r.Side] = map[string]bool{}
			}
			e.named[r.Side][c.Address] = true
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
	main := e.plan.Main()
	for _, c := range v.Instances {
		if c.State == reading.Healthy {
			v.Healthy++
		}
		if c.Part != main.Name {
			continue
		}
		names = addOnce(names, c.Version)
		builds = addOnce(builds, raise.Short(c.Build))
		if c.State == reading.Healthy {
			e.serves = true
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
func (e *Engine) forget(side split.Side) {
	s := &e.sides[side]
	s.view = SideView{Changes: s.view.Changes + 1, Every: s.view.Every, Wanted: s.view.Wanted, Stands: s.view.Stands,
		Figures: s.view.Figures}
}

// Started takes in that all instances of a raise were started, and now have to become
// healthy. What was read of them before says nothing.
func (e *Engine) Started(at time.Time, task uint64) {
	if e.raising.task == task && task != 0 {
		e.raising.started = at
		if !e.state.Task.More { // else those that serve are the same
			e.forget(e.state.Task.Side)
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
	switch {
	case !r.started.IsZero() && v.Healthy():
		return e.decide(at, Self,
			crossing.Report{Fact: crossing.Raised{Task: t.ID, Instances: v.Names, Times: v.Times}})
	case !r.started.IsZero() && v.Exited():
		return e.decide(at, Self,
			crossing.Report{Fact: crossing.Failed{Task: t.ID,
				Trouble: crossing.Trouble{Kind: crossing.TroubleRaise, Raise: v}}})
	case at.After(r.deadline):
		limit := e.plan.RaiseLimit(t.Side)
		return e.decide(at, Self,
			crossing.Report{Fact: crossing.Failed{Task: t.ID,
				Trouble: crossing.Trouble{Kind: crossing.TroubleRaise, Raise: v, Limit: limit}}})
	}
	return nil
}

// ill reports whether an instance that gets requests does not serve as it should: also
// one that was never seen healthy, when it has said no as often as its part's check
// needs to call it down.
func (e *Engine) ill(c reading.Condition) bool {
	switch c.State {
	case reading.Healthy:
		return false
	case reading.Failing, reading.Exited:
		return true
	}
	down := 1
	for _, part := range e.plan.Parts {
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

// bench is what is known of a side's ability to serve.
func (e *Engine) bench(side split.Side) crossing.Serving {
	b := e.lastBench(side)
	for _, s := range e.sides {
		b.Known = b.Known && e.now.Sub(s.view.At) <= knownFor
	}
	return b
}

// there is what is known of the target. That nobody of it serves is known without the other side's word.
func (e *Engine) there() crossing.Serving {
	target := e.state.Target
	if last := e.lastBench(target); last.Healthy == 0 && e.sides[target].fresh(e.now) {
		if e.sides[target.Other()].view.At.IsZero() && len(e.unnoted(e.now, target)) == 0 {
			last.Known, last.Other = true, max(last.Other, 1) // who was not read yet is no worse
		}
		return last
	}
	return e.bench(target)
}

// lastBench is what was known of it last, however long ago.
func (e *Engine) lastBench(side split.Side) crossing.Serving {
	b := crossing.Serving{Side: side, Known: true}
	for _, s := range split.Sides {
		b.Known = b.Known && !e.sides[s].view.At.IsZero()
		for _, c := range e.sides[s].view.Instances {
			switch {
			case c.Part != e.plan.Main().Name:
			case s == side:
				b.Instances++
				if !e.ill(c) {
					b.Healthy++
				}
			case !e.ill(c):
				b.Other++
			}
		}
	}
	b.Known = b.Known && (b.Healthy > 0 || len(e.unnoted(e.now, side)) == 0)
	return b
}

// unnoted are addresses that the front sends requests to, that answered well just now, and that no list has. Of such a
// side it is not known who is there: its memory is missing, and not its instances.
func (e *Engine) unnoted(at time.Time, side split.Side) []string {
	v := e.sides[side].view
	if v.At.IsZero() || !e.front.fresh(at) || e.front.reading.Sends(side) == 0 || e.plan.Stands(side) {
		return nil
	}
	noted := func(address string) bool {
		return slices.ContainsFunc(v.Instances, func(c reading.Condition) bool { return c.Address == address })
	}
	if !slices.ContainsFunc(e.front.reading.Sides[side].Instances,
		func(c reading.Count) bool { return !noted(c.Address) }) {
		return nil // mostly
	}
	var list []string
	for _, s := range e.series.Each(side, at) {
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
func (e *Engine) stands(side split.Side) bool {
	v := e.sides[side].view
	if v.At.IsZero() {
		return true // the front's own look decides
	}
	return slices.ContainsFunc(e.frontPart(side), func(c reading.Condition) bool { return c.Running })
}

// frontPart are a side's instances that the front sends requests to.
func (e *Engine) frontPart(side split.Side) []reading.Condition {
	var list []reading.Condition
	for _, c := range e.sides[side].view.Instances {
		if c.Part == e.plan.Main().Name {
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
func (e *Engine) Telling(at time.Time) (Tell, bool) {
	if !e.front.fresh(at) || e.front.failed != "" {
		return Tell{}, false
	}
	for _, side := range split.Sides {
		conditions := e.frontPart(side)
		t := e.state.Task
		busy := t.ID != 0 && t.Side == side &&
			(t.Do == crossing.TaskRetire || t.Do == crossing.TaskRaise && e.raising.started.IsZero())
		if busy || len(conditions) == 0 || e.sides[side].view.Error != "" || !e.sides[side].fresh(at) ||
			e.state.Out[side] && e.front.reading.Sends(side) == 0 {
			continue
		}
		var wanted []reading.Server
		for _, c := range conditions {
			if e.joins(side, c) {
				wanted = append(wanted, reading.Server{Name: c.Name, Address: c.Address, Version: c.Version,
					Out: c.State == reading.Failing || c.State == reading.Exited})
			}
		}
		if len(e.strangers(side)) == 0 && len(e.unnoted(at, side)) == 0 &&
			!sameServers(wanted, e.front.reading.Sides[side].Instances) {
			return Tell{side, wanted}, true
		}
	}
	return Tell{}, false
}

// joins reports whether the front is told of an instance. One that it does not know, of a side that gets requests,
// has to be healthy, and where it is the target's, the side has to be proven with it.
func (e *Engine) joins(side split.Side, c reading.Condition) bool {
	listed, s := len(e.front.reading.Sides[side].Instances), e.state
	// and a share that was ordered before may come yet
	grows := side == s.Target && s.Stage.UnderWay() && (s.Due.On || s.Task.More)
	switch {
	case e.front.reading.Sends(side) == 0 && !grows || e.lists(side, c.Address):
		return true
	case listed == 0: // it has forgotten them
		return !e.coming(c.Instance)
	case c.State != reading.Healthy:
		return false
	case side == s.Target && s.Stage.UnderWay():
		main := raise.Main(s.Choices)
		return s.Proven && !s.Due.On && !s.Task.More && (main.Until == 0 || listed < main.Instances)
	}
	return true
}

// joining reports whether the front has not been told yet of an instance that it is to be told of.
func (e *Engine) joining(side split.Side) bool {
	return slices.ContainsFunc(e.frontPart(side), func(c reading.Condition) bool {
		return c.State == reading.Healthy && e.joins(side, c) && !e.lists(side, c.Address)
	})
}

// lists reports whether the front has an instance of a side at an address, as last read.
func (e *Engine) lists(side split.Side, address string) bool {
	return slices.ContainsFunc(e.front.reading.Sides[side].Instances,
		func(c reading.Count) bool { return c.Address == address })
}

// strangers are instances that the front sends requests to, and that the plan does not name though it says who stands
// on the side. They are left as they are, and so is the side, until a person says what they are. Those that were
// named once are no strangers.
func (e *Engine) strangers(side split.Side) []string {
	r := e.front.reading
	if !e.plan.Stands(side) || r.Sends(side) == 0 {
		return nil
	}
	named := e.named[side]
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

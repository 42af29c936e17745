package engine

import (
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayout"
)

const (
	apartFor = 2 * time.Second  // members of a front that change one after the other differ for less than this
	wellFor  = 10 * time.Second // what ailed is over when it was not seen for so long
)

// live is the side that the service lives on: the crossing's word while there is one, else the side that had all
// requests last.
func (e *Engine) live() split.Side {
	if e.state.Stage.UnderWay() {
		return e.state.Live()
	}
	return e.alone
}

// watched is the side whose requests the guards watch: the target while something is under way, else the one that the
// service does not live on.
func (e *Engine) watched() split.Side { return e.live().Other() }

// part is the part of the requests that a side gets, of all members of the front together.
func (e *Engine) part(side split.Side) split.Share {
	r := e.front.reading
	if len(r.Apart) == 0 || r.Sends(side) == 0 {
		return r.Split.Share.Of(side)
	}
	return min(max(r.Split.Share.Of(side), 1), split.Whole-1) // some go there, and not all
}

// apart are the members of the front that have another share, once they have had it for longer than a change takes to
// reach them all; until then those that are known of.
func (e *Engine) apart(at time.Time) []reading.Apart {
	r := e.front.reading
	if len(r.Apart) > 0 && at.Sub(e.front.apart) < apartFor {
		return e.state.Apart
	}
	return r.Apart
}

// sending takes in who gets requests, from the first word of it, whoever sends them.
func (e *Engine) sending(at time.Time) {
	s, r := e.state, e.front.reading
	switch side, all := r.Split.Share.Alone(); {
	case e.front.at.IsZero():
	case all && len(r.Apart) == 0:
		e.alone = side
	case !e.ready && s.Stage == crossing.None && r.Split.Share > split.Whole/2:
		e.alone = split.Green
	}
	gets := r.Sends(e.watched()) > 0 && (!e.front.at.IsZero() || s.Part() > 0)
	switch stands := s.Stage == crossing.Shifting || s.Stage == crossing.Keeping; {
	case gets && e.since.IsZero():
		e.since = at
		if !s.Stage.UnderWay() {
			e.guards, e.statuses = guard.New(e.plan.Guards, e.terms()), nil
		}
	case !gets && !stands && !e.since.IsZero():
		e.since = time.Time{}
		if s.Stage.UnderWay() { // those that get requests later are others
			e.guards, e.statuses = guard.New(e.plan.Guards, e.terms()), nil
		}
	}
}

// watch evaluates the guards, and heeds the gravest that has tripped. Whoever gets requests is watched, in every
// stage and outside of a crossing, whoever sends them.
func (e *Engine) watch(at time.Time) []crossing.Event {
	e.judged = at
	if !e.ready {
		return nil // they have no word before anything was read
	}
	under := e.state.Stage.UnderWay()
	if under || !e.since.IsZero() { // else their last word stays
		e.statuses = e.guards.Evaluate(e.facts(at))
	}
	if e.state.GoingBack || e.rising(at) || e.waking(at) {
		return nil
	}
	events := e.watchLive(at)
	if under {
		events = append(append(events, e.watchWayBack(at)...), e.watchTarget(at)...)
	}
	alarm, tripped := e.tripped()
	if tripped {
		events = append(events, e.decide(at, Guards,
			crossing.Alarmed{Alarm: alarm, Home: e.homeFrom(at, e.watched())})...)
	}
	return append(events, e.recovers(at, tripped)...)
}

// tripped is the gravest of the guards that have.
func (e *Engine) tripped() (crossing.Alarm, bool) {
	if e.since.IsZero() {
		return crossing.Alarm{}, false
	}
	overruled := e.state.Overruled
	if !e.state.Stage.UnderWay() {
		overruled = nil
	}
	return guard.Gravest(e.statuses, e.watched(), overruled)
}

// homeFrom is what is known of the side that a guard on the other one goes back to. Nobody is sent by itself to where
// nobody was seen last.
func (e *Engine) homeFrom(at time.Time, from split.Side) crossing.Serving {
	home := e.lastBench(from.Other())
	if e.sides[home.Side].fresh(at) && len(e.unnoted(at, home.Side)) == 0 {
		home.Known = true // its own reading will do, whatever is known of the other side
	}
	_, called := e.state.FrozenBy(crossing.NobodyHome)
	seen := home.Known && home.Healthy > 0
	if (called || e.front.fresh(at) && !seen) && len(e.front.reading.Sides[home.Side].Instances) == 0 {
		// The front knows nobody there, and nobody was seen there: to ask it again is no news.
		home = crossing.Serving{Known: true, Side: home.Side, Other: max(home.Other, 1)}
	}
	const lately = 3 * time.Second
	if b := e.bad(at, home.Side, lately); b >= wayout.Half && b > e.bad(at, from, lately) {
		// To go where more fails than here helps nobody, whatever its instances say.
		home = crossing.Serving{Known: true, Side: home.Side, Instances: home.Instances, Other: max(home.Other, 1),
			Failing: b}
	}
	return home
}

// rising reports whether nobody of either side serves, and they have not had their time since the keeper began: after
// the machine was started anew nothing is judged before.
func (e *Engine) rising(at time.Time) bool {
	limit := max(e.plan.RaiseLimit(split.Blue), e.plan.RaiseLimit(split.Green))
	return !e.handed && !e.serves && e.lastBench(e.live()).Known && at.Sub(e.begun) < limit
}

// waking reports whether nobody watched until just now, and the side to go back to has not been read since: what it was
// before says nothing.
func (e *Engine) waking(at time.Time) bool {
	return e.hole.To.After(e.sides[e.watched().Other()].view.At) && at.Sub(e.hole.To) < startFor
}

// watchLive sees to the side that the service lives on, as long as it gets requests.
func (e *Engine) watchLive(at time.Time) []crossing.Event {
	home, ill := e.liveIll(at)
	if !ill {
		return nil
	}
	return e.decide(at, Guards, crossing.LiveIll{Home: home})
}

// liveIll is what is known of the side that the service lives on, and whether it gets requests and does not serve as
// it should.
func (e *Engine) liveIll(at time.Time) (b crossing.Serving, ill bool) {
	s, side := e.state, e.live()
	b = e.bench(side)
	b.Failing = e.bad(at, side, figureSpan)
	as := wayout.Side{Known: b.Known, Healthy: b.Healthy, Instances: b.Instances, Bad: b.Failing}
	if s.Stage.UnderWay() {
		return b, !s.Alone() && s.Least(s.Target) < split.Whole && as.Ill()
	}
	released := s.Stage != crossing.None || b.Instances+b.Other > 0
	return b, released && e.front.reading.Sends(side) > 0 && as.Ill()
}

// recovers says that nothing ails any more, once it has not for a while.
func (e *Engine) recovers(at time.Time, tripped bool) []crossing.Event {
	live, ill := e.liveIll(at)
	switch {
	case len(e.state.Ails) == 0 || tripped || ill || !live.Known:
		e.well = time.Time{}
		return nil
	case e.well.IsZero():
		e.well = at
	}
	if at.Sub(e.well) < wellFor {
		return nil
	}
	return e.decide(at, Self, crossing.Recovered{})
}

// watchTarget sees to the target while more is on its way there.
func (e *Engine) watchTarget(at time.Time) []crossing.Event {
	if target := e.there(); e.state.Rises() && target.Empty() {
		return e.decide(at, Guards, crossing.TargetLost{Target: target})
	}
	return nil
}

// facts is what guards are evaluated on.
func (e *Engine) facts(at time.Time) guard.Facts {
	s, side := e.state, e.watched()
	serving, wanted := e.sides[side].view.Instances, e.sides[side].view.Wanted
	f := guard.Facts{
		Now: at, Since: e.since, Target: side, Series: &e.series, FrontRead: e.front.fresh(at) &&
			e.front.reading.Blind == "", Queue: e.front.reading.Sides[side].Queue, Tells: e.front.reading.Tells,
		SideRead: e.sides[side].fresh(at),
		Ill:      e.ill, Restarted: e.cameBack(side, e.since), Door: e.door, Share: e.part(side), Changed: e.changed(),
		Together:    e.plan.Front.Together(),
		FiguresRead: at.Sub(e.figures.At) <= max(4*e.plan.Main().Figures.Every, freshFigures),
	}
	if s.Stage.UnderWay() {
		serving, wanted = e.serving()
		f.Baselines, f.First, f.Overruled = s.Baselines, s.Alone(), s.Overruled
	}
	if home := e.lastBench(side.Other()); home.Instances > 0 && e.sides[side.Other()].fresh(at) {
		f.Beside = 1 - float64(home.Healthy)/float64(home.Instances)
	}
	f.Condition, f.Wanted = serving, max(wanted-len(e.unnoted(at, side)), len(serving))
	return f
}

// changed is when the share was changed last, as far as it is known.
func (e *Engine) changed() time.Time {
	at := e.change.At
	if e.front.moved.After(at) {
		at = e.front.moved
	}
	if s := e.state; s.Since.After(at) && (s.Stage == crossing.Shifting || s.Stage == crossing.Keeping) {
		at = s.Since
	}
	return at
}

// bad is the part of a side's answers that were bad lately, 0 if there were too few to say.
func (e *Engine) bad(at time.Time, side split.Side, over time.Duration) float64 {
	const few = 20
	c := e.series.Count(side, at.Add(-over), 0).FailingCount()
	if c.Of < few || !e.front.fresh(at) {
		return 0
	}
	return c.Rate()
}

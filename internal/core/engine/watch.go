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
func (k *sight) live() split.Side {
	if k.state.Stage.UnderWay() {
		return k.state.Live()
	}
	return k.alone
}

// watched is the side whose requests the guards watch: the target while something is under way, else the one that the
// service does not live on.
func (k *sight) watched() split.Side { return k.live().Other() }

// part is the part of the requests that a side gets, of all members of the front together.
func (w *world) part(side split.Side) split.Share {
	r := w.front.reading
	if len(r.Apart) == 0 || r.Sends(side) == 0 {
		return r.Split.Share.Of(side)
	}
	return min(max(r.Split.Share.Of(side), 1), split.Whole-1) // some go there, and not all
}

// apart are the members of the front that have another share, once they have had it for longer than a change takes to
// reach them all; until then those that are known of.
func (k *sight) apart(at time.Time) []reading.Apart {
	r := k.front.reading
	if len(r.Apart) > 0 && at.Sub(k.front.apart) < apartFor {
		return k.state.Apart
	}
	return r.Apart
}

// sending takes in who gets requests, from the first word of it, whoever sends them.
func (j *judgement) sending(at time.Time) {
	s, r := j.state, j.front.reading
	switch side, all := r.Split.Share.Alone(); {
	case j.front.at.IsZero():
	case all && len(r.Apart) == 0:
		j.alone = side
	case !j.ready && s.Stage == crossing.None && r.Split.Share > split.Whole/2:
		j.alone = split.Green
	}
	gets := r.Sends(j.watched()) > 0 && (!j.front.at.IsZero() || s.Part() > 0)
	switch stands := s.Stage == crossing.Shifting || s.Stage == crossing.Keeping; {
	case gets && j.since.IsZero():
		j.since = at
		if !s.Stage.UnderWay() {
			j.guards, j.statuses = guard.New(j.plan.Guards, j.terms()), nil
		}
	case !gets && !stands && !j.since.IsZero():
		j.since = time.Time{}
		if s.Stage.UnderWay() { // those that get requests later are others
			j.guards, j.statuses = guard.New(j.plan.Guards, j.terms()), nil
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
	if e.controlLeft(at) {
		return e.decide(at, Self, crossing.ControlLeft{})
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
func (j *judgement) tripped() (crossing.Alarm, bool) {
	if j.since.IsZero() {
		return crossing.Alarm{}, false
	}
	overruled := j.state.Overruled
	if !j.state.Stage.UnderWay() {
		overruled = nil
	}
	return guard.Gravest(j.statuses, j.watched(), overruled)
}

// homeFrom is what is known of the side that a guard on the other one goes back to. Nobody is sent by itself to where
// nobody was seen last.
func (k *sight) homeFrom(at time.Time, from split.Side) crossing.Serving {
	home := k.lastStanding(from.Other())
	if k.sides[home.Side].fresh(at) && len(k.unnoted(at, home.Side)) == 0 {
		home.Known = true // its own reading will do, whatever is known of the other side
	}
	_, called := crossing.FrozenBy[crossing.NobodyHome](k.state)
	seen := home.Known && home.Healthy > 0
	if (called || k.front.fresh(at) && !seen) && len(k.front.reading.Sides[home.Side].Instances) == 0 {
		// The front knows nobody there, and nobody was seen there: to ask it again is no news.
		home = crossing.Serving{Known: true, Side: home.Side, Other: max(home.Other, 1)}
	}
	const lately = 3 * time.Second
	if b := k.bad(at, home.Side, lately); b >= wayout.Half && b > k.bad(at, from, lately) {
		// To go where more fails than here helps nobody, whatever its instances say.
		home = crossing.Serving{Known: true, Side: home.Side, Instances: home.Instances, Other: max(home.Other, 1),
			Failing: b}
	}
	return home
}

// rising reports whether nobody of either side serves, and they have not had their time since the keeper began: after
// the machine was started anew nothing is judged before.
func (k *sight) rising(at time.Time) bool {
	limit := max(k.plan.RaiseLimit(split.Blue), k.plan.RaiseLimit(split.Green))
	return !k.handed && !k.serves && k.lastStanding(k.live()).Known && at.Sub(k.begun) < limit
}

// waking reports whether nobody watched until just now, and the side to go back to has not been read since: what it was
// before says nothing.
func (j *judgement) waking(at time.Time) bool {
	return j.hole.To.After(j.sides[j.watched().Other()].view.At) && at.Sub(j.hole.To) < startFor
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
func (k *sight) liveIll(at time.Time) (b crossing.Serving, ill bool) {
	s, side := k.state, k.live()
	b = k.standing(side)
	b.Failing = k.bad(at, side, figureSpan)
	as := wayout.Side{Known: b.Known, Healthy: b.Healthy, Instances: b.Instances, Bad: b.Failing}
	if s.Stage.UnderWay() {
		return b, !s.Alone() && s.Least(s.Target) < split.Whole && as.Ill()
	}
	released := s.Stage != crossing.None || b.Instances+b.Other > 0
	return b, released && k.front.reading.Sends(side) > 0 && as.Ill()
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
func (j *judgement) facts(at time.Time) guard.Facts {
	s, side := j.state, j.watched()
	serving, wanted := j.sides[side].view.Instances, j.sides[side].view.Wanted
	f := guard.Facts{
		Now: at, Since: j.since, Target: side, Series: j.compared(), FrontRead: j.front.fresh(at) &&
			j.front.reading.Blind == "", Queue: j.front.reading.Sides[side].Queue, Tells: j.front.reading.Tells,
		SideRead: j.sides[side].fresh(at), Unreached: j.front.unreached(at),
		Ill: j.ill, Restarted: j.cameBack(side, j.since), Door: j.door, Share: j.part(side), Changed: j.changed(),
		Together: j.plan.Front.Together(), Bursts: j.bursts, Swings: j.swings, Control: j.grouped(),
	}
	if s.Stage.UnderWay() {
		serving, wanted = j.serving()
		f.Baselines, f.First, f.Overruled = s.Baselines, s.Alone(), s.Overruled
	}
	if home := j.lastStanding(side.Other()); home.Instances > 0 && j.sides[side.Other()].fresh(at) {
		f.Beside = 1 - float64(home.Healthy)/float64(home.Instances)
	}
	f.Condition, f.Wanted = serving, max(wanted-len(j.unnoted(at, side)), len(serving))
	return f
}

// learnNoise takes in how bad answers come at a side that is not on trial, at single instances and at all of it: at the
// only one that gets requests, or at the one that a crossing leaves.
func (j *judgement) learnNoise() {
	learnt := false
	for st := range j.series.After(j.clumped) {
		j.clumped = st.To
		side, all := st.Share.Alone()
		if !all {
			side = j.watched().Other()
		}
		if st.Mixed || j.state.Stage.UnderWay() && side == j.state.Target {
			continue
		}
		j.swings.Learn(st.To, st.Failing(side))
		blocks, bad := st.Blocks(side), 0
		for _, b := range blocks {
			if j.bursts.Bad(b.Count) {
				bad++
			}
		}
		if len(blocks) > 1 && 2*bad > len(blocks) { // it befell most of them: what is common is no burst of one
			continue
		}
		for _, b := range blocks {
			j.clumps.Learn(b.Count)
			learnt = true
		}
	}
	if learnt {
		j.bursts = j.clumps.Bursts()
	}
}

// changed is when the share was changed last, as far as it is known.
func (k *sight) changed() time.Time {
	at := k.change.At
	if k.front.moved.After(at) {
		at = k.front.moved
	}
	if s := k.state; s.Since.After(at) && (s.Stage == crossing.Shifting || s.Stage == crossing.Keeping) {
		at = s.Since
	}
	return at
}

// bad is the part of a side's answers that were bad lately, 0 if there were too few to say.
func (w *world) bad(at time.Time, side split.Side, over time.Duration) float64 {
	const few = 20
	c := w.series.Count(side, at.Add(-over), 0).FailingCount()
	if c.Of < few || !w.front.fresh(at) {
		return 0
	}
	return c.Rate()
}

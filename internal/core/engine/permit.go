package engine

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayout"
)

// counts reports whether the time of leg or keep passes: nothing is missing, and the front was read since it last
// changed.
func (e *Engine) counts(at time.Time) bool {
	return e.state.Timed() && !e.state.Frozen() && len(e.lacks(at)) == 0 && e.front.at.After(e.settled)
}

// lacks is what has to be known for the route to go on, and is not. Nothing goes on without
// being watched: front and both sides have to have been read just now, and every guard has to
// have enough to judge by, unless a person has gone on without it.
func (e *Engine) lacks(at time.Time) []crossing.Lack {
	list := e.frontLacks(at)
	for _, a := range e.front.reading.Apart {
		list = append(list, crossing.Lack{Kind: crossing.LackApart, Share: a.Share, Said: a.Front})
	}
	if l, astray := e.astray(at); astray {
		list = append(list, l)
	}
	for _, side := range split.Sides {
		if e.state.AtOnce && side != e.state.Target {
			continue // it does not serve: nobody waits for word of it
		}
		if s := &e.sides[side]; !s.fresh(at) {
			list = append(list, crossing.Lack{Kind: crossing.LackSide, Side: side, Since: s.view.At,
				Said: s.view.Error})
		} else if unnoted := e.unnoted(at, side); len(unnoted) > 0 {
			list = append(list, crossing.Lack{Kind: crossing.LackNoted, Side: side, Said: strings.Join(unnoted, ", ")})
		}
	}
	if r := e.front.reading; at.Before(r.Eased) && e.state.Share == e.state.Home() && !e.state.AtOnce {
		list = append(list, crossing.Lack{Kind: crossing.LackEased, Since: r.Eased})
	}
	if until := e.everywhere(); at.Before(until) && e.state.Share != e.state.Home() {
		list = append(list, crossing.Lack{Kind: crossing.LackEverywhere, Since: until, Said: e.front.reading.Notice})
	}
	if e.state.Stage == crossing.Keeping && e.left <= 0 && e.state.Then == plan.ThenRetire {
		for _, l := range e.stays(at, e.state.Target) {
			if l.Kind == crossing.LackServes {
				list = append(list, l)
			}
		}
	}
	if l, missing := e.doorLack(at); missing {
		list = append(list, l)
	}
	if e.since.IsZero() || e.state.Stage != crossing.Shifting && e.state.Stage != crossing.Keeping {
		return list
	}
	if blind := e.front.reading.Blind; blind != "" {
		list = append(list, crossing.Lack{Kind: crossing.LackCounts,
			Since: e.lacking[lackKey{unread: crossing.LackCounts}], Said: blind})
	}
	for n, rule := range e.plan.Guards {
		var s guard.Status
		if n < len(e.statuses) {
			s = e.statuses[n]
		}
		l, missing := e.lackOf(rule, s)
		if missing && !slices.Contains(e.state.Waived, rule.Name) {
			list = append(list, l)
		}
	}
	return list
}

// doorLack is that no good answer has come to the prober lately, before anything moves: what is not reached says
// nothing, and a release that is to be judged by it would not be.
func (e *Engine) doorLack(at time.Time) (crossing.Lack, bool) {
	s := e.state
	n := slices.IndexFunc(e.plan.Guards, func(g plan.Guard) bool { return g.Watch == plan.Door && !g.Off })
	if n < 0 || s.Stage != crossing.Proving || s.First || s.AtOnce || slices.Contains(s.Waived, e.plan.Guards[n].Name) {
		return crossing.Lack{}, false
	}
	if e.door.Over(at.Add(-answeredFor)).Good() > 0 {
		return crossing.Lack{}, false
	}
	l := crossing.Lack{Kind: crossing.LackDoor, Guard: e.plan.Guards[n].Name, Said: e.door.LastLost()}
	l.Since = e.lacking[keyOf(l)]
	return l, true
}

// frontLacks are the fronts that were not read lately.
func (e *Engine) frontLacks(at time.Time) (list []crossing.Lack) {
	if !e.front.fresh(at) {
		list = append(list, crossing.Lack{Kind: crossing.LackFront, Since: e.front.at, Said: e.front.failed})
	}
	for _, u := range e.front.reading.Unread {
		list = append(list, crossing.Lack{Kind: crossing.LackFront, Since: e.front.at, Said: u.Front + ": " + u.Said})
	}
	return list
}

// withheld is why a task that was ordered is not to be done now; none if it is.
func (e *Engine) withheld(t crossing.Task) []crossing.Lack {
	switch r := e.front.reading; {
	case t.Do == crossing.TaskRaise && !t.More && r.Sends(t.Side) > 0, t.Do == crossing.TaskRetire &&
		r.Sends(t.Side) > 0:
		return []crossing.Lack{{Kind: crossing.LackSpare, Side: t.Side}}
	case t.Do == crossing.TaskRetire && t.Side != e.state.Target && e.now.Before(e.rested): // it is the way back
		return []crossing.Lack{{Kind: crossing.LackTime, Since: e.rested}}
	case t.Do == crossing.TaskRetire:
		list := e.stays(e.now, t.Side.Other())
		if t.Word {
			list = slices.DeleteFunc(list, func(l crossing.Lack) bool { return l.Kind == crossing.LackAsked })
		}
		return list
	}
	return nil
}

// answeredFor is how long an answer shows that a side serves.
const answeredFor = 10 * time.Second

// stays is what has to be known of a side before the other one is stopped, and is not: it has healthy instances by
// readings of now, and it answers. Where no user asks it, the prober does; where neither does, a person has to say so.
func (e *Engine) stays(at time.Time, side split.Side) []crossing.Lack {
	if e.state.First && side != e.state.Target {
		return nil // nobody was there
	}
	list := e.frontLacks(at)
	if l, astray := e.astray(at); astray {
		list = append(list, l)
	}
	s := &e.sides[side]
	if !s.fresh(at) {
		return append(list, crossing.Lack{Kind: crossing.LackSide, Side: side, Since: s.view.At, Said: s.view.Error})
	}
	if e.lastBench(side).Healthy == 0 {
		return append(list, crossing.Lack{Kind: crossing.LackServes, Side: side})
	}
	users := e.series.Count(side, at.Add(-answeredFor), 0).FailingCount()
	probes := e.door.Over(at.Add(-answeredFor)).Sides[side]
	switch {
	case users.Of > 0 && users.Rate() >= wayout.Half, users.Of == 0 && 2*probes.Bad > probes.Of:
		list = append(list, crossing.Lack{Kind: crossing.LackServes, Side: side})
	case users.Of == 0 && probes.Of == 0:
		list = append(list, crossing.Lack{Kind: crossing.LackAsked, Side: side})
	}
	return list
}

// everywhere is when the share is in force for the last of those who ask: as it is read of a front that remembers, or
// as was said when it was put in force, which is a time of the clock that there was then.
func (e *Engine) everywhere() time.Time {
	r := e.front.reading
	if r.Remembers > 0 && e.front.at.After(e.settled) || r.Everywhere.After(e.state.Everywhere) {
		return r.Everywhere
	}
	return e.state.Everywhere
}

// lackOf is what a guard needs and has not. What it can never have, because the front or the
// plan does not give it, is not waited for: the guard says so.
func (e *Engine) lackOf(rule plan.Guard, s guard.Status) (crossing.Lack, bool) {
	l := crossing.Lack{Guard: rule.Name}
	l.Since = e.lacking[keyOf(l)]
	if rule.Off || e.state.Alone() {
		return l, false
	}
	watch := cmp.Or(s.Watch, rule.Watch)
	if watch.Figures() && s.State == guard.Unknown && (s.Gap == guard.NotRead || s.Gap == guard.NotTold) {
		l.Kind, l.Said = crossing.LackFigures, s.Said
		return l, true
	}
	if !watch.Compares() {
		return l, false
	}
	quiet := e.plan.Quiet == plan.QuietGoOn
	switch {
	case s.State == guard.Idle, s.State == "": // requests have just begun to go there
		l.Kind, l.Need = crossing.LackAnswers, guard.Least(rule.Watch)
		return l, !quiet
	case s.State != guard.Unknown:
		return l, false
	case s.Gap == guard.TooFew:
		l.Kind, l.Have, l.Need = crossing.LackAnswers, s.Trial.Of, guard.Least(rule.Watch)
		return l, !quiet
	case s.Gap == guard.NotCounted: // the prober's answers are evidence of their own
		l.Kind, l.Need = crossing.LackAnswers, guard.Least(rule.Watch)
		watched := slices.ContainsFunc(e.plan.Guards, func(g plan.Guard) bool { return g.Watch == plan.Door && !g.Off })
		return l, !quiet && !watched
	case s.Gap == guard.NoBaseline:
		l.Kind = crossing.LackBaseline
		return l, !quiet
	case s.Gap == guard.NotRead && rule.Watch == plan.Door:
		l.Kind, l.Said = crossing.LackDoor, e.door.LastLost()
		return l, true
	}
	return l, false
}

// lackKey names what is missing.
type lackKey struct {
	unread crossing.LackKind // "" of guards, whatever they lack
	side   split.Side
	guard  string
}

func keyOf(l crossing.Lack) lackKey {
	k := lackKey{guard: l.Guard, side: l.Side}
	if l.Guard == "" {
		k.unread = l.Kind
	}
	return k
}

// lapses notes since when something is missing that the route needs, and reports whether it
// has been for too long: half a minute, or, where a guard waits for answers, as long as the
// leg was to last, if that is longer.
func (e *Engine) lapses(at time.Time) bool {
	if !e.state.Timed() || e.state.Frozen() {
		return false
	}
	lapsed := false
	now := map[lackKey]time.Time{}
	for _, l := range e.lacks(at) {
		k := keyOf(l)
		since, known := e.lacking[k]
		if !known {
			since = at
		}
		now[k] = since
		if l.Passes() {
			continue
		}
		limit := lapseAfter
		if l.Kind == crossing.LackAnswers {
			limit = max(limit, e.state.Whole())
		}
		lapsed = lapsed || at.Sub(since) >= limit
	}
	e.lacking = now
	return lapsed
}

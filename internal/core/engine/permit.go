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
func (j *judgement) counts(at time.Time) bool {
	return j.state.Timed() && !j.state.Frozen() && len(j.lacks(at)) == 0 && j.front.at.After(j.settled)
}

// lacks is what has to be known for the route to go on, and is not. Nothing goes on without
// being watched: front and both sides have to have been read just now, and every guard has to
// have enough to judge by, unless a person has gone on without it.
func (j *judgement) lacks(at time.Time) []crossing.Lack {
	list := j.frontLacks(at)
	for _, a := range j.front.reading.Apart {
		list = append(list, crossing.Lack{Kind: crossing.LackApart, Share: a.Share, Said: a.Front})
	}
	if l, astray := j.astray(at); astray {
		list = append(list, l)
	}
	for _, side := range split.Sides {
		if j.state.AtOnce && side != j.state.Target {
			continue // it does not serve: nobody waits for word of it
		}
		if s := &j.sides[side]; !s.fresh(at) {
			list = append(list, crossing.Lack{Kind: crossing.LackSide, Side: side, Since: s.view.At,
				Said: s.view.Error})
		} else if unnoted := j.unnoted(at, side); len(unnoted) > 0 {
			list = append(list, crossing.Lack{Kind: crossing.LackNoted, Side: side, Said: strings.Join(unnoted, ", ")})
		}
	}
	if r := j.front.reading; at.Before(r.Eased) && j.state.Share == j.state.Home() && !j.state.AtOnce {
		list = append(list, crossing.Lack{Kind: crossing.LackEased, Since: r.Eased})
	}
	if until := j.everywhere(); at.Before(until) && j.state.Share != j.state.Home() {
		list = append(list, crossing.Lack{Kind: crossing.LackEverywhere, Since: until, Said: j.front.reading.Notice})
	}
	if j.state.Stage == crossing.Keeping && j.left <= 0 && j.state.Then == plan.ThenRetire {
		for _, l := range j.stays(at, j.state.Target) {
			if l.Kind == crossing.LackServes {
				list = append(list, l)
			}
		}
	}
	if l, missing := j.doorLack(at); missing {
		list = append(list, l)
	}
	if j.since.IsZero() || j.state.Stage != crossing.Shifting && j.state.Stage != crossing.Keeping {
		return list
	}
	if blind := j.front.reading.Blind; blind != "" {
		list = append(list, crossing.Lack{Kind: crossing.LackCounts,
			Since: j.lacking[lackKey{unread: crossing.LackCounts}], Said: blind})
	}
	for n, rule := range j.plan.Guards {
		var s guard.Status
		if n < len(j.statuses) {
			s = j.statuses[n]
		}
		l, missing := j.lackOf(rule, s)
		if missing && !slices.Contains(j.state.Waived, rule.Name) {
			list = append(list, l)
		}
	}
	return list
}

// doorLack is that no good answer has come to the prober lately, before anything moves: what is not reached says
// nothing, and a release that is to be judged by it would not be.
func (j *judgement) doorLack(at time.Time) (crossing.Lack, bool) {
	s := j.state
	n := slices.IndexFunc(j.plan.Guards, func(g plan.Guard) bool { return g.Watch == plan.Door && !g.Off })
	if n < 0 || s.Stage != crossing.Proving || s.First || s.AtOnce || slices.Contains(s.Waived, j.plan.Guards[n].Name) {
		return crossing.Lack{}, false
	}
	if j.door.Over(at.Add(-answeredFor)).Good() > 0 {
		return crossing.Lack{}, false
	}
	l := crossing.Lack{Kind: crossing.LackDoor, Guard: j.plan.Guards[n].Name, Said: j.door.LastLost()}
	l.Since = j.lacking[keyOf(l)]
	return l, true
}

// frontLacks are the fronts that were not read lately.
func (w *world) frontLacks(at time.Time) (list []crossing.Lack) {
	if !w.front.fresh(at) {
		list = append(list, crossing.Lack{Kind: crossing.LackFront, Since: w.front.at, Said: w.front.failed})
	}
	for _, u := range w.front.reading.Unread {
		list = append(list, crossing.Lack{Kind: crossing.LackFront, Since: w.front.at, Said: u.Front + ": " + u.Said})
	}
	return list
}

// withheld is why a task that was ordered is not to be done now; none if it is.
func (k *sight) withheld(t crossing.Task) []crossing.Lack {
	switch r := k.front.reading; {
	case t.Do == crossing.TaskRaise && !t.More && r.Sends(t.Side) > 0, t.Do == crossing.TaskRetire &&
		r.Sends(t.Side) > 0:
		return []crossing.Lack{{Kind: crossing.LackSpare, Side: t.Side}}
	case t.Do == crossing.TaskRetire && t.Side != k.state.Target && k.now.Before(k.rested): // it is the way back
		return []crossing.Lack{{Kind: crossing.LackTime, Since: k.rested}}
	case t.Do == crossing.TaskRetire:
		list := k.stays(k.now, t.Side.Other())
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
func (k *sight) stays(at time.Time, side split.Side) []crossing.Lack {
	if k.state.First && side != k.state.Target {
		return nil // nobody was there
	}
	list := k.frontLacks(at)
	if l, astray := k.astray(at); astray {
		list = append(list, l)
	}
	s := &k.sides[side]
	if !s.fresh(at) {
		return append(list, crossing.Lack{Kind: crossing.LackSide, Side: side, Since: s.view.At, Said: s.view.Error})
	}
	if k.lastStanding(side).Healthy == 0 {
		return append(list, crossing.Lack{Kind: crossing.LackServes, Side: side})
	}
	users := k.series.Count(side, at.Add(-answeredFor), 0).FailingCount()
	probes := k.door.Over(at.Add(-answeredFor)).Sides[side]
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
func (k *sight) everywhere() time.Time {
	r := k.front.reading
	if r.Remembers > 0 && k.front.at.After(k.settled) || r.Everywhere.After(k.state.Everywhere) {
		return r.Everywhere
	}
	return k.state.Everywhere
}

// lackOf is what a guard needs and has not. What it can never have, because the front or the
// plan does not give it, is not waited for: the guard says so.
func (j *judgement) lackOf(rule plan.Guard, s guard.Status) (crossing.Lack, bool) {
	l := crossing.Lack{Guard: rule.Name}
	l.Since = j.lacking[keyOf(l)]
	if rule.Off || j.state.Alone() {
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
	quiet := j.plan.Quiet == plan.QuietGoOn
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
		watched := slices.ContainsFunc(j.plan.Guards, func(g plan.Guard) bool { return g.Watch == plan.Door && !g.Off })
		return l, !quiet && !watched
	case s.Gap == guard.NoBaseline:
		l.Kind = crossing.LackBaseline
		return l, !quiet
	case s.Gap == guard.NotRead && rule.Watch == plan.Door:
		l.Kind, l.Said = crossing.LackDoor, j.door.LastLost()
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
func (j *judgement) lapses(at time.Time) bool {
	if !j.state.Timed() || j.state.Frozen() {
		return false
	}
	lapsed := false
	now := map[lackKey]time.Time{}
	for _, l := range j.lacks(at) {
		k := keyOf(l)
		since, known := j.lacking[k]
		if !known {
			since = at
		}
		now[k] = since
		if l.Passes() {
			continue
		}
		limit := lapseAfter
		if l.Kind == crossing.LackAnswers {
			limit = max(limit, j.state.Whole())
		}
		lapsed = lapsed || at.Sub(since) >= limit
	}
	j.lacking = now
	return lapsed
}

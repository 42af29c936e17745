package engine

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/oneof"
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
		list = append(list, crossing.Lacking(crossing.LackApart{Share: a.Share, Front: a.Front}))
	}
	if l, astray := j.astray(at); astray {
		list = append(list, l)
	}
	if l, missing := j.controlLack(at); missing {
		list = append(list, l)
	}
	for _, side := range split.Sides {
		if j.state.AtOnce && side != j.state.Target {
			continue // it does not serve: nobody waits for word of it
		}
		if !j.sides[side].fresh(at) {
			list = append(list, j.unread(side))
		} else if unnoted := j.unnoted(at, side); len(unnoted) > 0 {
			list = append(list, crossing.Lacking(crossing.LackNoted{OfSide: crossing.OfSide{Side: side},
				Where: strings.Join(unnoted, ", ")}))
		}
	}
	if r := j.front.reading; at.Before(r.Eased) && j.state.Share == j.state.Home() && !j.state.AtOnce {
		list = append(list, crossing.Lacking(crossing.LackEased{Until: r.Eased}))
	}
	if until := j.everywhere(); at.Before(until) && j.state.Share != j.state.Home() {
		list = append(list, crossing.Lacking(crossing.LackEverywhere{Until: until, Said: j.front.reading.Notice}))
	}
	if j.state.Stage == crossing.Keeping && j.left <= 0 && j.state.Then == plan.ThenRetire {
		for _, l := range j.stays(at, j.state.Target) {
			if oneof.IsA[crossing.LackServes](l) {
				list = append(list, l)
			}
		}
	}
	if l, missing := j.doorLack(at); missing {
		list = append(list, l)
	}
	list = append(list, j.sourceLacks()...)
	if j.since.IsZero() || j.state.Stage != crossing.Shifting && j.state.Stage != crossing.Keeping {
		return list
	}
	if blind := j.front.reading.Blind; blind != "" {
		l := crossing.LackCounts{Unread: crossing.Unread{Said: blind}}
		l.Since = j.lacking[keyOf(crossing.Lacking(l))]
		list = append(list, crossing.Lacking(l))
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

// doorLack is that no good answer has come to the prober lately, before anything moves, or since the machine slept:
// what is not reached says nothing, and a release that is to be judged by it would not be.
func (j *judgement) doorLack(at time.Time) (crossing.Lack, bool) {
	s := j.state
	n := slices.IndexFunc(j.plan.Guards, func(g plan.Guard) bool { return g.Watch == plan.Door && !g.Off })
	if n < 0 || s.First || s.AtOnce || slices.Contains(s.Waived, j.plan.Guards[n].Name) {
		return crossing.Lack{}, false
	}
	from := at.Add(-answeredFor)
	if s.Stage != crossing.Proving {
		said := n < len(j.statuses) && j.statuses[n].Gap == guard.NotRead // the guard says so itself
		if from = j.slept; said || from.Before(at.Add(-silentFor)) {
			return crossing.Lack{}, false
		}
	}
	if j.door.Over(from).Good() > 0 {
		return crossing.Lack{}, false
	}
	return crossing.Lacking(crossing.LackDoor{OfGuard: j.ofGuard(j.plan.Guards[n]), Said: j.door.LastLost()}), true
}

// sourceLacks are, before anything moves, the sources of figures that do not answer: a release that is to be judged by
// them would not be.
func (j *judgement) sourceLacks() (list []crossing.Lack) {
	if j.state.Stage != crossing.Proving || j.state.AtOnce {
		return nil
	}
	for _, rule := range j.plan.Guards {
		said, read := j.asked[rule.Name]
		if !rule.Asked() || rule.Off || rule.Silent == plan.SilentGoOn || slices.Contains(j.state.Waived, rule.Name) ||
			read && said == "" || rule.Watch.Beside() && j.state.Alone() {
			continue
		}
		list = append(list, crossing.Lacking(crossing.LackFigures{OfGuard: j.ofGuard(rule), Said: said}))
	}
	return list
}

// frontLacks are the fronts that were not read lately.
func (w *world) frontLacks(at time.Time) (list []crossing.Lack) {
	add := func(said string) {
		unread := crossing.Unread{Since: w.front.at, Said: said}
		list = append(list, crossing.Lacking(crossing.LackFront{Unread: unread}))
	}
	if !w.front.fresh(at) {
		add(w.front.failed)
	}
	for _, u := range w.front.reading.Unread {
		add(u.Front + ": " + u.Said)
	}
	return list
}

// unread is that a side's instances were not read lately.
func (w *world) unread(side split.Side) crossing.Lack {
	v := w.sides[side].view
	return crossing.Lacking(crossing.LackSide{OfSide: crossing.OfSide{Side: side},
		Unread: crossing.Unread{Since: v.At, Said: v.Error}})
}

// withheld is why a task that was ordered is not to be done now; none if it is.
func (k *sight) withheld(t crossing.Task) []crossing.Lack {
	switch r := k.front.reading; {
	case t.Do == crossing.TaskRaise && !t.More && r.Sends(t.Side) > 0, t.Do == crossing.TaskRetire &&
		r.Sends(t.Side) > 0:
		return []crossing.Lack{crossing.Lacking(crossing.LackSpare{OfSide: crossing.OfSide{Side: t.Side}})}
	case t.Do == crossing.TaskMove && !t.Act && t.Share.Of(k.state.Target) > k.state.Sends(k.state.Target):
		return k.forbidden(k.now)
	case t.Do == crossing.TaskRetire && t.Side != k.state.Target && k.now.Before(k.rested): // it is the way back
		return []crossing.Lack{crossing.Lacking(crossing.LackTime{Until: k.rested})}
	case t.Do == crossing.TaskRetire:
		list := k.stays(k.now, t.Side.Other())
		if t.Word {
			list = slices.DeleteFunc(list, oneof.IsA[crossing.LackAsked])
		}
		return list
	}
	return nil
}

// silentFor is how long it may take after the machine slept until the guard on the front door knows that the prober
// hears nothing.
const silentFor = 30 * time.Second

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
	if !k.sides[side].fresh(at) {
		return append(list, k.unread(side))
	}
	of := crossing.OfSide{Side: side}
	if k.lastStanding(side).Healthy == 0 {
		return append(list, crossing.Lacking(crossing.LackServes{OfSide: of}))
	}
	users := k.series.Count(side, at.Add(-answeredFor), 0).FailingCount()
	probes := k.door.Over(at.Add(-answeredFor)).Sides[side]
	switch {
	case users.Of > 0 && users.Rate() >= wayout.Half, users.Of == 0 && 2*probes.Bad > probes.Of:
		list = append(list, crossing.Lacking(crossing.LackServes{OfSide: of}))
	case users.Of == 0 && probes.Of == 0:
		list = append(list, crossing.Lacking(crossing.LackAsked{OfSide: of}))
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
	if rule.Off || j.state.Alone() {
		return crossing.Lack{}, false
	}
	of := j.ofGuard(rule)
	watch := cmp.Or(s.Watch, rule.Watch)
	if (watch.Figures() || watch == plan.Alert) && s.State == guard.Unknown && (s.Gap == guard.NotRead ||
		s.Gap == guard.NotTold || rule.Asked() && s.Gap == guard.NoBaseline && s.Said != "") {
		return crossing.Lacking(crossing.LackFigures{OfGuard: of, Said: s.Said}), rule.Silent != plan.SilentGoOn
	}
	quiet := j.plan.Quiet == plan.QuietGoOn
	if watch == plan.Fewer && s.Gap == guard.NoneYet {
		return crossing.Lacking(crossing.LackBaseline{OfGuard: of}), !quiet
	}
	if !watch.Compares() {
		return crossing.Lack{}, false
	}
	answers := crossing.LackAnswers{OfGuard: of, Need: guard.Least(rule.Watch)}
	switch {
	case s.State == guard.Idle, s.State == "": // requests have just begun to go there
		return crossing.Lacking(answers), !quiet
	case s.State != guard.Unknown:
		return crossing.Lack{}, false
	case s.Gap == guard.TooFew:
		answers.Have = s.Trial.Of
		return crossing.Lacking(answers), !quiet
	case s.Gap == guard.FewClients:
		answers.Have, answers.Clients = s.Clients, true
		return crossing.Lacking(answers), !quiet
	case s.Gap == guard.NotCounted: // the prober's answers are evidence of their own
		watched := slices.ContainsFunc(j.plan.Guards, func(g plan.Guard) bool { return g.Watch == plan.Door && !g.Off })
		return crossing.Lacking(answers), !quiet && !watched
	case s.Gap == guard.NoBaseline:
		return crossing.Lacking(crossing.LackBaseline{OfGuard: of}), !quiet
	case s.Gap == guard.NotRead && rule.Watch == plan.Door:
		return crossing.Lacking(crossing.LackDoor{OfGuard: of, Said: j.door.LastLost()}), true
	}
	return crossing.Lack{}, false
}

// ofGuard is a guard that lacks something, and since when.
func (j *judgement) ofGuard(rule plan.Guard) crossing.OfGuard {
	return crossing.OfGuard{Guard: rule.Name, Since: j.lacking[lackKey{guard: rule.Name}]}
}

// lackKey names what is missing.
type lackKey struct {
	kind  string // "" of guards, whatever they lack
	side  split.Side
	guard string
}

func keyOf(l crossing.Lack) lackKey {
	if guard := crossing.GuardOf(l); guard != "" {
		return lackKey{guard: guard}
	}
	side, _ := crossing.SideOf(l)
	return lackKey{kind: l.Kind(), side: side}
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
		if crossing.Passes(l) {
			continue
		}
		limit := lapseAfter
		if oneof.IsA[crossing.LackAnswers](l) {
			limit = max(limit, j.state.Whole())
		}
		lapsed = lapsed || at.Sub(since) >= limit
	}
	j.lacking = now
	return lapsed
}

package guard

import (
	"math"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// doorSilence is for how long a prober may hear nothing at all until the door counts as not
// read, beyond what it gives a request.
const doorSilence = 5 * time.Second

// atSides is what came of the prober's requests, by side.
type atSides struct {
	trial, live evidence.Count
	named       bool // it is known which side they went to
}

// atDoor tells whose the requests since a time were. Where all go to one side, all were that
// side's. Else an answer names its side; a request that got none names nobody, and is the
// target's only as far as the target cannot have lost fewer: of so many requests it should
// have got its share, and has answered too few for that. The rest is taken for the live
// side's, so that nothing is said of the target that may be the other's. That counts since
// the share was changed last: before, it should have got another part. Where there was no
// connection to the front, what hung may have hung on the way there, and is nobody's.
func atDoor(f Facts, since time.Time) atSides {
	whole := f.Door.Over(since)
	d := whole
	if begun := f.Changed.Add(time.Second); since.Before(begun) { // later than what was under way then
		d = f.Door.Over(begun)
	}
	if f.alone() {
		whole = d
	}
	target, other := d.Sides[f.Target], d.Sides[f.Target.Other()]
	a := atSides{named: true, trial: tally(whole.Sides[f.Target]), live: tally(whole.Sides[f.Target.Other()])}
	nobody := d.Nobody
	// then nobody was there
	if stood := f.Series.Stood(f.Target.Other()); f.Share < split.Whole && (stood.IsZero() || stood.After(d.At)) {
		nobody = reading.Tally{}
		if !stood.IsZero() {
			nobody = f.Door.Over(stood).Nobody
		}
	}
	if d.Unreached > 0 {
		nobody.Of -= nobody.Bad
		nobody.Bad = 0
	}
	switch {
	case f.alone():
		a.trial = a.trial.Plus(tally(nobody))
	case f.Share == 0:
		a.live = a.live.Plus(tally(nobody))
	case target.Of+other.Of == 0 && nobody.Of > nobody.Bad:
		a.named = false
	default:
		all := target.Of + other.Of + nobody.Bad
		at := evidence.Count{Bad: target.Of, Of: all}
		least := int64(math.Floor(float64(all) * (f.Share.Fraction() - evidence.Rate(at, doorMiss).High)))
		lost := min(max(least, 0), nobody.Bad)
		a.trial = a.trial.Plus(evidence.Count{Bad: lost, Of: lost})
		a.live = a.live.Plus(evidence.Count{Bad: nobody.Bad - lost, Of: nobody.Bad - lost})
	}
	return a
}

// doorMiss is the chance that more is taken for the target's than was.
const doorMiss = 0.001

func tally(t reading.Tally) evidence.Count { return evidence.Count{Bad: t.Bad, Of: t.Of} }

// lastSecond is the end of the last second of the door log that is over.
func lastSecond(d reading.Door) time.Time { return d.At.Truncate(time.Second) }

// takeDoor has the guard on the door take in the seconds that are over: what was bad in them by the
// side that gave it, and, as some requests get no answer that names a side, by how many answers
// each side gave of those that it should have.
func (g *Guards) takeDoor(rule plan.Guard, st *state, f Facts) {
	e := st.evidence
	part := f.Share.Fraction()
	for _, s := range f.Door.Ended {
		if end := s.At.Add(time.Second); end.After(lastSecond(f.Door)) || !end.After(g.takenDoor) {
			continue
		}
		if f.Unreached {
			continue
		}
		if !f.Changed.IsZero() && s.At.Before(f.Changed.Add(time.Second)) || part > 0 && f.Since.IsZero() {
			continue // what was under way then
		}
		trial, live, nobody := tally(s.Sides[f.Target]), tally(s.Sides[f.Target.Other()]), tally(s.Nobody)
		if s.Unreached > 0 { // what hung may have hung on the way there
			nobody = evidence.Count{Bad: 0, Of: nobody.Of - nobody.Bad}
		}
		if part > 0 {
			mine := trial
			if f.alone() {
				mine = trial.Plus(nobody)
			}
			st.since = st.since.Plus(evidence.Block{Live: live, Trial: mine})
		}
		switch {
		case part == 0:
			all := live
			// before, it was nobody's
			if stood := f.Series.Stood(f.Target.Other()); !stood.IsZero() && s.At.After(stood) {
				all = live.Plus(nobody)
			}
			e.pass(0, s.At, all)
			e.Near[0].Learn(all)
			e.Near[1].Learn(all)
		case f.alone():
			if b, ok := kept(f.Baselines, rule.Name, 0); ok && b.Count.Of > 0 {
				e.alone(0, trial.Plus(nobody), b.High, g.blocks(rule, Probes))
			}
		case f.Tells.Both && !f.Control:
			e.none(rule)
			e.pass(0, s.At, live)
			e.add(0, evidence.Block{Live: live, Trial: trial}, part)
			// else good answers name no side either, or more was lost on the way there
			if nobody.Of == nobody.Bad && s.Unreached == 0 {
				e.Near[1].AddUnnamed(evidence.Unnamed{Live: live.Of - live.Bad, Trial: trial.Of - trial.Bad,
					Bad: live.Bad + trial.Bad + nobody.Bad}, part)
			}
		}
	}
}

// doorBlind is what keeps a guard on the door from judging at all, "" if nothing does.
func doorBlind(rule plan.Guard, f Facts, since time.Time) Gap {
	last := f.Door.Over(f.Now.Add(-doorSilence - rule.After))
	switch {
	case last.Sides[0].Of+last.Sides[1].Of+last.Nobody.Of == 0:
		return NotRead
	case !f.Tells.Both && !f.alone():
		return OneClient
	case !atDoor(f, since).named:
		return NotNamed
	}
	return ""
}

const (
	// shutFor is how long after a change of the share, and shutLeast how many of the prober's requests, have to have
	// come to no answer at all for the door to be taken for shut by that change: a proxy that is started again takes
	// less.
	shutFor   = 6 * time.Second
	shutLeast = 20
)

// shut reports whether nobody has had any answer at the front since the share was changed: no side can be blamed by
// it, and home, where there were answers, is the way out.
func shut(f Facts) bool {
	if f.Changed.IsZero() || f.Now.Sub(f.Changed) < shutFor || f.Share == 0 {
		return false
	}
	before := f.Door.Over(f.Changed.Add(-lately))
	since := f.Door.Over(f.Changed.Add(time.Second))
	named := since.Sides[0].Of + since.Sides[1].Of // by instances that answered, however badly
	return since.Of() >= shutLeast && since.Good() == 0 && named == 0 && before.Good() > 0
}

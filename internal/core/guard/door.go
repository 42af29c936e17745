package guard

import (
	"math"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/reading"
	"vaiven/internal/plan"
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
	if d.Unreached > 0 {
		nobody.Of -= nobody.Bad
		nobody.Bad = 0
	}
	switch {
	case f.alone():
		a.trial = plus(a.trial, tally(nobody))
	case f.Share == 0:
		a.live = plus(a.live, tally(nobody))
	case target.Of+other.Of == 0 && nobody.Of > nobody.Bad:
		a.named = false
	default:
		all := target.Of + other.Of + nobody.Bad
		at := evidence.Count{Bad: target.Of, Of: all}
		least := int64(math.Floor(float64(all) * (f.Share.Fraction() - evidence.Rate(at, doorMiss).High)))
		lost := min(max(least, 0), nobody.Bad)
		a.trial = plus(a.trial, evidence.Count{Bad: lost, Of: lost})
		a.live = plus(a.live, evidence.Count{Bad: nobody.Bad - lost, Of: nobody.Bad - lost})
	}
	return a
}

// doorMiss is the chance that more is taken for the target's than was.
const doorMiss = 0.001

func tally(t reading.Tally) evidence.Count { return evidence.Count{Bad: t.Bad, Of: t.Of} }

func plus(a, b evidence.Count) evidence.Count {
	return evidence.Count{Bad: a.Bad + b.Bad, Of: a.Of + b.Of}
}

// doorBlind is what keeps a guard on the door from judging at all, "" if nothing does.
func doorBlind(rule plan.Guard, f Facts, since time.Time) Lack {
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

package engine

import (
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
)

// terms are those of the crossing that is under way, or of one by the plan.
func (k *sight) terms() guard.Terms {
	legs, keep := k.plan.Route, k.plan.Keep
	if k.state.Stage.UnderWay() {
		legs, keep = k.state.Route, k.state.Keep
	}
	return guard.Terms{Alpha: 1 - k.plan.Sure, Seconds: int(lasts(k.plan, legs, keep).Seconds()),
		Blocks: planned(k.plan, legs, keep), Restarts: k.state.Resumed}
}

// planned is how many readings of the front a route is to have until the old side may be retired.
func planned(p *plan.Plan, legs route.Route, keep time.Duration) int {
	return int(lasts(p, legs, keep) / FrontEvery)
}

// lasts is how long a route takes.
func lasts(p *plan.Plan, legs route.Route, keep time.Duration) time.Duration {
	_, each := p.Remembered()
	return legs.Forecast(keep, each).Total
}

// guarding is what the guard on failing answers goes by on the way that is under way, or the plan's.
func (k *sight) guarding() forecast.Guarding {
	legs, keep := k.plan.Route, k.plan.Keep
	if k.state.Stage.UnderWay() {
		legs, keep = k.state.Route, k.state.Keep
	}
	return Guarding(k.plan, legs, keep)
}

// Guarding is what the plan's guard on failing answers goes by on a route.
func Guarding(p *plan.Plan, legs route.Route, keep time.Duration) forecast.Guarding {
	failing, _ := p.Guard(plan.Failing)
	return forecast.Guarding{Margin: failing.Margin, Level: guard.Level(p.Guards, 1-p.Sure),
		Blocks: planned(p, legs, keep), Together: p.Front.Together()}
}

// Evidence is what the guards that compare have come to since the crossing began.
func (j *judgement) Evidence() []guard.Story { return j.guards.Stories() }

// unsure are the guards that have not excluded the fault that they are to find on this leg. A
// person may go on without a guard's judgement.
func (j *judgement) unsure() []crossing.Unsure {
	if _, until := j.state.UntilSure(); !until {
		return nil
	}
	return guard.Unsure(j.statuses)
}

// sure reports whether a leg that lasts until sure has lasted long enough.
func (j *judgement) sure() bool {
	least, until := j.state.UntilSure()
	return until && j.judged.After(j.state.Since) && j.state.Whole()-j.left >= least && len(j.statuses) > 0 &&
		len(j.unsure()) == 0
}

// Ends is when a leg that lasts until sure will probably end, counted from now, and whether that can be
// told. It is no longer than what is left of it.
func (v View) Ends() (in time.Duration, known bool) {
	least, until := v.Crossing.UntilSure()
	if !until {
		return v.Left, true
	}
	spent := v.Crossing.Whole() - v.Left
	in = max(least-spent, 0)
	for _, u := range v.Sure.Unsure {
		if u.In == 0 {
			return v.Left, false
		}
		in = max(in, u.In-spent)
	}
	return min(in, v.Left), true
}

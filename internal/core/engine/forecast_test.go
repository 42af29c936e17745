package engine

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

// drawn is how many of so many requests come to something, each with the same chance.
func drawn(r *rand.Rand, of int64, chance float64) (n int64) {
	for range of {
		if r.Float64() < chance {
			n++
		}
	}
	return n
}

// What the page of the route says of a bad release is what happens: crossings by the whole engine, with answers drawn
// one by one at a rate that has its ups and downs, are rolled back by the guard, and nine of ten cost no more than
// was said of nine of ten.
func TestWhatABadReleaseCosts(t *testing.T) {
	runs := max(*crossings/40, 10) // 50 of each fault with -crossings=2000
	r := rand.New(rand.NewPCG(testkit.Rand(t).Uint64(), 1))
	const rate, failing = 200, 0.002
	for n, fault := range forecast.Faults[2:] {
		under, found, sooner := 0, 0, 0
		for range runs {
			b := newBench(t, func(p *plan.Plan) {
				p.Route = route.Route{{Part: 1000, Dwell: 2 * time.Minute}, {Part: 5000, Dwell: 2 * time.Minute},
					{Part: split.Whole}}
				p.Guards = []plan.Guard{{Name: "failing", Watch: plan.Failing, Margin: 0.005, Find: 0.01,
					Then: plan.RollBack}}
				p.Keep = 2 * time.Minute
			})
			bad := 0.0
			step := func() {
				b.now = b.now.Add(forecast.Every)
				all := drawn(r, 2*rate*int64(forecast.Every/time.Millisecond)/1000, 0.5*(0.7+0.6*r.Float64()))
				green := drawn(r, all, b.front.Split.Share.Fraction())
				for side, of := range [...]int64{split.Blue: all - green, split.Green: green} {
					side := split.Side(side)
					if len(b.front.Sides[side].Instances) == 0 {
						continue
					}
					chance := failing
					if side == split.Green {
						chance += fault
					}
					c := &b.front.Sides[side].Instances[0]
					lost := drawn(r, of, chance)
					c.Requests, c.Status[5] = c.Requests+of, c.Status[5]+lost
					if side == split.Green {
						bad += float64(lost)
					}
				}
				b.look()
			}
			for range 240 {
				step()
			}
			v := b.e.View(b.now)
			q := forecast.Question{Traffic: v.Traffic, Guarding: v.Guarding, Target: split.Green,
				Keep: 2 * time.Minute, Find: 0.01, Certainty: 0.99}
			said := q.Weigh(b.e.plan.Route).Whole[n+2] // of this crossing
			b.shifts()
			begun := b.now
			for b.now.Before(begun.Add(6*time.Minute)) && !b.e.State().GoingBack && !b.e.State().Stage.Over() {
				for _, o := range b.e.Orders() {
					if o.Do == crossing.TaskMove {
						b.moves(o)
					}
				}
				step()
			}
			if s := b.e.State(); !s.GoingBack && s.Stage != crossing.RolledBack {
				continue
			}
			found++
			if bad <= said.Most {
				under++
			}
			if b.now.Sub(begun).Seconds() <= said.After {
				sooner++
			}
		}
		t.Logf("a fault of %g: of %d crossings %d were rolled back, %d cost at most what was said of nine in ten, %d by "+
			"the time said of half", fault, runs, found, under, sooner)
		// Each bound is three standard deviations of the binomial distribution from what is said.
		within := func(got int, said float64) bool {
			return math.Abs(float64(got)-said*float64(runs)) <= 3*math.Sqrt(said*(1-said)*float64(runs))
		}
		if found < runs*97/100 || !within(under, 0.9) || !within(sooner, 0.5) {
			t.Errorf("a fault of %g: found %d, under %d, sooner %d of %d", fault, found, under, sooner, runs)
		}
	}
}

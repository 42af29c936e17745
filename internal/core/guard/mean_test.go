package guard

import (
	"math/rand/v2"
	"testing"
	"time"

	"vaiven/internal/core/figures"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Where a front tells only what answers took on average, a guard on slow ones goes by that: it finds that each
// twentieth takes two seconds, and not that both sides are slow, or as quick as each other.
func TestSlowOnAverage(t *testing.T) {
	rule := plan.Guard{Name: "slow", Watch: plan.Slow, Margin: 0.01, Find: 0.02, Then: plan.RollBack}
	took := func(r *rand.Rand, slow float64) time.Duration {
		d := 5*time.Millisecond + time.Duration(r.ExpFloat64()*9*float64(time.Millisecond))
		if r.Float64() < slow {
			d += 2 * time.Second
		}
		return d
	}
	for _, c := range []struct {
		name  string
		slow  [2]float64 // the part that is, by side, once the target gets requests
		trips int        // in how many runs of 40
	}{
		{"as quick", [2]float64{}, 0},
		{"each twentieth slow", [2]float64{0, 0.05}, 39},
		{"all slow by half of what is usual", [2]float64{0.05, 0.05}, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			trips := 0
			for seed := range uint64(40) {
				r := rand.New(rand.NewPCG(seed, 11))
				g := New([]plan.Guard{rule}, Terms{Alpha: 0.01, Seconds: 2000, Blocks: 2000})
				var series figures.Series
				counts := [2]reading.Count{{Server: reading.Server{Name: "blue-1"}},
					{Server: reading.Server{Name: "green-1"}}}
				now, since, share := start, time.Time{}, split.Share(0)
				var s Status
				for second := range 100 {
					if now = now.Add(time.Second); second == 40 {
						since, share = now, 2500
					}
					of := [2]int{150, 0}
					if share > 0 {
						of = [2]int{112, 38}
					}
					front := reading.Front{At: now, Split: reading.Split{Share: share},
						Tells: reading.Capabilities{Counts: true, Means: true, Both: true}}
					for side := range counts {
						slow := 0.0
						if share > 0 {
							slow = c.slow[side]
						}
						for range of[side] {
							counts[side].Took += took(r, slow)
						}
						counts[side].Requests += int64(of[side])
						front.Sides[side] = reading.Side{Instances: []reading.Count{counts[side]}}
					}
					if err := series.Add(front); err != nil {
						t.Fatal(err)
					}
					s = g.Evaluate(Facts{Now: now, Since: since, Changed: since, Target: split.Green, Share: share,
						Series: &series, FrontRead: true, Tells: front.Tells})[0]
					if s.State == Tripped {
						trips++
						break
					}
				}
				if s.Watch != plan.Higher || s.Figure != MeanFigure {
					t.Fatalf("it is %+v", s)
				}
			}
			if c.trips == 0 && trips > 0 || trips < c.trips {
				t.Errorf("%d of 40 runs trip, want %d", trips, c.trips)
			}
		})
	}
}

package evidence

import (
	"math/rand/v2"
	"testing"
	"time"

	"vaiven/lab/testkit"
)

// A rate that has come up and gone down three times is one that wanders; chance, a rise and two incidents are not.
func TestSwings(t *testing.T) {
	seed := testkit.Seed(t)
	start := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		rate     func(minute int) float64
		from, to float64
	}{
		"independent": {func(int) float64 { return 0.01 }, 0, 0},
		"nothing":     {func(int) float64 { return 0 }, 0, 0},
		"a rise":      {func(m int) float64 { return 0.001 * float64(1+m) }, 0, 0},
		"incidents": {func(m int) float64 {
			if m/5 == 3 || m/5 == 8 {
				return 0.2
			}
			return 0.001
		}, 0, 0},
		"waves": {func(m int) float64 {
			if m%12 < 3 {
				return 0.03
			}
			return 0.002
		}, 0.03, 0.05},
	} {
		var s Swings
		r := rand.New(rand.NewPCG(seed, 0))
		for second := range 3600 {
			step := Count{Of: 100}
			for range step.Of {
				if r.Float64() < c.rate(second/60) {
					step.Bad++
				}
			}
			s.Learn(start.Add(time.Duration(second)*time.Second), step)
		}
		if h := s.Highest(); h < c.from || h > c.to || len(s.Seen) > 120 {
			t.Errorf("%s: up to %v, by %d blocks", name, h, len(s.Seen))
		}
	}
	var s Swings
	for n := range 10_000 {
		s.Learn(start.Add(time.Duration(n)*time.Minute), Count{Bad: 1, Of: 10})
	}
	if len(s.Seen) != mostSwings {
		t.Errorf("%d blocks are kept", len(s.Seen))
	}
}

package evidence

import (
	"math"
	"testing"

	"vaiven/lab/testkit"
)

func near(a, b, by float64) bool { return math.Abs(a-b) <= by }

// Values from the tables of Clopper and Pearson's method at 95 %.
func TestExactIntervalAgreesWithTables(t *testing.T) {
	for _, c := range []struct {
		count     Count
		low, high float64
	}{
		{Count{0, 10}, 0, 0.3085},
		{Count{5, 10}, 0.1871, 0.8129},
		{Count{10, 10}, 0.6915, 1},
		{Count{1, 100}, 0.0003, 0.0545},
		{Count{0, 0}, 0, 1},
		{Count{3, 2}, 0, 1},
	} {
		got := Exact(c.count, 0.05)
		if !near(got.Low, c.low, 0.0001) || !near(got.High, c.high, 0.0001) {
			t.Errorf("Exact(%v) = %.4f to %.4f, want %.4f to %.4f", c.count, got.Low, got.High, c.low, c.high)
		}
	}
}

func TestRateHoldsTheObservedRateAndNarrows(t *testing.T) {
	before := 2.0
	for _, n := range []int64{0, 1, 10, 100, 1000, 10_000, 1_000_000} {
		c := Count{n / 5, n}
		i := Rate(c, 0.01)
		if i.Low > c.Rate() || i.High < c.Rate() {
			t.Errorf("Rate(%v) = %v does not hold %v", c, i, c.Rate())
		}
		if width := i.High - i.Low; width > before {
			t.Errorf("Rate(%v) is wider than with fewer answers: %v after %v", c, width, before)
		} else {
			before = width
		}
	}
}

// The promise that makes a guard possible: looked at after every single answer,
// the interval ever misses the true rate in at most alpha of all runs.
func TestRateIsAlwaysValid(t *testing.T) {
	const alpha, runs, answers = 0.05, 200, 300
	r := testkit.Rand(t)
	for _, truth := range []float64{0.002, 0.05, 0.5} {
		missed := 0
		for range runs {
			var c Count
			for range answers {
				c.Of++
				if r.Float64() < truth {
					c.Bad++
				}
				if i := Rate(c, alpha); truth < i.Low || truth > i.High {
					missed++
					break
				}
			}
		}
		// Five standard deviations above what is allowed.
		most := runs*alpha + 5*math.Sqrt(runs*alpha*(1-alpha))
		if float64(missed) > most {
			t.Errorf("at a true rate of %v, %d of %d runs missed it at some time, at most %.0f may", truth, missed,
				runs, most)
		}
	}
}

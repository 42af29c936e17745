package evidence

import (
	"math"
	"testing"

	"vaiven/internal/testkit"
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
			t.Errorf("at a true rate of %v, %d of %d runs missed it at some time, at most %.0f may", truth, missed, runs, most)
		}
	}
}

func TestCompare(t *testing.T) {
	b := Bound{Margin: 0.005, Sure: 0.99, AtLeast: 50}
	for _, c := range []struct {
		name            string
		baseline, trial Count
		want            Verdict
	}{
		{"three failures of three prove nothing", Count{0, 1000}, Count{3, 3}, TooFew},
		{"no answers at all", Count{}, Count{}, TooFew},
		{"both fine", Count{5, 5000}, Count{0, 300}, NoSign},
		{"both equally bad", Count{500, 5000}, Count{30, 300}, NoSign},
		{"worse, but within the margin", Count{10, 100_000}, Count{40, 10_000}, NoSign},
		{"a handful of failures among few", Count{2, 2000}, Count{4, 60}, Watching},
		{"plainly worse", Count{2, 2000}, Count{40, 200}, Worse},
		{"all fail", Count{2, 2000}, Count{50, 50}, Worse},
		{"nothing to compare with, and bad", Count{}, Count{60, 300}, NoBaseline},
		{"nothing to compare with, and fine", Count{}, Count{0, 300}, NoBaseline},
		{"better than the live side", Count{300, 3000}, Count{0, 300}, NoSign},
	} {
		got := Compare(c.baseline, c.trial, b)
		if got.Verdict != c.want {
			t.Errorf("%s: %v (%.3f sure), want %v", c.name, got.Verdict, got.Sure, c.want)
		}
		if got.Verdict == Watching && got.More <= 0 {
			t.Errorf("%s: it does not say how many more answers it takes", c.name)
		}
	}
}

// An A/A comparison looked at again and again must almost never alarm.
func TestCompareSeldomAlarmsWithoutCause(t *testing.T) {
	r := testkit.Rand(t)
	b := Bound{Margin: 0, Sure: 0.95, AtLeast: 20}
	const runs = 100
	alarms := 0
	for range runs {
		var blue, green Count
		for n := range 600 {
			side := &blue
			if n%4 == 0 {
				side = &green
			}
			side.Of++
			if r.Float64() < 0.05 {
				side.Bad++
			}
			if n%10 == 0 && Compare(blue, green, b).Verdict == Worse {
				alarms++
				break
			}
		}
	}
	if alarms > 16 { // five standard deviations above 5 %
		t.Errorf("%d of %d comparisons of equals alarmed", alarms, runs)
	}
}

func TestAnswersToSeeIsEnoughAndNotTooMany(t *testing.T) {
	b := Bound{Margin: 0.005, Sure: 0.99, AtLeast: 50}
	for _, ratio := range []float64{0.5, 1, 9, 19} {
		n := AnswersToSee(0.001, 0.05, ratio, b)
		if n == 0 {
			t.Fatalf("a fault of 5 %% would never be seen at ratio %v", ratio)
		}
		at := func(n int64) Verdict {
			trial := Count{int64(math.Round(0.051 * float64(n))), n}
			baseline := Count{int64(math.Round(0.001 * float64(n) * ratio)), int64(math.Round(float64(n) * ratio))}
			return Compare(baseline, trial, b).Verdict
		}
		if got := at(n + n/10); got != Worse {
			t.Errorf("ratio %v: with %d answers the verdict is %v", ratio, n, got)
		}
		if got := at(n / 2); got == Worse {
			t.Errorf("ratio %v: half of %d answers would do", ratio, n)
		}
	}
	if n := AnswersToSee(0.001, 0.004, 1, b); n != 0 {
		t.Errorf("a fault below the margin is said to be seen after %d answers", n)
	}
}

func BenchmarkCompare(b *testing.B) {
	b.ReportAllocs()
	for b.Loop() {
		Compare(Count{8, 40_000}, Count{19, 2_000}, Bound{Margin: 0.005, Sure: 0.99, AtLeast: 50})
	}
}

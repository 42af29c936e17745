package evidence

import (
	"math"

	"gonum.org/v1/gonum/mathext"
)

// Count is a number of answers and how many of them were bad.
type Count struct {
	Bad int64 `json:"bad"`
	Of  int64 `json:"of"`
}

// Rate is the bad fraction, 0 when there were no answers.
func (c Count) Rate() float64 {
	if c.Of == 0 {
		return 0
	}
	return float64(c.Bad) / float64(c.Of)
}

// Scale is the count as it would be after f times as many answers at the same
// rate.
func (c Count) Scale(f float64) Count {
	return Count{Bad: int64(math.Round(float64(c.Bad) * f)), Of: int64(math.Round(float64(c.Of) * f))}
}

// Interval is a range of rates, both ends in [0, 1].
type Interval struct {
	Low  float64 `json:"low"`
	High float64 `json:"high"`
}

// Rate bounds the true bad rate behind a count so that, over the whole life of
// a growing count, the bounds ever miss it with probability at most alpha.
//
// It is the confidence sequence from a mixture of likelihood ratios: a rate p is
// ruled out once ∫ L(q) dBeta(q; ½, ½) / L(p) exceeds 1/alpha, which under p
// happens with probability at most alpha at any time whatever (Ville's
// inequality). Robbins, "Statistical methods related to the law of the iterated
// logarithm", Ann. Math. Stat. 41 (1970).
func Rate(c Count, alpha float64) Interval {
	if c.Of <= 0 || c.Bad < 0 || c.Bad > c.Of {
		return Interval{0, 1}
	}
	bad, good := float64(c.Bad), float64(c.Of-c.Bad)
	mixture := logBeta(bad+0.5, good+0.5) - logBeta(0.5, 0.5)
	limit := mixture + math.Log(alpha)
	// Possible is where the log likelihood of p is at least the limit. It is
	// concave with its top at the observed rate, so each end is found by bisection.
	possible := func(p float64) bool {
		return xlogy(bad, p)+xlogy(good, 1-p) >= limit
	}
	seen := c.Rate()
	var i Interval
	if !possible(0) {
		i.Low = bisect(0, seen, possible)
	}
	i.High = 1
	if !possible(1) {
		i.High = bisect(1, seen, possible)
	}
	return i
}

// bisect finds the border between outside, where ok is false, and inside, where
// it is true, to about 2⁻⁴⁰, and returns a point that is not ok: the interval is
// never too narrow.
func bisect(outside, inside float64, ok func(float64) bool) float64 {
	for range 40 {
		middle := (outside + inside) / 2
		if ok(middle) {
			inside = middle
		} else {
			outside = middle
		}
	}
	return outside
}

func logBeta(a, b float64) float64 {
	la, _ := math.Lgamma(a)
	lb, _ := math.Lgamma(b)
	lab, _ := math.Lgamma(a + b)
	return la + lb - lab
}

// xlogy is x·log y with 0·log 0 = 0.
func xlogy(x, y float64) float64 {
	if x == 0 {
		return 0
	}
	return x * math.Log(y)
}

// Bound is what counts as worse, and how sure one has to be.
type Bound struct {
	Margin  float64 `json:"margin"`   // how much higher the rate on trial may be, as a fraction
	Sure    float64 `json:"sure"`     // needed certainty, such as 0.99
	AtLeast int64   `json:"at_least"` // answers needed on the side on trial before anything is said
}

// Verdict is what a comparison comes to.
type Verdict string

// The verdicts, from "know nothing" to "know it is bad".
const (
	TooFew     Verdict = "too few"     // not enough answers to say anything
	NoBaseline Verdict = "no baseline" // nothing to compare with
	NoSign     Verdict = "no sign"     // nothing points to it
	Watching   Verdict = "watching"    // more likely than not, but not sure enough
	Worse      Verdict = "worse"       // sure enough
)

// Comparison is the outcome of Compare.
type Comparison struct {
	Verdict  Verdict  `json:"verdict"`
	Sure     float64  `json:"sure"` // certainty that the trial is worse by more than the margin, in [0, 1)
	Baseline Interval `json:"baseline"`
	Trial    Interval `json:"trial"`
	// More is how many times the present answers are still needed until the
	// verdict would be Worse at the present rates; 0 when it never would, or
	// already is.
	More float64 `json:"more,omitempty"`
}

// Compare asks whether the trial's rate is higher than the baseline's by more
// than the margin. With no baseline at all there is no verdict.
func Compare(baseline, trial Count, b Bound) Comparison {
	alpha := 1 - b.Sure
	c := Comparison{Baseline: Rate(baseline, alpha/2), Trial: Rate(trial, alpha/2)}
	if trial.Of < b.AtLeast || trial.Of == 0 {
		c.Verdict = TooFew
		return c
	}
	if baseline.Of == 0 {
		c.Verdict = NoBaseline
		return c
	}
	c.Sure = sureWorse(baseline, trial, b.Margin)
	switch {
	case c.Sure >= b.Sure:
		c.Verdict = Worse
	case c.Sure >= 0.5:
		c.Verdict = Watching
		c.More = factorUntilSure(baseline, trial, b)
	default:
		c.Verdict = NoSign
	}
	return c
}

// separated reports whether the two intervals at level alpha, split evenly
// between the sides, lie apart by more than the margin.
func separated(baseline, trial Count, margin, alpha float64) bool {
	high := 0.0
	if baseline.Of > 0 {
		high = Rate(baseline, alpha/2).High
	}
	return Rate(trial, alpha/2).Low-high > margin
}

// sureWorse is the highest certainty at which the intervals are still separated
// by the margin. It looks for the smallest alpha on a logarithmic scale down to
// 10⁻⁶.
func sureWorse(baseline, trial Count, margin float64) float64 {
	if trial.Rate()-baseline.Rate() <= margin {
		return 0
	}
	const weakest, strongest = -0.0001, -6.0 // powers of ten of alpha
	if !separated(baseline, trial, margin, math.Pow(10, weakest)) {
		return 0
	}
	low, high := strongest, weakest
	for range 24 {
		middle := (low + high) / 2
		if separated(baseline, trial, margin, math.Pow(10, middle)) {
			high = middle
		} else {
			low = middle
		}
	}
	return 1 - math.Pow(10, high)
}

// factorUntilSure is how many times the present counts it takes beyond those
// already there, found by doubling and halving; 0 when 64 times would not do.
func factorUntilSure(baseline, trial Count, b Bound) float64 {
	enough := func(f float64) bool {
		return separated(baseline.Scale(f), trial.Scale(f), b.Margin, 1-b.Sure)
	}
	high := 2.0
	for !enough(high) {
		if high *= 2; high > 64 {
			return 0
		}
	}
	low := high / 2
	for range 8 {
		if middle := (low + high) / 2; enough(middle) {
			high = middle
		} else {
			low = middle
		}
	}
	return high - 1
}

// AnswersToSee is how many answers on trial it takes, on average, until a fault
// that raises the bad rate from base to base+fault is seen for sure, when the
// baseline gets ratio times as many answers as the trial. It is 0 when a million
// answers would not show it.
func AnswersToSee(base, fault, ratio float64, b Bound) int64 {
	seen := func(n int64) bool {
		trial := Count{Bad: int64(math.Round((base + fault) * float64(n))), Of: n}
		m := float64(n) * ratio
		return separated(Count{Bad: int64(math.Round(base * m)), Of: int64(math.Round(m))}, trial, b.Margin, 1-b.Sure)
	}
	const most = 1_000_000
	high := max(b.AtLeast, 1)
	for !seen(high) {
		if high *= 2; high > most {
			return 0
		}
	}
	low := max(b.AtLeast, high/2)
	for low < high {
		if middle := (low + high) / 2; seen(middle) {
			high = middle
		} else {
			low = middle + 1
		}
	}
	return high
}

// Exact is the interval for a rate from one count that is looked at once: the
// chance that it misses the true rate is at most alpha, whatever the rate
// (Clopper and Pearson, Biometrika 26, 1934).
func Exact(c Count, alpha float64) Interval {
	i := Interval{0, 1}
	if c.Of <= 0 || c.Bad < 0 || c.Bad > c.Of {
		return i
	}
	bad, good := float64(c.Bad), float64(c.Of-c.Bad)
	if c.Bad > 0 {
		i.Low = mathext.InvRegIncBeta(bad, good+1, alpha/2)
	}
	if c.Bad < c.Of {
		i.High = mathext.InvRegIncBeta(bad+1, good, 1-alpha/2)
	}
	return i
}

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

// Plus is both counts together.
func (c Count) Plus(d Count) Count { return Count{Bad: c.Bad + d.Bad, Of: c.Of + d.Of} }

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
		return xlog(bad, p)+xlog(good, 1-p) >= limit
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

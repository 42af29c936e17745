package evidence

import (
	"math"

	"gonum.org/v1/gonum/mathext"
)

// Fewer is the evidence that a side comes to fewer of something for each of its requests than the
// other does, by more than a margin: bookings, say. What both sides come to together in a block is
// taken as it is, so that the time of day cancels out: of N, the side on trial, with a share s of
// the requests and a ratio ρ to what the live side comes to, has a binomial part of them,
//
//	x ~ Binomial(N, s·ρ / (s·ρ + 1 − s))
//
// which is likelier to be small the smaller ρ is. The hypothesis is ρ ≥ 1 − margin, and the ratio of
// likelihoods against its border has an expectation of at most 1 under all of it. Make it with
// [NewFewer]. Its fields are there to be written and read back.
type Fewer struct {
	Margin float64 `json:"margin"` // as a fraction
	Noise  Noise   `json:"noise"`  // of earlier blocks
	Sum    Shared  `json:"sum"`
	Bets
}

// lessBy are the differences that are bet on, as fractions beyond the margin.
var lessBy = []float64{0.03, 0.08, 0.2, 0.4, 0.8}

// NewFewer makes evidence that has seen nothing, for about as many blocks as will be added.
func NewFewer(margin float64, horizon int) *Fewer {
	return &Fewer{Margin: margin, Bets: newBets(len(lessBy), horizon)}
}

// Add takes a block in: what each side came to, and the share of the requests that the side on trial had,
// in (0, 1). Blocks in which nothing was counted say nothing.
func (f *Fewer) Add(b Counted, share float64) {
	f.Sum.add(b, share)
	if b.Live+b.Trial == 0 || share <= 0 || share >= 1 {
		return
	}
	calm := f.Noise.Factor()
	null := partOf(1-f.Margin, share)
	f.take(func(n int) float64 {
		ratio := 1 - f.Margin - lessBy[n]
		if ratio <= 0 {
			return 0
		}
		p := partOf(ratio, share)
		return (xlog(float64(b.Trial), p/null) + xlog(float64(b.Live), (1-p)/(1-null))) / calm
	})
}

// partOf is the part of all that a side of a share has whose ratio to the other is given.
func partOf(ratio, share float64) float64 { return share * ratio / (share*ratio + 1 - share) }

// Counted is how many of something both sides came to over the same time.
type Counted struct{ Live, Trial int64 }

// Shared is what was counted over several blocks, and what the side on trial should have had of it.
type Shared struct {
	Live  float64 `json:"live"`
	Trial float64 `json:"trial"`
	Due   float64 `json:"due"` // for each that the live side came to
}

func (s *Shared) add(b Counted, share float64) {
	if share <= 0 || share >= 1 {
		return
	}
	s.Live, s.Trial = s.Live+float64(b.Live), s.Trial+float64(b.Trial)
	s.Due += float64(b.Live) * share / (1 - share)
}

// Ratio is that of both sides, what each comes to for its requests, with the range that it lies in at a level
// such as 0.05 and a noise as of [Noise.Factor]: the logarithm of a ratio of counts is about normal, and its
// variance the sum of their inverses. It is 1, in a range of all, as long as either side has come to nothing.
func (s Shared) Ratio(level, noise float64) (ratio float64, in Interval) {
	if s.Live <= 0 || s.Due <= 0 || s.Trial <= 0 {
		return 1, Interval{0, math.Inf(1)}
	}
	ratio = s.Trial / s.Due
	wide := mathext.NormalQuantile(1-level/2) * math.Sqrt(noise*(1/s.Live+1/s.Trial))
	return ratio, Interval{ratio * math.Exp(-wide), ratio * math.Exp(wide)}
}

// Noise is by how much counts of instances that are alike differ from what chance alone makes of them: chi-squared
// over its degrees of freedom. What happens together, several bookings of one customer, makes it larger
// than 1. The zero value is of nothing seen.
type Noise struct {
	Squared float64 `json:"squared"`
	Freedom float64 `json:"freedom"`
}

// calm is how many degrees of freedom of mere chance a noise that is not known yet is taken to have shown.
const calm = 30

// Learn takes in what instances that get as many requests each came to over the same time.
func (n *Noise) Learn(counts []int64) {
	sum := int64(0)
	for _, c := range counts {
		sum += c
	}
	if len(counts) < 2 || sum == 0 {
		return
	}
	mean := float64(sum) / float64(len(counts))
	for _, c := range counts {
		n.Squared += (float64(c) - mean) * (float64(c) - mean) / mean
	}
	n.Freedom += float64(len(counts) - 1)
}

// Factor is what a logarithm of likelihoods is to be divided by, 1 at least: with a power of one over it, or of
// less, an expectation of at most 1 stays one.
func (n Noise) Factor() float64 { return max(1, (n.Squared+calm)/(n.Freedom+calm)) }

package evidence

import "math"

// Bets are products of ratios of likelihoods, for several alternatives to one hypothesis, whenever
// those begin.
//
// For each alternative it keeps the product of the ratios from the start, and a
// sum of such products, one begun at each block with a part of 1 of its own, so that what was
// good before a fault does not have to be made up for (compare Shin, Ramdas and Rinaldo,
// "E-detectors", NEJSDS 2, 2024). The mean over the alternatives, of half of the one and half of the
// other, is below 1/α for ever with a chance of 1-α, as long as the hypothesis holds.
type Bets struct {
	Horizon int       `json:"horizon"`         // blocks that are planned
	Blocks  int       `json:"blocks"`          // blocks so far
	Whole   []float64 `json:"whole,omitempty"` // by alternative: the logarithm of the product from the start
	Begun   []float64 `json:"begun,omitempty"` // by alternative: the logarithm of the sum of those begun later
}

func newBets(alternatives, horizon int) Bets {
	b := Bets{Horizon: max(horizon, 1), Whole: make([]float64, alternatives), Begun: make([]float64, alternatives)}
	for n := range b.Begun {
		b.Begun[n] = nothing
	}
	return b
}

// nothing is the logarithm of what was not begun: it can be written, as minus infinity cannot.
const nothing = -1e300

// reserve is the part of all bets that is begun beyond the planned end.
const reserve = 0.1

// part is what the bet that begins with block k, from 0, begins with. All together are 1 at most:
// beyond the horizon they are the reserve times h/((h+j)·(h+j+1)), which adds up to it.
func (b *Bets) part(k int) float64 {
	h := float64(b.Horizon)
	if k < b.Horizon {
		return (1 - reserve) / h
	}
	j := float64(k - b.Horizon)
	return reserve * h / ((h + j) * (h + j + 1))
}

// take multiplies by what a block is worth for each alternative, as a logarithm.
func (b *Bets) take(worth func(n int) float64) {
	part := math.Log(b.part(b.Blocks))
	b.Blocks++
	for n := range b.Whole {
		v := worth(n)
		b.Whole[n] += v
		b.Begun[n] = logPlus(b.Begun[n], part) + v
	}
}

// Log is the logarithm of the evidence, 0 at the start.
func (b *Bets) Log() float64 {
	sum := math.Inf(-1)
	for n := range b.Whole {
		sum = logPlus(sum, logPlus(b.Whole[n], b.Begun[n]))
	}
	return sum - math.Log(float64(2*len(b.Whole)))
}

// Sure is the certainty that the hypothesis does not hold. See [SureOf].
func (b *Bets) Sure(part float64) float64 { return SureOf(b.Log(), part) }

package evidence

import (
	"math"
	"slices"
)

// beyond are the faults that are bet on, as rates beyond the margin.
var beyond = []float64{0.01, 0.02, 0.05, 0.12, 0.3, 0.7}

// Worse is the evidence that the rate on trial is higher than the live one by more than a
// margin, whenever that begins. Make it with [NewWorse]. Its fields are there to be written and
// read back, and for nothing else.
type Worse struct {
	Margin float64 `json:"margin"`
	Live   Base    `json:"live"`           // the live rate, of earlier blocks
	Again  Base    `json:"again,omitzero"` // of strata behind the first: theirs
	Bets
}

// NewWorse makes evidence that has seen nothing, for a margin as a fraction and about as many
// blocks as will be added. More may be: what is begun then has a smaller part.
func NewWorse(margin float64, horizon int) *Worse {
	return &Worse{Margin: margin, Bets: newBets(len(beyond), horizon)}
}

// Learn takes in what the live side answered while the other got nothing.
func (w *Worse) Learn(live Count) { w.Live.Learn(live) }

// Add takes a block in. One in which only one side answered says nothing of a difference.
func (w *Worse) Add(b Block) {
	if b.Both() {
		live, nb, ng := w.Live.Rate(), float64(b.Live.Of), float64(b.Trial.Of)
		w.bet(func(fault float64) float64 {
			return against(live, live+fault, w.Margin, nb, ng).log(b)
		}, live)
	}
	w.Live.Learn(b.Live)
}

// LearnStrata is [Worse.Learn] of strata.
func (w *Worse) LearnStrata(blocks []Block) {
	for n, b := range blocks {
		w.of(n).Learn(b.Live)
	}
}

// of is the live rate of a stratum. Those behind the first have one together: of each alone too little is known.
func (w *Worse) of(stratum int) *Base {
	if stratum == 0 {
		return &w.Live
	}
	return &w.Again
}

// AddStrata takes in a block of which the strata are independent of each other, as those are that hold different
// clients: for each the hypothesis is the same, so that the product of what they are worth is worth no more than 1 on
// average as long as it holds.
func (w *Worse) AddStrata(blocks []Block) {
	rates := [2]float64{w.Live.Rate(), w.Again.Rate()}
	if slices.ContainsFunc(blocks, Block.Both) {
		w.bet(func(fault float64) (worth float64) {
			for n, b := range blocks {
				if live := rates[min(n, 1)]; b.Both() && live+fault < 1 {
					worth += against(live, live+fault, w.Margin, float64(b.Live.Of), float64(b.Trial.Of)).log(b)
				}
			}
			return worth
		}, rates[0])
	}
	w.LearnStrata(blocks)
}

// Unnamed is a block of answers of which those that came to nothing good name no side.
type Unnamed struct{ Live, Trial, Bad int64 }

// AddUnnamed takes in a block in which the side on trial was to get a share of all requests, drawn
// for each: that it answered fewer than its share is what speaks against it. With the rates b and
// t of the sides, an answer is a good one of the live side with the chance (1-s)(1-b), a good one
// of the other with s(1-t), and else a bad one. These are linear in the rates, so that the
// hypothesis is a convex set here as well. It learns nothing of the live side: see [Worse.Learn].
func (w *Worse) AddUnnamed(u Unnamed, share float64) {
	if u.Live+u.Trial+u.Bad == 0 || share <= 0 || share >= 1 {
		return
	}
	base := w.Live.Rate()
	w.bet(func(fault float64) float64 {
		worth := unnamed(u, share, base, base+fault, w.Margin)
		if u.Bad == 0 { // it got fewer, and nobody was answered badly: that is no fault of its
			worth = min(worth, 0)
		}
		return worth
	}, base)
}

// unnamed is the logarithm of the ratio of the likelihoods of such a block.
func unnamed(u Unnamed, s, b, t, shift float64) float64 {
	bad := (1-s)*b + s*t
	low, high := 0.0, 1-shift
	for range 50 { // the slope of the relative entropy over q grows
		q := (low + high) / 2
		if (1-s)*(1-b)/(1-q)+s*(1-t)/(1-q-shift)-bad/(q+s*shift) > 0 {
			high = q
		} else {
			low = q
		}
	}
	q := (low + high) / 2
	return xlog(float64(u.Live), (1-b)/(1-q)) + xlog(float64(u.Trial), (1-t)/(1-q-shift)) + xlog(float64(u.Bad),
		bad/(q+s*shift))
}

// AddAgainst takes in what the side on trial answered while nothing ran beside it, against the
// rate that the live side is held to have at most.
func (w *Worse) AddAgainst(rate float64, trial Count) {
	if trial.Of == 0 {
		return
	}
	rate = min(max(rate, leastBase), 1)
	w.bet(func(fault float64) float64 { return logRatio(trial, rate+fault, rate+w.Margin) }, rate)
}

// bet multiplies by what a block is worth for each size of fault that there can be.
func (w *Worse) bet(worth func(fault float64) float64, base float64) {
	w.take(func(n int) float64 {
		if fault := w.Margin + beyond[n]; base+fault < 1 {
			return worth(fault)
		}
		return 0
	})
}

// Mean is evidence of several kinds as one: it is the mean of their values, given as logarithms.
// Whatever they have to do with each other, it is valid for the hypothesis that all of theirs hold.
func Mean(logs ...float64) float64 {
	sum := math.Inf(-1)
	for _, l := range logs {
		sum = logPlus(sum, l)
	}
	return sum - math.Log(float64(len(logs)))
}

// SureOf is the certainty that evidence comes to, given as a logarithm: that what it is evidence
// for holds, in [0, 1), where it may spend a part of the error that is allowed. Reached, it is wrong with a
// chance of one minus it times that part, however often one looks.
func SureOf(log, part float64) float64 { return max(0, 1-math.Exp(-log-math.Log(part))) }

// Flow is how many answers a second each side gives, and at which rate the live one's are bad.
type Flow struct{ Live, Trial, Base float64 }

// ToFind is how many seconds of such answers it takes at least, on average, until a fault of a
// size is found, at a level such as 0.01 for its part of the error: what information allows. It is
// infinite for what is not beyond the margin.
func (f Flow) ToFind(fault, margin, level float64) float64 {
	base := min(max(f.Base, leastBase), mostBase)
	if fault <= margin || f.Live <= 0 || f.Trial <= 0 || base+fault >= 1 {
		return math.Inf(1)
	}
	return -math.Log(level) / against(base, base+fault, margin, f.Live, f.Trial).information(f.Live, f.Trial)
}

// ToExclude is how many seconds of such answers it takes at least, on average, until a fault of a
// size is excluded, at a level such as 0.01.
func (f Flow) ToExclude(fault, level float64) float64 {
	base := min(max(f.Base, leastBase), mostBase)
	if fault <= 0 || f.Live <= 0 || f.Trial <= 0 || base+fault >= 1 {
		return math.Inf(1)
	}
	return -math.Log(level) / against(base, base, fault, f.Live, f.Trial).information(f.Live, f.Trial)
}

package evidence

import (
	"math"
	"slices"
)

// Sizes are the faults that [Excluded] looks for, beside the one that it is made with.
var Sizes = []float64{0.001, 0.002, 0.004, 0.007, 0.01, 0.015, 0.02, 0.03, 0.05, 0.07, 0.1, 0.15, 0.2, 0.3, 0.5}

// Excluded is the evidence against faults: for each size, against the rate on trial being higher
// than the live one by that or more. Make it with [NewExcluded]. Its fields are there to be
// written and read back.
type Excluded struct {
	Size []float64    `json:"size,omitempty"` // ascending
	Live Base         `json:"live"`           // the live rate, of earlier blocks
	Log  [][2]float64 `json:"log,omitempty"`  // by size: the logarithms of two bets
}

// NewExcluded makes evidence that has seen nothing, for the sizes and one more. What is known of
// the live rate already is a help, and no evidence.
func NewExcluded(size float64, live Base) *Excluded {
	list := slices.Clone(Sizes)
	if n, found := slices.BinarySearch(list, size); !found && size > 0 {
		list = slices.Insert(list, n, size)
	}
	return &Excluded{Size: list, Live: live, Log: make([][2]float64, len(list))}
}

// Add takes a block in: one bet is on equal rates, the other on a third of the fault.
func (x *Excluded) Add(b Block) {
	if b.Both() {
		live, nb, ng := x.Live.Rate(), float64(b.Live.Of), float64(b.Trial.Of)
		for n, size := range x.Size {
			if live+size >= 1 {
				continue
			}
			x.Log[n][0] += against(live, live, size, nb, ng).log(b)
			x.Log[n][1] += against(live, live+size/3, size, nb, ng).log(b)
		}
	}
	x.Live.Learn(b.Live)
}

// At is the certainty that there is no fault of a size, in [0, 1), and 0 for a size that it was
// not made with.
func (x *Excluded) At(size float64) float64 {
	n, found := slices.BinarySearch(x.Size, size)
	if !found {
		return 0
	}
	return SureOf(Mean(x.Log[n][0], x.Log[n][1]), 1)
}

// Least is the smallest fault that is excluded with a certainty, and so are all that are larger:
// 1 if none is.
func (x *Excluded) Least(certainty float64) float64 {
	least := 1.0
	for _, size := range slices.Backward(x.Size) {
		if x.At(size) < certainty {
			break
		}
		least = size
	}
	return least
}

// Between is by how much the rate on trial is higher than the live one, block by block: what
// hits both sides at the same time does not count. The zero value knows nothing.
//
// It is the difference of rates of Mantel and Haenszel (Greenland and Robins, "Estimation of a
// common effect parameter from sparse follow-up data", Biometrics 41, 1985), with a range that
// may be looked at all the time (Waudby-Smith et al., "Time-uniform central limit theory and
// asymptotic confidence sequences", Annals of Statistics 52, 2024): unlike what a guard decides
// by, it holds about, and for many answers.
type Between struct {
	Sum    float64 `json:"sum"`    // Σ (x_g·n_b − x_b·n_g)/n
	Weight float64 `json:"weight"` // Σ n_b·n_g/n
	Live   float64 `json:"live"`   // Σ n_b·n_g²/n², which the live side's variance is taken by
	Trial  float64 `json:"trial"`  // Σ n_g·n_b²/n²
	All    Block   `json:"all"`    // what was added
}

// Add takes a block in.
func (d *Between) Add(b Block) {
	d.All = d.All.Plus(b)
	if !b.Both() {
		return
	}
	nb, ng := float64(b.Live.Of), float64(b.Trial.Of)
	n := nb + ng
	d.Sum += (float64(b.Trial.Bad)*nb - float64(b.Live.Bad)*ng) / n
	d.Weight += nb * ng / n
	d.Live += nb * ng * ng / (n * n)
	d.Trial += ng * nb * nb / (n * n)
}

// Difference is the difference and its range, whose chance of ever missing it is about alpha. It
// is -1 to 1 when nothing was added.
func (d Between) Difference(alpha float64) (float64, Interval) {
	if d.Weight == 0 {
		return 0, Interval{-1, 1}
	}
	variance := func(c Count) float64 { // of one answer; one more of each, so that few are no certainty
		p := (float64(c.Bad) + 1) / (float64(c.Of) + 2)
		return p * (1 - p)
	}
	v := d.Live*variance(d.All.Live) + d.Trial*variance(d.All.Trial)
	const tightest = 20 // the variance of the sum at which the range is the tightest
	rho := (-2*math.Log(alpha) + math.Log(-2*math.Log(alpha)+1)) / tightest
	radius := math.Sqrt((v*rho+1)/rho*(math.Log(v*rho+1)-2*math.Log(alpha))) / d.Weight
	at := d.Sum / d.Weight
	return at, Interval{max(at-radius, -1), min(at+radius, 1)}
}

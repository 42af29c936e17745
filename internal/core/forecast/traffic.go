package forecast

import (
	"math"
	"slices"
	"time"

	"gonum.org/v1/gonum/stat/distuv"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/split"
)

// Traffic is what a forecast is reckoned from.
type Traffic struct {
	Rate     float64    `json:"rate"`     // requests a second through the front, all of them
	Capacity [2]float64 `json:"capacity"` // requests a second that each side can carry, by side; 0 if not known
	Failing  float64    `json:"failing"`  // the live side's rate of failing answers
	// different clients that are about, and of them those that ask in a block, of both sides; 0 if they are not known
	Clients float64 `json:"clients,omitempty"`
	Asking  float64 `json:"asking,omitempty"`
}

// Clients is how many clients there are, and how much each asks. The zero value is not known.
type Clients struct {
	Of   int       `json:"of"`             // seen in the time
	Span float64   `json:"span"`           // seconds that they were seen in
	Asks []float64 `json:"asks,omitempty"` // requests a second of some of them, which stand for all
}

// Guarding is what the guard on failing answers goes by.
type Guarding struct {
	Margin float64 `json:"margin"` // how much higher the rate may be
	Level  float64 `json:"level"`  // the chance of a false alarm that it may spend, in all of the crossing
	Blocks int     `json:"blocks"` // readings of the front that the crossing is planned to have
	// clients stay on their sides, and it counts those that turn bad, where there are any that are known
	Together bool `json:"together,omitempty"`
}

// Every is how far apart the readings of a front are.
const Every = 500 * time.Millisecond

// Grace is for how long after a change of the share answers are not compared: those that began before may
// still come.
const Grace = 1500 * time.Millisecond

// Fault is the size of fault that outlooks are reckoned for: one answer in twenty.
const Fault = 0.05

// Outlook is what a share would mean.
type Outlook struct {
	Share split.Share
	Rate  [2]float64 // requests a second, by side
	Load  [2]float64 // of capacity, by side; 0 if the capacity is not known
}

// Look reckons the outlook for a share on green.
func (t Traffic) Look(share split.Share) Outlook {
	o := Outlook{Share: share}
	for _, side := range split.Sides {
		o.Rate[side] = t.Rate * share.Of(side).Fraction()
		if t.Capacity[side] > 0 {
			o.Load[side] = o.Rate[side] / t.Capacity[side]
		}
	}
	return o
}

// Rough is the traffic to two digits, which changes less often, and is good enough for [Traffic.Find].
func (t Traffic) Rough() Traffic {
	return Traffic{Rate: rough(t.Rate), Failing: rough(t.Failing), Clients: rough(t.Clients), Asking: rough(t.Asking)}
}

func rough(x float64) float64 {
	if x <= 0 {
		return 0
	}
	unit := math.Pow(10, math.Floor(math.Log10(x))-1)
	return math.Round(x/unit) * unit
}

// Found is how soon a fault in [Fault] of the target's answers would be found, and what it costs.
// All are 0 if it would not be found within an hour, or if only one side gets requests.
type Found struct {
	After, Late time.Duration // until it is found, in the middle, and in all but one case of ten
	Cost        float64       // requests that have failed because of it by then, in the middle
}

// Find plays such a fault at a share on green while crossing to target. It takes some
// milliseconds.
func (t Traffic) Find(share split.Share, target split.Side, g Guarding) Found {
	at := t.Look(share).Rate
	f := evidence.Flow{Live: at[target.Other()], Trial: at[target], Base: t.Failing}
	quick := f.ToFind(Fault, g.Margin, g.Level)
	if quick > time.Hour.Seconds() || t.Failing+Fault >= 1 {
		return Found{}
	}
	const runs = 60
	r := random()
	took, cost := make([]float64, runs), make([]float64, runs)
	block := max(Every.Seconds(), quick/40)
	if t.by(g) {
		block = max(clientBlock, quick/40)
	}
	part := at[target] / t.Rate
	for n := range took {
		took[n] = math.Inf(1)
		w := newWatched(t, g, r, block)
		for k := 1; float64(k)*block <= time.Hour.Seconds(); k++ {
			trial := w.play(stretch{part: part, beside: 1 - part}, Fault, block, float64(k-1)*block >= Grace.Seconds())
			cost[n] += float64(trial.Bad) * Fault / (Fault + t.Failing)
			if w.found() {
				took[n] = float64(k) * block
				break
			}
		}
	}
	slices.Sort(took)
	slices.Sort(cost)
	if math.IsInf(took[runs/2], 1) {
		return Found{}
	}
	found := Found{After: duration(took[runs/2]), Cost: cost[runs/2]}
	if late := took[runs*9/10]; !math.IsInf(late, 1) {
		found.Late = duration(late)
	}
	return found
}

func duration(seconds float64) time.Duration { return time.Duration(seconds * float64(time.Second)) }

// blocks is how many blocks of a length the crossing is planned to have.
func (g Guarding) blocks(block float64) int {
	return max(int(float64(g.Blocks)*Every.Seconds()/block), 1)
}

// base is what a guard knows of the live side's rate when requests begin to move.
func base(failing float64) evidence.Base {
	const answers = 10_000
	return evidence.Base{Bad: failing * answers, Of: answers}
}

// numbers are as good as random, and always the same: SplitMix64 (Steele, Lea and Flood, "Fast
// splittable pseudorandom number generators", OOPSLA 2014).
type numbers uint64

func random() *numbers { n := numbers(0x5a17); return &n }

// Uint64 is the next number.
func (n *numbers) Uint64() uint64 {
	*n += 0x9e3779b97f4a7c15
	z := uint64(*n)
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return z ^ z>>31
}

// float is the next number in [0, 1).
func (n *numbers) float() float64 { return float64(n.Uint64()>>11) / (1 << 53) }

// play is a block of about so many answers of each side.
func play(r *numbers, failing, fault, live, trial float64) evidence.Block {
	return evidence.Block{Live: answers(r, live, failing), Trial: answers(r, trial, failing+fault)}
}

// answers is how many there were of about so many, and how many of them failed.
func answers(r *numbers, about, rate float64) evidence.Count {
	n := poisson(r, about)
	return evidence.Count{Bad: binomial(r, n, rate), Of: n}
}

func poisson(r *numbers, mean float64) int64 {
	if mean <= 0 {
		return 0
	}
	return int64(distuv.Poisson{Lambda: mean, Src: r}.Rand())
}

func binomial(r *numbers, n int64, p float64) int64 {
	switch {
	case n == 0 || p <= 0:
		return 0
	case p >= 1:
		return n
	case float64(n)*p < 10: // by the gaps between them
		count, at := int64(0), 0.0
		for {
			if at += math.Floor(math.Log(1-r.float())/math.Log1p(-p)) + 1; at > float64(n) {
				return count
			}
			count++
		}
	}
	return int64(distuv.Binomial{N: float64(n), P: p, Src: r}.Rand())
}

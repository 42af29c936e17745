package evidence

import "math"

// Block is what both sides answered over the same time and at the same share. A block that
// spans a change of the share, or of a side's instances, is none.
type Block struct {
	Live  Count `json:"live"`
	Trial Count `json:"trial"`
}

// Plus is both blocks as one, which they are as long as the share has not changed.
func (b Block) Plus(c Block) Block {
	return Block{Live: b.Live.Plus(c.Live), Trial: b.Trial.Plus(c.Trial)}
}

// Both reports whether both sides answered: else it says nothing of a difference.
func (b Block) Both() bool { return b.Live.Of > 0 && b.Trial.Of > 0 }

// pair is an alternative and the hypothesis next to it: rates of the live side and of the one on
// trial.
type pair struct {
	live, trial         float64 // under the alternative
	nullLive, nullTrial float64 // under the hypothesis
}

// against is the alternative that the rates are live and trial, and the pair of rates among
// those that differ by shift to which blocks of so many answers are closest in relative entropy:
//
//	q = argmin nb·kl(live, q) + ng·kl(trial, q+shift)
//
// Where the hypothesis is a convex set of which those pairs are the border, it is the reverse
// information projection of the alternative, and the ratio of likelihoods has an expectation of
// at most 1 under all of the hypothesis (Turner and Grünwald, "Exact anytime-valid confidence
// intervals for contingency tables and beyond", Statistics & Probability Letters 198, 2023).
func against(live, trial, shift, nb, ng float64) pair {
	p := pair{live: live, trial: trial}
	p.nullLive = project(live, trial-shift, shift, nb, ng)
	p.nullTrial = p.nullLive + shift
	return p
}

// project is the q of [against], between the live rate b and t, which is the other one moved
// back by the shift. The sum of the entropies is convex, so its slope has one zero there.
func project(b, t, shift, nb, ng float64) float64 {
	low, high := min(b, t), max(b, t)
	low, high = max(low, -shift, 0), min(high, 1-shift, 1)
	q := (nb*b + ng*t) / (nb + ng)
	for range 60 {
		if q <= low || q >= high {
			q = (low + high) / 2
		}
		r := q + shift
		vq, vr := q*(1-q), r*(1-r)
		slope := nb*(q-b)/vq + ng*(q-t)/vr
		if slope > 0 {
			high = q
		} else {
			low = q
		}
		// Newton's step; the curvature of n·kl(p, q) over q is n·(p/q² + (1−p)/(1−q)²).
		bend := nb*(b/(q*q)+(1-b)/((1-q)*(1-q))) + ng*((t+shift)/(r*r)+(1-t-shift)/((1-r)*(1-r)))
		step := slope / bend
		q -= step
		if math.Abs(step) < 1e-13 || high-low < 1e-15 {
			break
		}
	}
	return min(max(q, low), high)
}

// log is the logarithm of the ratio of the likelihoods of a block.
func (p pair) log(b Block) float64 {
	return logRatio(b.Live, p.live, p.nullLive) + logRatio(b.Trial, p.trial, p.nullTrial)
}

// information is what a block of so many answers is expected to add to the logarithm when the
// alternative holds, in nats.
func (p pair) information(nb, ng float64) float64 {
	return nb*kl(p.live, p.nullLive) + ng*kl(p.trial, p.nullTrial)
}

// logRatio is the logarithm of how much likelier a count is at the rate p than at q.
func logRatio(c Count, p, q float64) float64 {
	if c.Of == 0 || p == q {
		return 0
	}
	return xlog(float64(c.Bad), p/q) + xlog(float64(c.Of-c.Bad), (1-p)/(1-q))
}

// kl is the relative entropy of an answer of rate p to one of rate q, in nats.
func kl(p, q float64) float64 { return xlog(p, p/q) + xlog(1-p, (1-p)/(1-q)) }

// xlog is x·log y, with 0·log 0 = 0.
func xlog(x, y float64) float64 {
	if x == 0 {
		return 0
	}
	return x * math.Log(y)
}

// logPlus is log(exp a + exp b).
func logPlus(a, b float64) float64 {
	if a < b {
		a, b = b, a
	}
	if math.IsInf(b, -1) {
		return a
	}
	return a + math.Log1p(math.Exp(b-a))
}

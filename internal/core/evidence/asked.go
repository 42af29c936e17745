package evidence

import "math"

// Tolerances of [Asked]: how far off a split may be before it is a wrong one, as
// fractions of all requests.
const (
	// Independent is for requests that are placed one by one.
	Independent = 0.001
	// Clustered is for clients or sessions that stay where they are: how many of them
	// there are, and how much each asks, is not known, so that the requests of a good
	// split may lie off by far more than chance.
	Clustered = 0.05
)

// SplitVerdict is what the share seen says of the share asked for.
type SplitVerdict string

// The verdicts.
const (
	AsAsked    SplitVerdict = "as asked"
	Wrong      SplitVerdict = "wrong"
	TooFewSeen SplitVerdict = "too few"
)

// Seen is a share as counted, held against the one asked for. All are fractions of
// all requests.
type Seen struct {
	Verdict SplitVerdict `json:"verdict"`
	Share   float64      `json:"share"`
	Range   Interval     `json:"range"` // of 95 % certainty
	Off     float64      `json:"off"`   // share minus what was asked
	// More is about how many more requests there have to be until the range is narrow
	// enough to call the split as asked; 0 unless there are too few.
	More int64 `json:"more,omitempty"`
}

// wrongSplit is the chance of calling a good split off, however often one looks.
const wrongSplit = 0.001

// Asked says whether the counted requests, of which c.Bad went to the side in
// question, are split as asked. A split is wrong when the asked share lies outside of
// the bounds that [Rate] gives by more than the tolerance, which may be looked at
// again and again; it is as asked when the range of [Exact] is narrow enough to have
// shown a wrong one: within a quarter of the smaller side's share, at least half a
// percentage point and at most two.
func Asked(asked float64, c Count, tolerance float64) Seen {
	s := Seen{Share: c.Rate(), Range: Exact(c, 0.05)}
	if c.Of > 0 {
		s.Off = s.Share - asked
	}
	narrow := math.Max(tolerance, math.Min(0.02, math.Max(0.005, math.Min(asked, 1-asked)/4)))
	bounds := Rate(c, wrongSplit)
	switch {
	case asked < bounds.Low-tolerance || asked > bounds.High+tolerance:
		s.Verdict = Wrong
	case c.Of > 0 && halfWidth(s.Range) <= narrow:
		s.Verdict = AsAsked
	default:
		s.Verdict = TooFewSeen
		s.More = moreUntil(asked, narrow, c)
	}
	return s
}

func halfWidth(i Interval) float64 { return (i.High - i.Low) / 2 }

// moreUntil is how many requests are missing until the range around the asked share
// is as narrow as that. The range narrows as they grow.
func moreUntil(asked, narrow float64, c Count) int64 {
	enough := func(n int64) bool {
		return halfWidth(Exact(Count{Bad: int64(math.Round(asked * float64(n))), Of: n}, 0.05)) <= narrow
	}
	low, high := int64(0), int64(1)
	for !enough(high) {
		low, high = high, 2*high
	}
	for high-low > 1 {
		if middle := (low + high) / 2; enough(middle) {
			high = middle
		} else {
			low = middle
		}
	}
	return max(high-c.Of, 1)
}

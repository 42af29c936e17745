package evidence

import "math"

// Independent is a tolerance of [Asked], how far off a split may be before it is a wrong one as a fraction of all that
// is counted, for what is placed one by one: requests with a key of their own each, or clients where they are counted.
const Independent = 0.001

// SplitVerdict is what the share seen says of the share asked for.
type SplitVerdict string

// The verdicts.
const (
	AsAsked    SplitVerdict = "as asked"
	Wrong      SplitVerdict = "wrong"
	TooFewSeen SplitVerdict = "too few"
	NotTold    SplitVerdict = "not told" // clients stay where they are, and nobody counts them
)

// Seen is a share as counted, held against the one asked for. All are fractions of
// all that was counted.
type Seen struct {
	Verdict SplitVerdict `json:"verdict"`
	Share   float64      `json:"share"`
	Range   Interval     `json:"range"` // of 95 % certainty, however often one looks
	Off     float64      `json:"off"`   // share minus what was asked
	// More is about how many more have to be counted until the split is known to be as asked;
	// 0 unless there are too few.
	More int64 `json:"more,omitempty"`
	// where the share of so many clients lies by chance where it is as asked; zero of requests
	Chance Interval `json:"chance,omitzero"`
}

// Chance is where the share of so many that are placed one by one lies in 99 of 100 cases.
func Chance(asked float64, of int64) Interval {
	return Exact(Count{Bad: int64(math.Round(asked * float64(of))), Of: of}, 0.01)
}

// The chances of being wrong, however often one looks.
const (
	wrongSplit = 0.001 // of calling a good split off
	wrongAsked = 0.05  // of calling a split as asked that is off by what one minds
)

// minded is the distance from the asked share that an operator would mind: a quarter of the
// smaller side's share, between 0.3 and two percentage points, but never all of a side: a front
// that sends nobody there is not as asked. Where a side should get nothing, it is half a point.
func minded(asked float64) float64 {
	smaller := math.Min(asked, 1-asked)
	if smaller <= 0 {
		return 0.005
	}
	return math.Min(math.Min(math.Max(smaller/4, 0.003), 0.02), smaller/2)
}

// Asked says whether what was counted, of which c.Bad went to the side in question, is split as
// asked. These are two questions: a split is wrong when the asked share lies outside of what can
// be by more than the tolerance, and as asked when it lies inside and every share that one would
// mind lies outside. Until one of them is answered, there are too few.
func Asked(asked float64, c Count, tolerance float64) Seen {
	s := Seen{Share: c.Rate(), Range: Rate(c, wrongAsked)}
	if c.Of > 0 {
		s.Off = s.Share - asked
	}
	bounds := Rate(c, wrongSplit)
	switch {
	case asked < bounds.Low-tolerance || asked > bounds.High+tolerance:
		s.Verdict = Wrong
	case within(asked, s.Range):
		s.Verdict = AsAsked
	default:
		s.Verdict = TooFewSeen
		s.More = moreUntil(asked, c)
	}
	return s
}

// within reports whether a range holds the asked share, and nothing that one would mind.
func within(asked float64, i Interval) bool {
	off := minded(asked)
	return i.Low <= asked && asked <= i.High && i.Low > asked-off && i.High < asked+off
}

// moreUntil is how many are missing until the range around the asked share holds nothing that one
// would mind. It narrows as they grow.
func moreUntil(asked float64, c Count) int64 {
	enough := func(n int64) bool {
		return within(asked, Rate(Count{Bad: int64(math.Round(asked * float64(n))), Of: n}, wrongAsked))
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

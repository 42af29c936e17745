package figures

import (
	"iter"
	"maps"
	"math"
	"slices"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Step is what both sides answered between two readings.
type Step struct {
	From, To time.Time
	Share    split.Share // on green, at its end
	Mixed    bool        // the share, or a side's instances, changed within: nothing is to be compared by it

	now, before *step
}

// After are the steps that ended after a time, oldest first. What they tell is good until the
// series goes on.
func (s *Series) After(t time.Time) iter.Seq[Step] {
	return func(yield func(Step) bool) {
		first := len(s.steps)
		for first > 0 && s.steps[first-1].to.After(t) {
			first--
		}
		for n := max(first, 1); n < len(s.steps); n++ {
			st := &s.steps[n]
			if !yield(Step{From: st.from, To: st.to, Share: st.share, Mixed: st.mixed, now: st,
				before: &s.steps[n-1]}) {
				return
			}
		}
	}
}

// Failing is what a side answered, and how much of that failed or was cut, as of [Figures.Compared]. A
// request counts when it is answered, or has hung for [Hangs], and then as failing, whatever becomes of it.
func (st Step) Failing(side split.Side) evidence.Count {
	d := st.now.sides[side]
	return ahead(evidence.Count{Bad: d.failing + d.cut, Of: d.requests}, d.hanging-st.before.sides[side].hanging)
}

// Slow is what a side answered with a time, and how much of that took longer than a bound. A
// request counts when it is answered, or has waited for as long.
func (st Step) Slow(side split.Side, bound time.Duration) evidence.Count {
	d := st.now.sides[side]
	return ahead(over(d.latencies, bound), longer(d.waiting, bound)-longer(st.before.sides[side].waiting, bound))
}

// Took is what a side's answers took in all, and how many those are, where the front tells means.
func (st Step) Took(side split.Side) (time.Duration, int64) {
	d := st.now.sides[side]
	return d.took, d.requests - d.lost - d.left
}

// ahead counts those that are known to be bad before they are answered: as many more as there
// are now, and as many less as were counted and have been answered since.
func ahead(c evidence.Count, more int64) evidence.Count {
	c.Bad, c.Of = max(c.Bad+more, 0), max(c.Of+more, 0)
	c.Bad = min(c.Bad, c.Of)
	return c
}

// Turned is which of a side's clients that were at risk turned bad, in blocks that ended in the step: failing, or, with
// a bound above zero, slower than about that, as of [reading.NearestLevel].
func (st Step) Turned(side split.Side, grade int, bound time.Duration) reading.Turns {
	turned := st.now.sides[side].clients.turned
	if turned == nil {
		return reading.Turns{}
	}
	return turned[grade][reading.NearestLevel(bound)]
}

// Blocks is what each instance of a side answered in a block that ended with the step, by address; none where none did.
func (st Step) Blocks(side split.Side) []InstanceBlock { return st.now.sides[side].blocks }

// Asked is how many clients of a side asked in blocks that ended in the step, and how many of them had a good answer.
func (st Step) Asked(side split.Side) (all, good int64) {
	m := st.now.sides[side].clients
	return m.asked, m.good
}

// over counts the times of a histogram, and those beyond a bound.
func over(bars []hdrhistogram.Bar, bound time.Duration) evidence.Count {
	var c evidence.Count
	for _, b := range bars {
		c.Of += b.Count
		if b.From > bound.Microseconds() {
			c.Bad += b.Count
		}
	}
	return c
}

// Usual are the times that parts of a side's answers took at most since a time: by part, such as
// 0.5 for the median. They are nil where fewer than so many have times.
func (s *Series) Usual(side split.Side, since time.Time, parts []float64, atLeast int64) []time.Duration {
	bars := map[int64]int64{}
	var all int64
	for _, st := range s.steps[s.first(since):] {
		for _, b := range st.sides[side].latencies {
			bars[b.To] += b.Count
			all += b.Count
		}
	}
	if all < atLeast || all == 0 {
		return nil
	}
	return quantiles(bars, all, parts)
}

// quantiles are the least times that so large parts of all do not exceed.
func quantiles(bars map[int64]int64, all int64, parts []float64) []time.Duration {
	times := slices.Sorted(maps.Keys(bars))
	list := make([]time.Duration, len(parts))
	for n, part := range parts {
		need, sum := int64(math.Ceil(part*float64(all))), int64(0)
		for _, us := range times {
			if sum += bars[us]; sum >= need {
				list[n] = time.Duration(us) * time.Microsecond
				break
			}
		}
	}
	return list
}

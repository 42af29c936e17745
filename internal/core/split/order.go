package split

import "math"

// Step is a change of what one instance gets: its weight, 0 for nothing.
type Step struct {
	Side     Side
	From, To int
}

// InOrder is the order in which changes are best made one after the other: on the way no side gets more or less than
// before and after, as far as that can be, and nobody's requests are without somebody to take them. It gives indexes.
// Both sides' instances have to be among the steps, those that stay as they are too.
func InOrder(steps []Step) []int {
	var sums, last [2]int
	for _, s := range steps {
		sums[s.Side] += s.From
		last[s.Side] += s.To
	}
	first := sums
	part := func(sums [2]int) float64 {
		return float64(sums[Green]) / float64(sums[Blue]+sums[Green])
	}
	from, to := part(first), part(last)
	switch {
	case last == [2]int{} && first == [2]int{}:
		from, to = 0, 0
	case first == [2]int{}:
		from = to
	case last == [2]int{}:
		to = from
	}
	low, high := min(from, to), max(from, to)
	// off is how bad sums are on the way: a share beyond both ends, and worse than any a side without anybody.
	off := func(sums [2]int) float64 {
		bad := 0.0
		for _, side := range Sides {
			if sums[side] == 0 && first[side] > 0 && last[side] > 0 {
				bad++
			}
		}
		if sums == [2]int{} {
			return bad + 2
		}
		p := part(sums)
		return bad + max(low-p, p-high, 0)
	}
	order := make([]int, 0, len(steps))
	done := make([]bool, len(steps))
	for range steps {
		best, least := -1, math.Inf(1)
		for n, s := range steps {
			if done[n] {
				continue
			}
			after := sums
			after[s.Side] += s.To - s.From
			bad := off(after)
			if s.To < s.From {
				bad += 1e-9 // among those that are as good, first what somebody gains
			}
			if bad < least {
				best, least = n, bad
			}
		}
		done[best] = true
		sums[steps[best].Side] += steps[best].To - steps[best].From
		order = append(order, best)
	}
	return order
}

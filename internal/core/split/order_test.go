package split_test

import (
	"slices"
	"testing"

	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

// shares are those on green on the way through steps, -1 where nobody gets anything.
func shares(steps []split.Step, order []int) (list []float64) {
	var sums [2]int
	for _, s := range steps {
		sums[s.Side] += s.From
	}
	add := func() {
		if sums == [2]int{} {
			list = append(list, -1)
			return
		}
		list = append(list, float64(sums[split.Green])/float64(sums[split.Blue]+sums[split.Green]))
	}
	add()
	for _, n := range order {
		sums[steps[n].Side] += steps[n].To - steps[n].From
		add()
	}
	return list
}

func TestNoShareOnTheWayIsBeyondTheEnds(t *testing.T) {
	const b, g = split.Blue, split.Green
	for what, steps := range map[string][]split.Step{
		"home from 10 %":     {{b, 9, 1}, {b, 9, 1}, {g, 1, 0}, {g, 1, 0}},
		"to 10 %":            {{b, 1, 9}, {b, 1, 9}, {g, 0, 1}, {g, 0, 1}},
		"home from all":      {{b, 0, 1}, {b, 0, 1}, {g, 1, 0}, {g, 1, 0}},
		"all to green":       {{b, 9, 0}, {b, 9, 0}, {g, 1, 1}, {g, 1, 1}},
		"from 50 % to 10 %":  {{b, 1, 9}, {b, 1, 9}, {g, 1, 1}, {g, 1, 1}},
		"one is taken out":   {{b, 9, 18}, {b, 9, 0}, {g, 2, 2}},
		"nobody got any":     {{b, 0, 1}, {g, 0, 0}},
		"a pair changes":     {{b, 1, 0}, {b, 0, 1}, {g, 0, 0}},
		"both sides' change": {{b, 1, 0}, {b, 0, 1}, {g, 1, 0}, {g, 0, 1}},
	} {
		order := split.InOrder(steps)
		way := shares(steps, order)
		for n, s := range way[1:] {
			if low, high := min(way[0], way[len(way)-1]), max(way[0], way[len(way)-1]); what != "nobody got any" &&
				what != "one is taken out" && what != "both sides' change" && (s < low || s > high) {
				t.Errorf("%s: %v after step %d of %v: %v", what, s, n, order, way)
			}
			if s < 0 {
				t.Errorf("%s: nobody gets anything on the way: %v", what, way)
			}
		}
	}
}

// Whatever changes, somebody takes the requests at every moment of it, and all is done once.
func TestSomebodyTakesTheRequestsOnTheWay(t *testing.T) {
	r := testkit.Rand(t)
	for range 2000 {
		steps := make([]split.Step, 1+r.IntN(7))
		var from, to [2]int
		for n := range steps {
			s := split.Step{Side: split.Sides[r.IntN(2)], From: r.IntN(3) * r.IntN(9), To: r.IntN(3) * r.IntN(9)}
			steps[n] = s
			from[s.Side] += s.From
			to[s.Side] += s.To
		}
		order := split.InOrder(steps)
		if done := slices.Sorted(slices.Values(order)); len(done) != len(steps) || done[0] != 0 ||
			done[len(done)-1] != len(steps)-1 || len(slices.Compact(done)) != len(steps) {
			t.Fatalf("of %v the order is %v", steps, order)
		}
		way := shares(steps, order)
		for _, s := range way {
			if s < 0 && from != [2]int{} && to != [2]int{} {
				t.Fatalf("nobody takes the requests on the way through %v by %v: %v", steps, order, way)
			}
		}
	}
}

package split

import (
	"fmt"
	"math"
	"slices"
	"sort"
)

// Group is the instances of one part of a split: a side, or one of more parts.
type Group struct {
	Share      Share     // of all requests
	Capacities []float64 // of its instances, in any unit that all of the group have in common
}

// Weights are what to set at a front that sends requests to instances in
// proportion to whole numbers.
type Weights struct {
	Of      [][]int // by group and instance; 0 gets nothing
	Reached []Share // by group, rounded to the nearest basis point
	Error   Share   // the largest distance of a share reached from the one wanted
	Unused  int     // instances that get nothing though their group has a share: the range is too small for it
	Uneven  float64 // the largest distance of an instance's part of its group from its part of the capacity, in [0, 1]
}

// Weigh finds the weights from 0 to most with the least error of the groups'
// shares, measured in basis points; among these the ones that leave the fewest
// instances of a group with a share without requests; among these the ones that
// share out a group's requests most nearly by capacity; and of these the smallest.
// It is exact: no other weights are better in this order. The shares have to add
// up to [Whole].
//
// For every total weight T of all groups, the total of a group may lie where its
// share rounds to one that is near enough, which is an interval; a table over the
// groups picks totals from the intervals that add up to T. Within a group a total is
// apportioned by largest remainder, which has the least greatest deviation (Balinski
// and Young, Fair Representation, 1982).
func Weigh(groups []Group, most int) (Weights, error) {
	if most < 1 || most > 1<<16 {
		return Weights{}, fmt.Errorf("weights up to %d: want 1 to 65536", most)
	}
	var used []*apportioned
	sum := Share(0)
	for n, g := range groups {
		sum += g.Share
		switch {
		case g.Share < 0:
			return Weights{}, fmt.Errorf("group %d has a share of %v", n+1, g.Share)
		case g.Share > 0 && len(g.Capacities) == 0:
			return Weights{}, fmt.Errorf("group %d has %v of the requests and no instances", n+1, g.Share)
		}
		for _, c := range g.Capacities {
			if !(c > 0) || math.IsInf(c, 1) {
				return Weights{}, fmt.Errorf("group %d has an instance with the capacity %v", n+1, c)
			}
		}
		if g.Share > 0 {
			used = append(used, newApportioned(n, g, most))
		}
	}
	if sum != Whole {
		return Weights{}, fmt.Errorf("the shares add up to %v", sum)
	}
	totals := totals(used)
	w := Weights{Of: make([][]int, len(groups)), Reached: make([]Share, len(groups))}
	for n, g := range groups {
		w.Of[n] = make([]int, len(g.Capacities))
	}
	all := 0
	for _, t := range totals {
		all += t
	}
	for k, g := range used {
		weights, cost := g.weights(totals[k])
		w.Of[g.index] = weights
		w.Unused += cost.unused
		w.Uneven = max(w.Uneven, cost.uneven)
		w.Reached[g.index] = rounded(totals[k], all)
	}
	for n, g := range groups {
		w.Error = max(w.Error, w.Reached[n]-g.Share, g.Share-w.Reached[n])
	}
	return w, nil
}

// rounded is part/all in basis points, halves up.
func rounded(part, all int) Share { return Share((part*int(Whole) + all/2) / all) }

// interval is where a group's total may lie so that its share of the total t
// rounds to within e basis points of the one wanted.
func (g *apportioned) interval(t int, e Share) (low, high int) {
	low = ceil((int(g.Share-e))*t-t/2, int(Whole))
	high = floor((int(g.Share+e)+1)*t-t/2-1, int(Whole))
	return max(low, 1), min(high, g.most*len(g.Capacities))
}

func floor(a, b int) int {
	if a < 0 {
		return -((-a + b - 1) / b)
	}
	return a / b
}

func ceil(a, b int) int { return -floor(-a, b) }

// totals are the best total weights of the groups.
func totals(groups []*apportioned) []int {
	largest := 0
	for _, g := range groups {
		largest += g.most * len(g.Capacities)
	}
	possible := func(t int, e Share) bool {
		low, high := 0, 0
		for _, g := range groups {
			l, h := g.interval(t, e)
			if l > h {
				return false
			}
			low, high = low+l, high+h
		}
		return low <= t && t <= high
	}
	// The least error with which any total is possible: what is possible with one is
	// possible with a larger one, and with an error of 100 % anything is.
	e := Share(sort.Search(int(Whole), func(e int) bool {
		for t := len(groups); t <= largest; t++ {
			if possible(t, Share(e)) {
				return true
			}
		}
		return false
	}))
	var best []int
	bestCost := cost{unused: math.MaxInt}
	for t := len(groups); t <= largest; t++ {
		if !possible(t, e) {
			continue
		}
		if c, choice := choose(groups, t, e); choice != nil && c.less(bestCost) {
			best, bestCost = choice, c
			if c == (cost{}) {
				break // nothing can be better, and what follows is larger
			}
		}
	}
	return best
}

// cost is what remains to be chosen by between totals with the same error.
type cost struct {
	unused int
	uneven float64
}

func (c cost) less(d cost) bool {
	return c.unused < d.unused || c.unused == d.unused && c.uneven < d.uneven
}

// plus is the cost of two groups: what is unused adds up, the worse unevenness
// counts.
func (c cost) plus(d cost) cost { return cost{c.unused + d.unused, max(c.uneven, d.uneven)} }

// choose picks totals within the groups' intervals that add up to t at the least
// cost, or nil if there are none.
func choose(groups []*apportioned, t int, e Share) (cost, []int) {
	type entry struct {
		cost cost
		from int // total of the last group, -1 if the sum cannot be had
	}
	low := make([]int, len(groups))
	rest := t // that is not given out when every group has its least
	for n, g := range groups {
		low[n], _ = g.interval(t, e)
		rest -= low[n]
	}
	if rest < 0 {
		return cost{}, nil
	}
	table := make([][]entry, len(groups))
	for n, g := range groups {
		_, high := g.interval(t, e)
		table[n] = make([]entry, rest+1)
		for sum := range table[n] {
			best := entry{from: -1}
			for more := 0; more <= min(sum, high-low[n]); more++ {
				c := g.cost(low[n] + more)
				switch {
				case n == 0 && more != sum:
					continue
				case n > 0 && table[n-1][sum-more].from < 0:
					continue
				case n > 0:
					c = table[n-1][sum-more].cost.plus(c)
				}
				if best.from < 0 || c.less(best.cost) {
					best = entry{c, low[n] + more}
				}
			}
			table[n][sum] = best
		}
	}
	last := table[len(groups)-1][rest]
	if last.from < 0 {
		return cost{}, nil
	}
	choice := make([]int, len(groups))
	for n, sum := len(groups)-1, rest; n >= 0; n-- {
		choice[n] = table[n][sum].from
		sum -= choice[n] - low[n]
	}
	return last.cost, choice
}

// apportioned is a group with what its totals cost, found when asked for. Instances
// of the same capacity are taken together.
type apportioned struct {
	Group
	index    int
	most     int
	classes  []class // the largest capacity first
	capacity float64 // of all
	known    []cost  // by total; not yet known if unused is below 0
}

type class struct {
	capacity float64
	count    int
}

func newApportioned(index int, g Group, most int) *apportioned {
	a := &apportioned{Group: g, index: index, most: most, known: make([]cost, most*len(g.Capacities)+1)}
	for n := range a.known {
		a.known[n].unused = -1
	}
	sorted := slices.Sorted(slices.Values(g.Capacities))
	slices.Reverse(sorted)
	for _, c := range sorted {
		a.capacity += c
		if n := len(a.classes); n > 0 && a.classes[n-1].capacity == c {
			a.classes[n-1].count++
			continue
		}
		a.classes = append(a.classes, class{c, 1})
	}
	return a
}

func (g *apportioned) cost(total int) cost {
	if known := g.known[total]; known.unused >= 0 {
		return known
	}
	levels := g.apportion(total)
	c := cost{}
	for _, l := range levels {
		c.uneven = max(c.uneven, math.Abs(float64(l.weight)-l.quota)/float64(total))
		if l.weight == 0 {
			c.unused += l.count
		}
	}
	g.known[total] = c
	return c
}

// weights are those of the instances, in their own order.
func (g *apportioned) weights(total int) ([]int, cost) {
	levels := g.apportion(total)
	weights := make([]int, len(g.Capacities))
	for n, c := range g.Capacities {
		for k := range levels {
			if l := &levels[k]; l.capacity == c && l.count > 0 {
				weights[n] = l.weight
				l.count--
				break
			}
		}
	}
	return weights, g.cost(total)
}

// level is instances of the same capacity with the same weight.
type level struct {
	class
	quota  float64 // the weight that would be exact
	weight int
}

// apportion shares a total out: at least 1 each as far as it goes, at most the
// range, and otherwise so that the greatest deviation from the quotas is least.
func (g *apportioned) apportion(total int) []level {
	least := 1
	if total < len(g.Capacities) {
		least = 0
	}
	levels := make([]level, len(g.classes), len(g.classes)+1)
	left := total
	for n, c := range g.classes {
		quota := float64(total) * c.capacity / g.capacity
		levels[n] = level{c, quota, min(max(int(quota), least), g.most)}
		if least == 0 {
			levels[n].weight = 0 // as many as can get 1, the largest first
		}
		left -= levels[n].weight * c.count
	}
	for left != 0 {
		step := 1
		if left < 0 {
			step = -1
		}
		// The class that is furthest from its quota is served next.
		next := -1
		for n, l := range levels {
			if step > 0 && l.weight == g.most || step < 0 && l.weight == least || least == 0 && l.weight == 1 {
				continue
			}
			if next < 0 || float64(step)*(l.quota-float64(l.weight)) > float64(step)*(levels[next].quota-float64(levels[next].weight)) {
				next = n
			}
		}
		l := &levels[next]
		if many := min(l.count, max(left, -left)); many < l.count { // only some: the last step
			l.count -= many
			levels = append(levels, level{class{l.capacity, many}, l.quota, l.weight + step})
			break
		}
		l.weight += step
		left -= step * l.count
	}
	return levels
}

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
// For every total weight T of all groups, the total of a group may lie where its share rounds to one that is near
// enough, which is an interval. How many instances are left out follows from the groups' totals alone. How uneven a
// total is takes longest to find, so that it is only found of totals that can be better than the best so far: those
// between the sums of what each weight may be at least and at most then. Large totals come first, as they are the
// more even ones. Within a group a total is apportioned by largest remainder, which has the least greatest deviation
// (Balinski and Young, Fair Representation, 1982).
func Weigh(groups []Group, most int) (Weights, error) {
	if most < 1 || most > 1<<16 {
		return Weights{}, fmt.Errorf("weights up to %d: want 1 to 65536", most)
	}
	if err := possible(groups); err != nil {
		return Weights{}, err
	}
	var used []*apportioned
	for n, g := range groups {
		if g.Share > 0 {
			used = append(used, newApportioned(n, g, most))
		}
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
		weights, unused, uneven := g.weights(totals[k])
		w.Of[g.index] = weights
		w.Unused += unused
		w.Uneven = max(w.Uneven, uneven)
		w.Reached[g.index] = Part(totals[k], all)
	}
	for n, g := range groups {
		w.Error = max(w.Error, w.Reached[n]-g.Share, g.Share-w.Reached[n])
	}
	return w, nil
}

// Part is part/all in basis points, halves up; all is not 0.
func Part(part, all int) Share { return Share((part*int(Whole) + all/2) / all) }

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
	// The least error with which any total is possible: what is possible with one is
	// possible with a larger one, and with an error of 100 % anything is.
	e := Share(0)
	if !anyPossible(groups, e) {
		e = Share(sort.Search(int(Whole), func(e int) bool { return anyPossible(groups, Share(e)) }))
	}
	unused := math.MaxInt
	for t := len(groups); t <= largest(groups, e); t++ {
		if n, possible := leftOut(groups, t, e); possible {
			if unused = min(unused, n); unused == 0 {
				break
			}
		}
	}
	// The smallest group is the most uneven one: what is found of it decides.
	slices.SortStableFunc(groups, func(a, b *apportioned) int { return int(a.Share - b.Share) })
	s := search{groups: groups, unused: unused, best: math.Inf(1), totals: make([]int, len(groups)),
		low: make([]int, len(groups)), high: make([]int, len(groups))}
	look := func(t int) {
		if n, possible := leftOut(groups, t, e); possible && n <= unused {
			s.within(t, e)
			s.choose(0, t, 0, 0)
		}
	}
	// A few here and there give a first best, so that the bounds are of use from the beginning.
	most := largest(groups, e)
	for t := most; t >= len(groups); t -= max(most/64, 1) {
		look(t)
	}
	for t := most; t >= len(groups); t-- {
		look(t)
	}
	return s.choice
}

// possible says what keeps groups from being a whole that can be shared out.
func possible(groups []Group) error {
	sum := Share(0)
	for n, g := range groups {
		sum += g.Share
		switch {
		case g.Share < 0:
			return fmt.Errorf("group %d has a share of %v", n+1, g.Share)
		case g.Share > 0 && len(g.Capacities) == 0:
			return fmt.Errorf("group %d has %v of the requests and no instances", n+1, g.Share)
		}
		for _, c := range g.Capacities {
			if !(c > 0) || math.IsInf(c, 1) {
				return fmt.Errorf("group %d has an instance with the capacity %v", n+1, c)
			}
		}
	}
	if sum != Whole {
		return fmt.Errorf("the shares add up to %v", sum)
	}
	return nil
}

// WeighAlone is Weigh where one group gets everything, and the others nothing. It takes no search: the largest
// capacity gets the largest weight, or, where all are the same, each the weight 1. An instance's part of the requests
// differs from its part of the capacity by less than one in most, of what the largest gets.
func WeighAlone(groups []Group, most int) (Weights, error) {
	if err := possible(groups); err != nil {
		return Weights{}, err
	}
	w := Weights{Of: make([][]int, len(groups)), Reached: make([]Share, len(groups))}
	for n, g := range groups {
		w.Of[n], w.Reached[n] = make([]int, len(g.Capacities)), g.Share
		switch {
		case g.Share == 0:
			continue
		case g.Share != Whole:
			return Weights{}, fmt.Errorf("group %d has a share of %v, and is not alone", n+1, g.Share)
		}
		largest := slices.Max(g.Capacities)
		scale := float64(most)
		if slices.Min(g.Capacities) == largest {
			scale = 1
		}
		sum, all := 0, 0.0
		for k, c := range g.Capacities {
			w.Of[n][k] = max(int(math.Round(scale*c/largest)), 1)
			sum, all = sum+w.Of[n][k], all+c
		}
		for k, c := range g.Capacities {
			w.Uneven = max(w.Uneven, math.Abs(float64(w.Of[n][k])/float64(sum)-c/all))
		}
	}
	return w, nil
}

// largest is a total that none exceeds with such an error.
func largest(groups []*apportioned, e Share) int {
	all := 0
	for _, g := range groups {
		all += g.most * len(g.Capacities)
	}
	for _, g := range groups {
		if least := 2*int(g.Share-e) - 1; least > 0 { // twice the smallest share that rounds to it
			all = min(all, 2*int(Whole)*g.most*len(g.Capacities)/least+1)
		}
	}
	return all
}

func anyPossible(groups []*apportioned, e Share) bool {
	for t := largest(groups, e); t >= len(groups); t-- {
		if _, possible := leftOut(groups, t, e); possible {
			return true
		}
	}
	return false
}

// leftOut is how many instances get nothing at least where all groups together have the total t,
// and whether the groups' intervals hold any that add up to it. An instance gets something as long
// as its group's total is large enough, so what counts is how near each comes to its number of
// instances.
func leftOut(groups []*apportioned, t int, e Share) (n int, possible bool) {
	low, high, wanted := 0, 0, 0
	for _, g := range groups {
		l, h := g.interval(t, e)
		if l > h {
			return 0, false
		}
		low, high = low+l, high+h
		n += max(len(g.Capacities)-h, 0)
		wanted += max(l, min(len(g.Capacities), h))
	}
	return n + max(wanted-t, 0), low <= t && t <= high
}

// search looks for the totals that are least uneven.
type search struct {
	groups    []*apportioned
	unused    int
	low, high []int // of the groups' intervals, at the total that is looked at
	totals    []int // of the groups before the one that is looked at
	best      float64
	choice    []int // with which that is
}

// within takes in the total that is looked at.
func (s *search) within(t int, e Share) {
	for n, g := range s.groups {
		s.low[n], s.high[n] = g.interval(t, e)
	}
}

// choose goes through the totals of the groups from n on, which have rest between them. So many
// instances are left out by the groups before, and uneven is the most uneven of these.
func (s *search) choose(n, rest, unused int, uneven float64) {
	g := s.groups[n]
	low, high := s.low[n], s.high[n]
	if n == len(s.groups)-1 {
		low, high = max(low, rest), min(high, rest)
	} else {
		others := 0 // the most that the groups behind can take
		least := 0
		for k := n + 1; k < len(s.groups); k++ {
			others += s.high[k]
			least += s.low[k]
		}
		low, high = max(low, rest-others), min(high, rest-least)
	}
	for total := low; total <= high; total++ {
		out := unused + max(len(g.Capacities)-total, 0)
		if out > s.unused {
			continue
		}
		mine := uneven
		if !g.within(total, uneven) {
			ok := false
			if mine, ok = g.uneven(total, s.best); !ok {
				continue
			}
		}
		s.totals[n] = total
		if mine = max(mine, uneven); n < len(s.groups)-1 {
			s.choose(n+1, rest-total, out, mine)
			continue
		}
		if mine <= s.best { // of equals the last, which has the smallest total
			s.best, s.choice = mine, slices.Clone(s.totals)
		}
	}
}

// apportioned is a group with how uneven its totals are, found when asked for. Instances
// of the same capacity are taken together.
type apportioned struct {
	Group
	index    int
	most     int
	classes  []class // the largest capacity first
	capacity float64 // of all
	levels   []level // what was apportioned last
	queue    []due   // and by which
	// by total: how uneven it is; 0 where that is not known yet, and exactly 0 is [even], below 0 where it is more than
	// the best was
	known []float64
}

const (
	even    = 1e-300
	tooMuch = -1
)

type class struct {
	capacity float64
	count    int
}

func newApportioned(index int, g Group, most int) *apportioned {
	a := &apportioned{Group: g, index: index, most: most, known: make([]float64, most*len(g.Capacities)+1)}
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

// within reports whether it is known without a look that no instance is off by more than a part of
// the requests with such a total: by largest remainder no weight lies off by a whole one, as long as
// nobody's is below 1 or beyond the range.
func (g *apportioned) within(total int, uneven float64) bool {
	each := float64(total) / g.capacity
	return 1/float64(total) <= uneven && each*g.classes[len(g.classes)-1].capacity >= 1 &&
		each*g.classes[0].capacity <= float64(g.most)
}

// uneven is the largest distance of an instance's part from its part of the capacity with such a
// total, and whether that is no more than the best so far.
func (g *apportioned) uneven(total int, best float64) (float64, bool) {
	switch known := g.known[total]; {
	case known == tooMuch:
		return 0, false
	case known == even:
		return 0, true
	case known > 0:
		return known, known <= best
	}
	if total >= len(g.Capacities) && !g.can(total, best) {
		g.known[total] = tooMuch
		return 0, false
	}
	uneven := unevenness(g.apportion(total), total)
	if g.known[total] = uneven; uneven == 0 {
		g.known[total] = even
	}
	return uneven, uneven <= best
}

// can reports whether any weights with such a total lie off by no more than a part of all requests:
// each has a least and a most then, between whose sums the total has to be.
func (g *apportioned) can(total int, best float64) bool {
	all := float64(total)
	off := best*all*(1+1e-12) + 1e-9 // rather too much: what passes is looked at closely
	low, high := 0.0, 0.0
	for _, c := range g.classes {
		quota := all * c.capacity / g.capacity
		least, most := max(math.Ceil(quota-off), 1), min(math.Floor(quota+off), float64(g.most))
		if least > most {
			return false
		}
		low, high = low+least*float64(c.count), high+most*float64(c.count)
	}
	return low <= all && all <= high
}

func unevenness(levels []level, total int) float64 {
	uneven := 0.0
	for _, l := range levels {
		uneven = max(uneven, math.Abs(float64(l.weight)-l.quota)/float64(total))
	}
	return uneven
}

// weights are those of the instances, in their own order.
func (g *apportioned) weights(total int) (weights []int, unused int, uneven float64) {
	levels := g.apportion(total)
	uneven = unevenness(levels, total)
	weights = make([]int, len(g.Capacities))
	for n, c := range g.Capacities {
		for k := range levels {
			if l := &levels[k]; l.capacity == c && l.count > 0 {
				weights[n] = l.weight
				l.count--
				break
			}
		}
	}
	return weights, max(len(g.Capacities)-total, 0), uneven
}

// level is instances of the same capacity with the same weight.
type level struct {
	class
	quota  float64 // the weight that would be exact
	weight int
}

// apportion shares a total out: at least 1 each as far as it goes, at most the
// range, and otherwise so that the greatest deviation from the quotas is least. The result is good until the next.
func (g *apportioned) apportion(total int) []level {
	least := 1
	if total < len(g.Capacities) {
		least = 0
	}
	levels := slices.Grow(g.levels[:0], len(g.classes)+1)[:len(g.classes)]
	g.levels = levels
	left := total
	for n, c := range g.classes {
		quota := float64(total) * c.capacity / g.capacity
		levels[n] = level{c, quota, min(max(int(quota), least), g.most)}
		if least == 0 {
			levels[n].weight = 0 // as many as can get 1, the largest first
		}
		left -= levels[n].weight * c.count
	}
	step := 1
	if left < 0 {
		step = -1
	}
	// The class that is furthest from its quota is served next.
	queue := g.queue[:0]
	for n := range levels {
		if takes(levels[n], step, least, g.most) {
			queue = append(queue, due{levels[n].off(step), n})
		}
	}
	g.queue = queue
	for n := len(queue)/2 - 1; n >= 0; n-- {
		sink(queue, n)
	}
	for left != 0 {
		l := &levels[queue[0].at]
		if many := min(l.count, max(left, -left)); many < l.count { // only some: the last step
			l.count -= many
			return append(levels, level{class{l.capacity, many}, l.quota, l.weight + step})
		}
		l.weight += step
		left -= step * l.count
		if takes(*l, step, least, g.most) {
			queue[0].off = l.off(step)
		} else {
			queue[0] = queue[len(queue)-1]
			queue = queue[:len(queue)-1]
		}
		sink(queue, 0)
	}
	return levels
}

// off is how far a class is from its quota in the direction of a step.
func (l level) off(step int) float64 { return float64(step) * (l.quota - float64(l.weight)) }

// due is a class that may go a step further, by its place.
type due struct {
	off float64
	at  int
}

// sink restores the order of a heap, of which one may lie too high. The class that is furthest from its
// quota is first, and of equals the largest.
func sink(heap []due, at int) {
	for {
		first := at
		for child := 2*at + 1; child <= 2*at+2 && child < len(heap); child++ {
			if a, b := heap[child], heap[first]; a.off > b.off || a.off == b.off && a.at < b.at {
				first = child
			}
		}
		if first == at {
			return
		}
		heap[at], heap[first] = heap[first], heap[at]
		at = first
	}
}

// takes reports whether a class may go a step further.
func takes(l level, step, least, most int) bool {
	switch {
	case step > 0 && l.weight == most, step < 0 && l.weight == least:
		return false
	}
	return least > 0 || l.weight != 1
}

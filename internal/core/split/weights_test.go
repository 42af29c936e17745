package split

import (
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"vaiven/lab/testkit"
)

// score is what weights are judged by, in order.
type score struct {
	err    Share
	unused int
	uneven float64
}

func scoreOf(groups []Group, w [][]int) (score, bool) {
	var s score
	all := 0
	totals := make([]int, len(groups))
	for n := range groups {
		for _, x := range w[n] {
			totals[n] += x
		}
		all += totals[n]
	}
	if all == 0 {
		return s, false
	}
	for n, g := range groups {
		if (g.Share > 0) != (totals[n] > 0) {
			return s, false // zero stays zero, and nothing else becomes it
		}
		reached, err := FromWeights(uint64(all-totals[n]), uint64(totals[n]))
		if err != nil {
			return s, false
		}
		s.err = max(s.err, reached-g.Share, g.Share-reached)
		capacity := 0.0
		for _, c := range g.Capacities {
			capacity += c
		}
		if g.Share == 0 {
			continue
		}
		for k, x := range w[n] {
			if x == 0 {
				s.unused++
			}
			s.uneven = max(s.uneven, math.Abs(float64(x)/float64(totals[n])-g.Capacities[k]/capacity))
		}
	}
	return s, true
}

func (s score) better(t score) bool {
	if s.err != t.err {
		return s.err < t.err
	}
	if s.unused != t.unused {
		return s.unused < t.unused
	}
	return s.uneven < t.uneven-1e-12
}

// slowly tries all weights there are.
func slowly(groups []Group, most int) score {
	best := score{err: Whole + 1}
	w := make([][]int, len(groups))
	for n, g := range groups {
		w[n] = make([]int, len(g.Capacities))
	}
	for {
		if s, ok := scoreOf(groups, w); ok && s.better(best) {
			best = s
		}
		n, k := 0, 0
		for n < len(w) {
			if k == len(w[n]) {
				n, k = n+1, 0
				continue
			}
			if w[n][k]++; w[n][k] <= most {
				break
			}
			w[n][k] = 0
			k++
		}
		if n == len(w) {
			return best
		}
	}
}

func TestNoWeightsAreBetter(t *testing.T) {
	r := testkit.Rand(t)
	for range 250 {
		groups, most := make([]Group, 2+r.IntN(2)), 1+r.IntN(5)
		left, instances := Whole, 0
		for n := range groups {
			groups[n].Share = Share(r.IntN(int(left) + 1))
			if r.IntN(6) == 0 {
				groups[n].Share = 0
			}
			if n == len(groups)-1 {
				groups[n].Share = left
			}
			left -= groups[n].Share
			for range 1 + r.IntN(3) {
				if instances++; instances > 6 && len(groups[n].Capacities) > 0 {
					break
				}
				groups[n].Capacities = append(groups[n].Capacities, []float64{1, 1, 2, 3.5}[r.IntN(4)])
			}
		}
		got, err := Weigh(groups, most)
		if err != nil {
			t.Fatalf("Weigh(%v, %d): %v", groups, most, err)
		}
		mine, ok := scoreOf(groups, got.Of)
		if best := slowly(groups, most); !ok || best.better(mine) || mine.better(best) {
			t.Fatalf("Weigh(%v, %d) = %v with %+v, the best is %+v", groups, most, got.Of, mine, best)
		}
		if mine.err != got.Error || mine.unused != got.Unused || math.Abs(mine.uneven-got.Uneven) > 1e-12 {
			t.Fatalf("Weigh(%v, %d) says %+v of itself and is %+v", groups, most, got, mine)
		}
	}
}

func equal(n int) []float64 {
	c := make([]float64, n)
	for i := range c {
		c[i] = 1
	}
	return c
}

func TestWeightsOfThree(t *testing.T) {
	got, err := Weigh([]Group{{1000, equal(1)}, {1000, equal(2)}, {8000, equal(4)}}, 256)
	if err != nil || got.Error != 0 || got.Uneven != 0 {
		t.Fatalf("10/10/80: %+v, %v", got, err)
	}
	if a, b, c := got.Of[0][0], got.Of[1][0], got.Of[2][0]; a != 2*b || 8*a != 4*c {
		t.Errorf("10/10/80 as %v", got.Of)
	}
}

// Every share with unequal numbers of instances: shares grow with what was asked,
// nobody is left out without need, and the errors add up.
func TestSharesReachedGrow(t *testing.T) {
	for _, c := range []struct{ blue, green, most int }{{3, 3, 256}, {3, 5, 256}, {1, 7, 100}, {2, 2, 9}} {
		before := Share(-1)
		for s := Share(0); s <= Whole; s += 7 {
			w, err := Weigh([]Group{{Whole - s, equal(c.blue)}, {s, equal(c.green)}}, c.most)
			if err != nil {
				t.Fatal(err)
			}
			if w.Reached[1] < before {
				t.Fatalf("%+v: at %v green gets %v, less than before", c, s, w.Reached[1])
			}
			before = w.Reached[1]
			if (s == 0) != (w.Reached[1] == 0 && w.Of[1][0] == 0) || w.Error < max(w.Reached[1]-s, s-w.Reached[1]) {
				t.Fatalf("%+v: at %v: %+v", c, s, w)
			}
			if c.most == 256 && s > 200 && s < Whole-200 && (w.Unused > 0 || w.Error > 1) {
				t.Fatalf("%+v: at %v: %+v", c, s, w)
			}
		}
	}
}

// A share that is too small for the range leaves instances out, and says so.
func TestTooSmallAShareIsSaid(t *testing.T) {
	w, err := Weigh([]Group{{Whole - 1, equal(3)}, {1, equal(4)}}, 256)
	if err != nil || w.Unused != 3 || w.Reached[1] != 13 || w.Error != 12 {
		t.Errorf("0.01 %%: %+v, %v", w, err)
	}
}

func TestWhatCannotBeWeighed(t *testing.T) {
	for what, groups := range map[string][]Group{
		"nobody takes it": {{5000, equal(1)}, {5000, nil}},
		"not the whole":   {{5000, equal(1)}, {4999, equal(1)}},
		"below zero":      {{-1, equal(1)}, {10001, equal(1)}},
		"no capacity":     {{5000, []float64{0}}, {5000, equal(1)}},
		"not a number":    {{5000, []float64{math.NaN()}}, {5000, equal(1)}},
	} {
		if w, err := Weigh(groups, 256); err == nil {
			t.Errorf("%s: %+v", what, w)
		}
	}
	if _, err := Weigh([]Group{{Whole, equal(1)}}, 0); err == nil {
		t.Error("a range up to 0")
	}
}

// sizes are capacities that all differ.
func sizes(n int) []float64 {
	c := make([]float64, n)
	for i := range c {
		c[i] = 100 + 37*math.Mod(float64(i)*math.Phi, 1) + float64(i)/1000
	}
	return c
}

func BenchmarkWeigh(b *testing.B) {
	uneven := equal(300)
	for i := range uneven {
		uneven[i] = float64(1 + i%5)
	}
	for name, groups := range map[string][]Group{
		"3 and 3":                   {{7500, equal(3)}, {2500, equal(3)}},
		"300 and 200":               {{Whole - 1234, equal(300)}, {1234, equal(200)}},
		"300 of 5 sizes, 100":       {{Whole - 1234, uneven}, {1234, equal(100)}},
		"250 and 250 of many sizes": {{Whole - 1234, sizes(250)}, {1234, sizes(250)}},
		"three of many sizes":       {{1000, sizes(100)}, {1000, sizes(150)}, {8000, sizes(250)}},
		"10/10/80 of hundreds":      {{1000, equal(100)}, {1000, equal(150)}, {8000, equal(301)}},
	} {
		b.Run(name, func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				if _, err := Weigh(groups, 256); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// Where one group gets everything no search is needed, and each instance's part is as near to its capacity as the
// largest weight allows.
func TestWeighAlone(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	for range 300 {
		most := []int{1, 9, 100, 256}[r.IntN(4)]
		groups := []Group{{Share: Whole}, {}}
		for range 1 + r.IntN(40) {
			groups[0].Capacities = append(groups[0].Capacities, float64(1+r.IntN(400)))
			groups[1].Capacities = append(groups[1].Capacities, 1)
		}
		w, err := WeighAlone(groups, most)
		if err != nil {
			t.Fatal(err)
		}
		largest := slices.Max(groups[0].Capacities)
		for k, c := range groups[0].Capacities {
			weight := w.Of[0][k]
			if weight < 1 || weight > most || math.Abs(float64(weight)/float64(most)-c/largest) > 1/float64(most) &&
				slices.Min(groups[0].Capacities) < largest {
				t.Fatalf("of %v up to %d the %d-th has %d", groups[0].Capacities, most, k, weight)
			}
		}
		sum, all, uneven := 0.0, 0.0, 0.0
		for k, c := range groups[0].Capacities {
			sum, all = sum+float64(w.Of[0][k]), all+c
		}
		for k, c := range groups[0].Capacities {
			uneven = max(uneven, math.Abs(float64(w.Of[0][k])/sum-c/all))
		}
		if math.Abs(w.Uneven-uneven) > 1e-12 {
			t.Fatalf("of %v it is said to be uneven by %g, and is by %g", groups[0].Capacities, w.Uneven, uneven)
		}
		if slices.Max(w.Of[1]) != 0 || w.Reached[0] != Whole || w.Reached[1] != 0 {
			t.Fatalf("it reached %v with %v", w.Reached, w.Of)
		}
	}
	if w, err := WeighAlone([]Group{{}, {Share: Whole, Capacities: []float64{5, 5, 5}}}, 256); err != nil ||
		slices.Max(w.Of[1]) != 1 {
		t.Errorf("equal ones weigh %v, %v", w.Of, err)
	}
	one := []float64{1}
	for _, bad := range []struct {
		groups []Group
		says   string
	}{
		{[]Group{{}, {Share: Whole}}, "group 2 "},
		{[]Group{{Share: 5000, Capacities: one}, {Share: 5000, Capacities: one}}, "group 1 "},
		{[]Group{{}, {Share: Whole, Capacities: []float64{1, 0}}}, "group 2 "},
		{[]Group{{Share: Whole, Capacities: []float64{1, math.Inf(1)}}}, "group 1 "},
	} {
		if w, err := WeighAlone(bad.groups, 256); err == nil || !strings.Contains(err.Error(), bad.says) {
			t.Errorf("%v weigh %v, %v", bad.groups, w, err)
		}
	}
	for _, bad := range []struct {
		groups []Group
		most   int
		says   string
	}{
		{[]Group{{Share: -1}, {Share: Whole + 1, Capacities: one}}, 256, "group 1 "},
		{[]Group{{}, {Share: Whole}}, 256, "group 2 "},
		{[]Group{{}, {Share: Whole, Capacities: []float64{-1}}}, 256, "group 2 "},
		{[]Group{{Share: 9999, Capacities: one}}, 256, "add up to 99.99"},
		{[]Group{{Share: Whole, Capacities: one}}, 0, "want 1 to 65536"},
		{[]Group{{Share: Whole, Capacities: one}}, 1<<16 + 1, "want 1 to 65536"},
	} {
		if w, err := Weigh(bad.groups, bad.most); err == nil || !strings.Contains(err.Error(), bad.says) {
			t.Errorf("%v weigh %v, %v", bad.groups, w, err)
		}
	}
	if _, err := Weigh([]Group{{Share: Whole, Capacities: one}}, 1<<16); err != nil {
		t.Errorf("weights up to the largest: %v", err)
	}
}

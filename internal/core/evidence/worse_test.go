package evidence

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"gonum.org/v1/gonum/stat/distuv"

	"vaiven/lab/testkit"
)

// chance is that of so many bad answers, by the definition of the binomial distribution.
func chance(c Count, p float64) float64 {
	lg := func(n int64) float64 { v, _ := math.Lgamma(float64(n + 1)); return v }
	return math.Exp(lg(c.Of) - lg(c.Bad) - lg(c.Of-c.Bad) + xlog(float64(c.Bad), p) + xlog(float64(c.Of-c.Bad), 1-p))
}

// each goes through all that can come of a block of so many answers.
func each(nb, ng int64, see func(Block)) {
	for xb := range nb + 1 {
		for xg := range ng + 1 {
			see(Block{Count{xb, nb}, Count{xg, ng}})
		}
	}
}

// expected is the expectation of what a block multiplies evidence by.
func expected(nb, ng int64, pb, pg float64, worth func(Block) float64) float64 {
	sum := 0.0
	each(nb, ng, func(b Block) { sum += chance(b.Live, pb) * chance(b.Trial, pg) * worth(b) })
	return sum
}

// No pair of rates that the hypothesis holds for lets a bet grow on average: all that can come of
// small blocks is gone through.
func TestABetDoesNotGrowUnderTheHypothesis(t *testing.T) {
	rates := []float64{0, 0.001, 0.01, 0.05, 0.2, 0.5, 0.8, 0.95, 1}
	for _, n := range [][2]int64{{1, 1}, {5, 1}, {1, 6}, {9, 4}, {3, 12}} {
		for _, base := range []float64{1e-5, 0.01, 0.25} {
			for _, shift := range []float64{0.001, 0.005, 0.05, 0.3} {
				for _, live := range rates {
					for _, trial := range rates {
						if trial <= live+shift { // no worse than the margin
							for _, size := range beyond {
								if base+shift+size >= 1 {
									continue
								}
								p := against(base, base+shift+size, shift, float64(n[0]), float64(n[1]))
								if e := expected(n[0], n[1], live, trial,
									func(b Block) float64 { return math.Exp(p.log(b)) }); e > 1+1e-9 {
									t.Fatalf("worse by %v beyond %v at %v, %v answers: %v and %v come to %.12f", size,
										shift, base, n, live, trial, e)
								}
							}
						}
						if trial >= live+shift { // a fault of that size, or larger
							for _, part := range []float64{0, 1. / 3} {
								p := against(base, base+part*shift, shift, float64(n[0]), float64(n[1]))
								if e := expected(n[0], n[1], live, trial,
									func(b Block) float64 { return math.Exp(p.log(b)) }); e > 1+1e-9 {
									t.Fatalf("no fault of %v at %v, %v answers: %v and %v come to %.12f", shift, base,
										n, live, trial, e)
								}
							}
						}
					}
				}
			}
		}
	}
}

// The pair of rates next to an alternative is the closest there is, by trying all.
func TestTheNearestPairIsTheNearest(t *testing.T) {
	r := testkit.Rand(t)
	for range 300 {
		b, shift := 1e-5+0.25*r.Float64(), 0.001+0.2*r.Float64()
		trial := min(0.99, b+shift*2*r.Float64())
		nb, ng := float64(1+r.IntN(500)), float64(1+r.IntN(500))
		p := against(b, trial, shift, nb, ng)
		if math.Abs(p.nullTrial-p.nullLive-shift) > 1e-12 {
			t.Fatalf("%+v does not lie on the border", p)
		}
		distance := func(q float64) float64 { return nb*kl(b, q) + ng*kl(trial, q+shift) }
		for k := 1; k < 2000; k++ {
			if q := (1 - shift) * float64(k) / 2000; distance(q) < distance(p.nullLive)-1e-9 {
				t.Fatalf("live %v, trial %v, shift %v, %v and %v answers: %v is nearer than %v", b, trial, shift, nb,
					ng, q, p.nullLive)
			}
		}
		if p.information(nb, ng) < 0 {
			t.Errorf("%+v adds less than nothing", p)
		}
	}
}

// slow is what [Worse] is by its definition: every bet that was ever begun, on its own.
func slow(margin float64, horizon int, blocks []Block) float64 {
	var live Base
	var bets []float64 // of all sizes: product
	var size []int
	begin := NewWorse(margin, horizon)
	for n := range beyond {
		bets, size = append(bets, 0.5), append(size, n) // from the start
	}
	k := 0
	for _, b := range blocks {
		if b.Both() {
			for n := range beyond {
				bets, size = append(bets, 0.5*begin.part(k)), append(size, n)
			}
			k++
			for i := range bets {
				if d := margin + beyond[size[i]]; live.Rate()+d < 1 {
					p := against(live.Rate(), live.Rate()+d, margin, float64(b.Live.Of), float64(b.Trial.Of))
					bets[i] *= math.Exp(p.log(b))
				}
			}
		}
		live.Learn(b.Live)
	}
	sum := 0.0
	for _, v := range bets {
		sum += v
	}
	return math.Log(sum / float64(len(beyond)))
}

func binomial(r *rand.Rand, n int64, p float64) Count {
	if n == 0 || p <= 0 {
		return Count{0, n}
	}
	return Count{int64(distuv.Binomial{N: float64(n), P: p, Src: r}.Rand()), n}
}

func TestEvidenceAgreesWithItsDefinition(t *testing.T) {
	r := testkit.Rand(t)
	for range 20 {
		w := NewWorse(0.005, 25)
		var blocks []Block
		for k := range 60 {
			b := Block{binomial(r, int64(r.IntN(40)), 0.02), binomial(r, int64(r.IntN(20)), 0.02)}
			if k > 30 {
				b.Trial = binomial(r, b.Trial.Of, 0.1)
			}
			blocks = append(blocks, b)
			w.Add(b)
		}
		data, err := json.Marshal(w)
		var again Worse
		if err != nil || json.Unmarshal(data, &again) != nil {
			t.Fatalf("it cannot be written: %v", err)
		}
		if want := slow(0.005, 25, blocks); !near(w.Log(), want, 1e-6) || !near(again.Log(), want, 1e-6) {
			t.Fatalf("%v, read back %v, want %v", w.Log(), again.Log(), want)
		}
	}
}

// All bets together begin with no more than 1.
func TestBetsBeginWithOne(t *testing.T) {
	for _, horizon := range []int{1, 10, 4200} {
		w := NewWorse(0.01, horizon)
		sum := 0.0
		for k := range 2_000_000 {
			sum += w.part(k)
		}
		if sum > 1 || sum < 0.99 {
			t.Errorf("horizon %d: %v", horizon, sum)
		}
	}
	if w := NewWorse(0.01, 100); !near(w.Log(), -math.Log(2), 1e-12) || w.Sure(1) != 0 {
		t.Errorf("nothing seen comes to %v", w.Log()) // half of it is not begun yet
	}
}

// crossing is what a whole one answers, block by block.
type traffic struct {
	perSecond, live, fault float64
	share                  func(block int) float64
	from                   int // when the fault begins
	shock                  func(block int) float64
}

func (c traffic) block(r *rand.Rand, k int) Block {
	n := distuv.Poisson{Lambda: c.perSecond / 2, Src: r}.Rand()
	g := binomial(r, int64(n), c.share(k)).Bad
	base := c.live
	if c.shock != nil {
		base += c.shock(k)
	}
	fault := 0.0
	if k >= c.from {
		fault = c.fault
	}
	return Block{binomial(r, int64(n)-g, min(base, 1)), binomial(r, g, min(base+fault, 1))}
}

func median(list []int) int {
	if len(list) == 0 {
		return 0
	}
	return slices.Sorted(slices.Values(list))[len(list)/2]
}

func steady(share float64) func(int) float64 { return func(int) float64 { return share } }

// alarms is in how many of some runs evidence came to a certainty, and after how many blocks in
// the middle one of those that did.
func alarms(r *rand.Rand, c traffic, runs, blocks int, margin, sure, part float64) (found int, middle int) {
	var when []int
	for range runs {
		w := NewWorse(margin, blocks)
		for k := range blocks {
			if w.Add(c.block(r, k)); w.Sure(part) >= sure {
				when = append(when, k-c.from+1)
				break
			}
		}
	}
	if len(when) == 0 {
		return 0, 0
	}
	return len(when), median(when)
}

// most is what a number of runs may come to with a chance each, five standard deviations above.
func most(runs int, p float64) int {
	return int(float64(runs)*p + 5*math.Sqrt(float64(runs)*p*(1-p)))
}

// Equal sides, sides exactly at the margin, and what hits both as the share changes: a false
// alarm is as rare as promised, however often one looks.
func TestEvidenceIsSeldomWrong(t *testing.T) {
	r := testkit.Rand(t)
	const runs, blocks, alpha = 60, 1200, 0.05
	for _, c := range []struct {
		name string
		traffic
	}{
		{"equal", traffic{perSecond: 100, live: 0.01, share: steady(0.25)}},
		{"nothing fails", traffic{perSecond: 100, share: steady(0.05)}},
		{"at the margin", traffic{perSecond: 200, live: 0.01, fault: 0.005, share: steady(0.5)}},
		{"an incident as the share changes", traffic{
			perSecond: 100, live: 0.001,
			share: func(k int) float64 { return []float64{0.05, 0.5}[min(k/600, 1)] },
			shock: func(k int) float64 { return map[bool]float64{true: 0.3}[k > 580 && k < 640] },
		}},
	} {
		if n, _ := alarms(r, c.traffic, runs, blocks, 0.005, 1-alpha, 1); n > most(runs, alpha) {
			t.Errorf("%s: %d of %d runs alarmed", c.name, n, runs)
		}
	}
}

// A fault is found about as soon as information allows, whether it is there from the start or begins
// later.
func TestEvidenceIsQuick(t *testing.T) {
	r := testkit.Rand(t)
	const margin, level, blocks = 0.005, 0.005, 3000
	for _, c := range []traffic{
		{perSecond: 100, live: 0.01, fault: 0.05, share: steady(0.05)},
		{perSecond: 100, live: 0.001, fault: 0.01, share: steady(0.25)},
		{perSecond: 1000, live: 0.01, fault: 0.2, share: steady(0.01), from: 600},
		{perSecond: 100, live: 0.01, fault: 0.05, share: steady(0.5), from: 600},
	} {
		c.live = max(c.live, leastBase)
		n, middle := alarms(r, c, 25, blocks, margin, 1-level, 1)
		s := c.share(0)
		flow := Flow{Live: c.perSecond * (1 - s), Trial: c.perSecond * s, Base: c.live}
		bound := 2.5*2*flow.ToFind(c.fault, margin, level) + 2
		if c.from > 0 {
			bound = 2*2*flow.ToFind(c.fault, margin, level/float64(c.from)) + 2
		}
		// The middle of so few runs may lie a third beside that of all, and docs/benchmarks.md has that.
		if n < 22 || float64(middle) > 1.35*bound {
			t.Errorf("%+v: found in %d of 25 runs, in the middle after %d blocks, want %.0f", c, n, middle, bound)
		}
	}
}

// With nothing beside it, a side is held against a rate that is known.
func TestAgainstARate(t *testing.T) {
	r := testkit.Rand(t)
	good, bad := 0, 0
	for range 60 {
		for _, c := range []struct {
			rate float64
			n    *int
		}{{0.015, &good}, {0.06, &bad}} {
			w := NewWorse(0.005, 600)
			for range 600 {
				if w.AddAgainst(0.01, binomial(r, 20, c.rate)); w.Sure(1) >= 0.95 {
					*c.n++
					break
				}
			}
		}
	}
	if good > most(60, 0.05) || bad < 60 {
		t.Errorf("at the margin %d of 60 alarmed, with a fault %d of 60", good, bad)
	}
	w := NewWorse(0.005, 600)
	w.AddAgainst(0.999, Count{10, 10}) // nothing could be worse
	if w.Log() > 1e-9 {
		t.Errorf("of a rate that cannot be exceeded it says %v", w.Log())
	}
}

// What is excluded is not there, and what is not there is excluded in time.
func TestExcluded(t *testing.T) {
	r := testkit.Rand(t)
	const runs, blocks = 60, 1500
	wrong, took := 0, []int{}
	for range runs {
		there, none := NewExcluded(0.012, Base{}), NewExcluded(0.012, Base{})
		bad, done := false, 0
		for k := range blocks {
			there.Add(traffic{perSecond: 100, live: 0.01, fault: 0.012, share: steady(0.25)}.block(r, k))
			none.Add(traffic{perSecond: 100, live: 0.01, share: steady(0.25)}.block(r, k))
			bad = bad || there.At(0.012) >= 0.95
			if done == 0 && none.At(0.012) >= 0.95 {
				done = k + 1
			}
		}
		if bad {
			wrong++
		}
		if done > 0 {
			took = append(took, done)
		}
		if least := none.Least(0.95); none.At(least) < 0.95 || least > 0.012 {
			t.Errorf("the least excluded is %v, at %v", least, none.At(least))
		}
	}
	flow := Flow{Live: 75, Trial: 25, Base: 0.01}
	if bound := 2.5*2*flow.ToExclude(0.012, 0.05) + 2; wrong > most(runs, 0.05) || len(took) < runs-1 ||
		float64(median(took)) > bound {
		t.Errorf("a fault that is there was excluded in %d of %d runs; one that is not in %d, after %v blocks, want "+
			"%.0f", wrong, runs, len(took), median(took), bound)
	}
	if x := NewExcluded(0.05, Base{}); x.Least(0.5) != 1 || len(x.Size) != len(Sizes) || x.At(0.033) != 0 {
		t.Errorf("nothing seen excludes %v", x.Least(0.5))
	}
}

// The range of a difference holds it, and what hits both sides at once moves it by nothing.
func TestBetween(t *testing.T) {
	r := testkit.Rand(t)
	missed := 0
	const runs, blocks = 60, 800
	for range runs {
		var d Between
		c := traffic{
			perSecond: 100, live: 0.01, fault: 0.03,
			share: func(k int) float64 { return []float64{0.05, 0.5}[min(k/400, 1)] },
			shock: func(k int) float64 { return map[bool]float64{true: 0.3}[k > 380 && k < 440] },
		}
		out := false
		for k := range blocks {
			d.Add(c.block(r, k))
			if _, i := d.Difference(0.05); k > 20 && (i.Low > 0.03 || i.High < 0.03) {
				out = true
			}
		}
		if at, i := d.Difference(0.05); i.High-i.Low > 0.03 || !near(at, 0.03, 0.015) {
			t.Errorf("%v, between %v and %v", at, i.Low, i.High)
		}
		if out {
			missed++
		}
	}
	if missed > most(runs, 0.05) {
		t.Errorf("the range missed the difference in %d of %d runs", missed, runs)
	}
	if _, i := (Between{}).Difference(0.05); i != (Interval{-1, 1}) {
		t.Errorf("nothing seen lies in %v", i)
	}
}

func TestFlow(t *testing.T) {
	f := Flow{Live: 95, Trial: 5, Base: 0.01}
	if one, ten := f.ToFind(0.05, 0.005, 0.01),
		(Flow{Live: 950, Trial: 50, Base: 0.01}).ToFind(0.05, 0.005, 0.01); !near(one, 10*ten, 1e-9*one) {
		t.Errorf("ten times the answers take %v in place of %v", ten, one)
	}
	for _, s := range []float64{f.ToFind(0.005, 0.005, 0.01), f.ToExclude(0, 0.01), (Flow{}).ToFind(0.1, 0, 0.01),
		f.ToFind(0.995, 0, 0.01), (Flow{Live: 1}).ToExclude(0.1, 0.01), f.ToExclude(0.999, 0.01)} {
		if !math.IsInf(s, 1) {
			t.Errorf("what cannot be known takes %v", s)
		}
	}
	if small, large := f.ToExclude(0.01, 0.01), f.ToExclude(0.05, 0.01); small <= large || large <= 0 {
		t.Errorf("to exclude 1 %% takes %v, 5 %% takes %v", small, large)
	}
}

func TestMean(t *testing.T) {
	if m := Mean(math.Log(4), math.Log(2), math.Inf(-1)); !near(m, math.Log(2), 1e-12) {
		t.Errorf("%v", m)
	}
	if s := SureOf(math.Log(400), 0.25); !near(s, 0.99, 1e-12) {
		t.Errorf("%v", s)
	}
}

func BenchmarkWorse(b *testing.B) {
	w := NewWorse(0.005, 4200)
	b.ReportAllocs()
	for b.Loop() {
		w.Add(Block{Count{1, 350}, Count{0, 20}})
		w.Log()
	}
}

// A side that gets nothing, while every answer is a good one, has no fault: requests go elsewhere.
func TestNothingBadIsNoFault(t *testing.T) {
	w := NewWorse(0.05, 2000)
	w.Learn(Count{Of: 1000})
	for range 600 {
		w.AddUnnamed(Unnamed{Live: 20}, 0.25)
		if w.Log() > 0 {
			t.Fatalf("it speaks against it by %.2f", w.Log())
		}
	}
	w = NewWorse(0.05, 2000)
	w.Learn(Count{Of: 1000})
	for range 5 {
		w.AddUnnamed(Unnamed{Live: 15, Bad: 5}, 0.25)
	}
	if w.Log() < 5 {
		t.Errorf("where a quarter gets nothing good it is %.2f", w.Log())
	}
}

// Bad answers that nobody's name is on are no one side's: where they are as many as the live side always had, and
// both get their share of the good ones, nothing speaks against the trial; where it gets fewer good ones, that does.
func TestUnnamedAnswersAreNoOnesAlone(t *testing.T) {
	for _, c := range []struct {
		name  string
		block Unnamed
		worse bool
	}{
		{"as ever", Unnamed{Live: 68, Trial: 22, Bad: 10}, false},
		{"all bad ones the trial's", Unnamed{Live: 75, Trial: 15, Bad: 10}, true},
	} {
		w := NewWorse(0.05, 1000)
		w.Learn(Count{Bad: 100, Of: 1000})
		if c.worse {
			w = NewWorse(0.05, 1000)
			w.Learn(Count{Bad: 0, Of: 1000})
		}
		for range 100 {
			w.AddUnnamed(c.block, 0.25)
		}
		if found := w.Log() > 10; found != c.worse {
			t.Errorf("%s: the evidence is e^%.1f", c.name, w.Log())
		}
	}
}

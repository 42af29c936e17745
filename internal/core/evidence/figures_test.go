package evidence

import (
	"math"
	"math/rand/v2"
	"testing"
)

// Every block is worth at most 1 on average, whatever the ratio is that the margin allows: all outcomes of small
// blocks are gone through.
func TestFewerIsFair(t *testing.T) {
	for _, share := range []float64{0.05, 0.3, 0.5, 0.9} {
		for _, ratio := range []float64{0.9, 1, 1.4} {
			const all = 12
			p := partOf(ratio, share)
			sum := 0.0
			for x := range all + 1 {
				f := NewFewer(0.1, 10)
				f.Add(Counted{Live: int64(all - x), Trial: int64(x)}, share)
				sum += math.Exp(f.Log()) * binomialChance(all, x, p)
			}
			if f := NewFewer(0.1, 10); sum > math.Exp(f.Log())+0.5+1e-9 || sum > 1+1e-9 {
				t.Errorf("at a share of %g and a ratio of %g it is worth %g", share, ratio, sum)
			}
		}
	}
}

func binomialChance(n, k int, p float64) float64 {
	a, _ := math.Lgamma(float64(n + 1))
	b, _ := math.Lgamma(float64(k + 1))
	c, _ := math.Lgamma(float64(n - k + 1))
	return math.Exp(a - b - c + xlog(float64(k), p) + xlog(float64(n-k), 1-p))
}

// poisson draws a count of things that come one by one.
func poisson(r *rand.Rand, mean float64) int64 {
	n, left := int64(0), math.Exp(-mean)
	for p := r.Float64(); p > left; p *= r.Float64() {
		n++
	}
	return n
}

// Equal sides are not said to differ, over a day that has its ups and downs, with customers who book several at a
// time; a side that comes to a third less is.
func TestFewer(t *testing.T) {
	alarms, found, took := 0, 0, 0
	const runs, blocks = 200, 300
	for run := range runs {
		r := rand.New(rand.NewPCG(uint64(run), 5))
		for _, ratio := range []float64{1, 0.67} {
			f, sure := NewFewer(0.1, blocks), false
			for k := range blocks {
				rate := 20 * (1 + 0.8*math.Sin(float64(k)/20))
				times := int64(1)
				if run%2 == 1 {
					times = 4
				}
				several := func(mean float64) int64 { return times * poisson(r, mean/float64(times)) }
				live := []int64{several(rate * 0.25), several(rate * 0.25), several(rate * 0.25)}
				trial := several(rate * 0.25 * ratio)
				f.Add(Counted{Live: live[0] + live[1] + live[2], Trial: trial}, 0.25)
				f.Noise.Learn(live)
				switch {
				case sure || f.Sure(1) < 0.99:
				case ratio == 1:
					sure = true
					alarms++
				default:
					sure = true
					found, took = found+1, took+k
				}
			}
			if ratio < 1 {
				continue
			}
			if got, in := f.Sum.Ratio(0.001, f.Noise.Factor()); !in.holds(1) || got < 0.8 || got > 1.25 {
				t.Errorf("run %d: equal sides have a ratio of %g in %v", run, got, in)
			}
		}
	}
	if alarms > 6 || found < runs*95/100 {
		t.Errorf("%d alarms and %d found of %d", alarms, found, runs)
	}
	t.Logf("%d alarms, %d found of %d, after %d blocks", alarms, found, runs, took/max(found, 1))
}

func (i Interval) holds(v float64) bool { return i.Low <= v && v <= i.High }

// What is only noise is known as such.
func TestNoise(t *testing.T) {
	var alone, groups Noise
	r := rand.New(rand.NewPCG(1, 2))
	for range 500 {
		alone.Learn([]int64{poisson(r, 8), poisson(r, 8), poisson(r, 8)})
		groups.Learn([]int64{5 * poisson(r, 2), 5 * poisson(r, 2), 5 * poisson(r, 2)})
		groups.Learn([]int64{3})
		groups.Learn([]int64{0, 0})
	}
	if f := alone.Factor(); f > 1.15 {
		t.Errorf("chance alone has a noise of %g", f)
	}
	if f := groups.Factor(); f < 4 || f > 6 {
		t.Errorf("five at a time have a noise of %g", f)
	}
	if f := (Noise{}).Factor(); f != 1 {
		t.Errorf("what was never seen has a noise of %g", f)
	}
}

// A number that only wanders around is not said to stand higher or to grow: not one that is alike from reading to
// reading, and not one that is swept every now and then. One that grows, or stands higher, is found.
func TestDrift(t *testing.T) {
	const runs, readings = 120, 400
	shapes := map[string]func(r *rand.Rand) func(k int) float64{
		"white": func(r *rand.Rand) func(int) float64 { return func(int) float64 { return r.NormFloat64() } },
		"slow": func(r *rand.Rand) func(int) float64 {
			v := 0.0
			return func(int) float64 { v = 0.8*v + r.NormFloat64(); return v }
		},
		"swept": func(r *rand.Rand) func(int) float64 {
			at, length := r.IntN(17), 11+r.IntN(7)
			return func(k int) float64 { return float64((k+at)%length) / 4 }
		},
		"still": func(*rand.Rand) func(int) float64 { return func(int) float64 { return 3 } },
	}
	for name, shape := range shapes {
		for _, growth := range []bool{false, true} {
			first := func(r *rand.Rand, margin, more float64) int {
				next := shape(r)
				d := NewDrift(margin, growth)
				for k := range readings {
					at := float64(k) / 12
					v := next(k)
					if growth {
						v += more * at
					} else {
						v += more
					}
					d.Add(at, v)
					if SureOf(d.Log(), 1) >= 0.99 {
						return k
					}
				}
				return -1
			}
			alarms, found, took := 0, 0, 0
			for run := range runs {
				margin, more := 0.1, 0.0
				switch {
				case name == "still" && !growth:
					margin, more = 3, 0
				case growth:
					margin = 1
				}
				// its mean is above
				if first(rand.New(rand.NewPCG(uint64(run), 7)), margin, more) >= 0 && !(name == "swept" && !growth) {
					alarms++
				}
				if k := first(rand.New(rand.NewPCG(uint64(run), 9)), margin, 6); k >= 0 {
					found, took = found+1, took+k
				}
			}
			t.Logf("%s, growth %v: %d alarms, %d found of %d after %d readings", name, growth, alarms, found, runs,
				took/max(found, 1))
			if alarms > runs/25 || found < runs*95/100 {
				t.Errorf("%s, growth %v: %d alarms, %d found of %d", name, growth, alarms, found, runs)
			}
		}
	}
}

// Few batches say little, and what is no number says nothing.
func TestDriftOfLittle(t *testing.T) {
	d := NewDrift(1, true)
	d.Add(0, math.NaN())
	d.Add(0, math.Inf(1))
	if _, in := d.Range(0.05); len(d.Batches) != 0 || d.Log() != 0 || !math.IsInf(in.High, 1) {
		t.Errorf("it has taken in %+v", d)
	}
	for k := range 20 {
		d.Add(float64(k)/12, float64(k)*10)
	}
	if sure := SureOf(d.Log(), 1); sure >= 0.999 {
		t.Errorf("five batches make it %g sure", sure)
	}
	for k := range 2000 {
		d.Add(float64(20+k)/12, float64(20+k)*10)
	}
	mean, in := d.Range(0.05)
	if len(d.Batches) > mostBatches || math.Abs(mean-120) > 1e-6 || !in.holds(120) || in.High > 121 {
		t.Errorf("it grows by %g, in %v, over %d batches of %d", mean, in, len(d.Batches), d.Length)
	}
}

package evidence

import (
	"testing"

	"vaiven/lab/testkit"
)

// A good split is hardly ever called off, however often one looks, and is called as
// asked when there was enough to see.
func TestAGoodSplitIsAsAsked(t *testing.T) {
	r := testkit.Rand(t)
	wrong := 0
	const runs = 20
	for _, asked := range []float64{0.01, 0.05, 0.25, 0.5, 0.9} {
		for range runs {
			var c Count
			for c.Of < 4000 {
				for range 200 {
					c.Of++
					if r.Float64() < asked {
						c.Bad++
					}
				}
				if Asked(asked, c, Independent).Verdict == Wrong {
					wrong++
					break
				}
			}
		}
		c := Count{Bad: int64(asked * 40_000), Of: 40_000}
		if s := Asked(asked, c, Independent); s.Verdict != AsAsked || s.More != 0 || s.Range.Low > asked ||
			s.Range.High < asked {
			t.Errorf("asked %v, seen %+v: %+v", asked, c, s)
		}
	}
	if wrong > 2 { // of 100, a tenth of one is expected
		t.Errorf("%d of %d good splits were called off", wrong, 5*runs)
	}
}

// A front that ignores the change, and one of two that was forgotten, are noticed
// within a number of requests that chance allows.
func TestAWrongSplitIsNoticed(t *testing.T) {
	r := testkit.Rand(t)
	for _, c := range []struct {
		asked, is float64
		within    int64
	}{
		{0.05, 0, 300}, {0.25, 0, 60}, {0.5, 0.25, 200}, {0.1, 0.05, 1500}, {1, 0.5, 30}, {0, 0.5, 30}, {1, 0, 20},
	} {
		late := 0
		for range 20 {
			var n Count
			for Asked(c.asked, n, Independent).Verdict != Wrong {
				n.Of++
				if r.Float64() < c.is {
					n.Bad++
				}
				if n.Of > c.within { // looked at after each: the most that is asked of it
					late++
					break
				}
			}
		}
		if late > 2 {
			t.Errorf("asked %v, is %v: %d of 20 not noticed within %d requests", c.asked, c.is, late, c.within)
		}
	}
}

func TestTooFewRequestsAreSaid(t *testing.T) {
	for _, asked := range []float64{0, 0.01, 0.25, 0.5, 1} {
		s := Asked(asked, Count{}, Independent)
		if s.Verdict != TooFewSeen || s.More < 100 || s.Range != (Interval{0, 1}) {
			t.Errorf("asked %v, nothing seen: %+v", asked, s)
		}
		// So many more, split as asked, are enough; a tenth fewer are not.
		n := s.More
		if s := Asked(asked, Count{Bad: int64(asked*float64(n) + 0.5), Of: n}, Independent); s.Verdict != AsAsked {
			t.Errorf("asked %v, after %d: %+v", asked, n, s)
		}
		n -= n / 10
		if s := Asked(asked, Count{Bad: int64(asked*float64(n) + 0.5), Of: n}, Independent); s.Verdict != TooFewSeen ||
			s.More < 1 {
			t.Errorf("asked %v, after %d: %+v", asked, n, s)
		}
	}
}

// A front that ignores what it is told, or does half of it, is never called as asked: not by the
// first requests, and not by many.
func TestAFrontThatIgnoresALegIsNeverAsAsked(t *testing.T) {
	r := testkit.Rand(t)
	for _, c := range []struct{ asked, is float64 }{{0.01, 0}, {0.05, 0}, {0.01, 0.005}, {0.05, 0.025}, {0.05, 0.1},
		{0.5, 0.45}, {1, 0.99}, {0, 0.01}} {
		called := 0
		for range 20 {
			for n := (Count{}); n.Of < 12_000; {
				for range 40 {
					n.Of++
					if r.Float64() < c.is {
						n.Bad++
					}
				}
				if Asked(c.asked, n, Independent).Verdict == AsAsked {
					called++
					break
				}
			}
		}
		if c.is == 0 && called > 0 || called > 4 { // one of 20 is expected
			t.Errorf("asked %v, is %v: called as asked in %d of 20 runs", c.asked, c.is, called)
		}
	}
}

func TestChance(t *testing.T) {
	if c := Chance(0.25, 100); c.Low < 0.13 || c.Low > 0.17 || c.High < 0.35 || c.High > 0.39 {
		t.Errorf("a quarter of a hundred clients is %+v by chance", c)
	}
}

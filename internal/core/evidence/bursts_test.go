package evidence

import (
	"testing"

	"vaiven/lab/testkit"
)

// Independent answers are no bursts, and bursts are told from them.
func TestBursts(t *testing.T) {
	r := testkit.Rand(t)
	draw := func(n int, rate float64) (c Count) {
		for c.Of = int64(n); n > 0; n-- {
			if r.Float64() < rate {
				c.Bad++
			}
		}
		return c
	}
	for _, rate := range []float64{0, 0.001, 0.02} {
		var calm, burst Clumps
		for n := range 1000 {
			calm.Learn(draw(300, rate))
			if n%40 == 0 {
				burst.Learn(draw(300, rate+0.2))
			} else {
				burst.Learn(draw(300, rate))
			}
		}
		if b := calm.Bursts(); b.Known() || b.Of.Bad > 1 || b.Usual < rate*0.6 || b.Usual > rate+0.001 {
			t.Errorf("independent answers of which %v fail: %+v", rate, b)
		}
		if b := burst.Bursts(); !b.Known() || b.Of.Bad < 23 || b.Of.Bad > 27 || b.Usual > rate+0.002 {
			t.Errorf("bursts beside %v: %+v", rate, b)
		}
	}
	var none Clumps
	none.Learn(Count{})
	if b := none.Bursts(); b != (Bursts{}) {
		t.Errorf("of nothing: %+v", b)
	}
}

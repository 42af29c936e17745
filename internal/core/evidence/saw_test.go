package evidence

import (
	"math"
	"testing"

	"vaiven/lab/testkit"
)

func TestSaw(t *testing.T) {
	r := testkit.Rand(t)
	for name, c := range map[string]struct {
		of    func(n int) float64
		drops int
	}{
		"swept each minute": {func(n int) float64 { return 100 + 80*math.Mod(float64(n), 60)/60 + r.NormFloat64() }, 9},
		"noise":             {func(int) float64 { return 100 + 20*r.NormFloat64() }, 0},
		"it only grows":     {func(n int) float64 { return float64(n) + r.NormFloat64() }, 0},
		"small teeth":       {func(n int) float64 { return 100 + 8*math.Mod(float64(n), 60)/60 + r.NormFloat64() }, 0},
	} {
		var s Saw
		troughs := 0
		for n := range 600 {
			if s.Add(c.of(n), 10) {
				troughs++
				if math.Abs(s.Trough-100) > 6 {
					t.Errorf("%s: a trough of %v", name, s.Trough)
				}
			}
		}
		if s.Drops != c.drops || troughs != c.drops || s.Found != (c.drops > 0) {
			t.Errorf("%s: swept %d times, %d troughs, want %d", name, s.Drops, troughs, c.drops)
		}
	}
	var s Saw // what falls with the load was not swept
	for n := range 100 {
		s.Add(100+float64(n%3), 10)
	}
	s.Rest(5)
	if s.Add(6, 10); s.Drops != 0 {
		t.Errorf("%+v", s)
	}
}

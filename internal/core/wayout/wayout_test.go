package wayout

import (
	"fmt"
	"testing"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/split"
)

func TestWhatHelps(t *testing.T) {
	well, dead, half := Side{Known: true, Healthy: 3, Instances: 3, Capacity: 150}, Side{Known: true, Instances: 3},
		Side{Known: true, Healthy: 1, Instances: 3, Capacity: 50, Bad: 0.1}
	dark, failing := Side{Bad: 0.8}, Side{Known: true, Healthy: 3, Instances: 3, Bad: 0.6}
	for _, c := range []struct {
		name        string
		blue, green Side
		share       split.Share
		proven      bool
		want        string
	}{
		{"all well", well, well, 2500, true, "[]"},
		{"blue dead", dead, well, 2500, true, "[forward 0 of 100, 75 move; hold 75 of 100, 0 move; home 100 of 100, " +
			"25 move]"},
		{"blue dead, green not proven", dead, well, 2500, false, "[hold 75 of 100, 0 move; home 100 of 100, 25 move]"},
		{"blue dead before the first leg", dead, well, 0, true,
			"[forward 0 of 100, 100 move; hold 100 of 100, 0 move]"},
		{"blue ill", half, well, 2500, true, "[forward 0 of 100, 75 move; hold 25 of 100, 0 move; home 50 of 100, 25 " +
			"move]"},
		{"blue in the dark, and its answers bad", dark, well, 2500, true,
			"[forward 0 of 100, 75 move; hold 60 of 100, 0 move; home 80 of 100, 25 move]"},
		{"blue in the dark, and its answers well", Side{Bad: 0.1}, well, 2500, true, "[]"},
		{"blue's answers bad, its instances well", failing, well, 2500, true,
			"[forward 0 of 100, 75 move; hold 45 of 100, 0 move; home 60 of 100, 25 move]"},
		{"green in the dark: no way to go", dead, Side{}, 2500, true,
			"[hold 75 of 100, 0 move; home 100 of 100, 25 move]"},
		{"both dead", dead, dead, 2500, true, "[hold 100 of 100, 0 move; home 100 of 100, 25 move]"},
		{"green dead in the keep", well, dead, split.Whole, true, "[home 0 of 100, 100 move; hold 100 of 100, 0 move]"},
		{"blue dead, and nobody sends it anything", dead, well, split.Whole, true, "[]"},
		{"both fail alike", failing, Side{Known: true, Healthy: 3, Instances: 3, Bad: 0.7}, 2500, true, "[]"},
		{"both fail, and one more", failing, Side{Known: true, Healthy: 3, Instances: 3, Bad: 0.9}, 2500, true,
			"[home 60 of 100, 25 move; hold 68 of 100, 0 move; forward 90 of 100, 75 move]"},
		{"blue dead, and green cannot carry it all", dead, Side{Known: true, Healthy: 3, Instances: 3, Capacity: 40},
			2500, true, "[forward 60 of 100, 75 move; hold 75 of 100, 0 move; home 100 of 100, 25 move]"},
	} {
		text := ""
		for _, w := range List(Facts{Target: split.Green, Share: c.share, Moved: c.share > 0, Proven: c.proven,
			Rate: 100, Sides: [2]Side{c.blue, c.green}}) {
			if text != "" {
				text += "; "
			}
			text += fmt.Sprintf("%s %.0f of %.0f, %.0f move", w.Do, w.Lost, w.Rate, w.Moves)
		}
		if text = "[" + text + "]"; text != c.want {
			t.Errorf("%s:\n%s, want\n%s", c.name, text, c.want)
		}
	}
}

// Crossing the other way is the same.
func TestTheOtherWay(t *testing.T) {
	list := List(Facts{Target: split.Blue, Share: 7500, Moved: true, Proven: true, Rate: 100,
		Sides: [2]Side{{Known: true, Healthy: 1, Instances: 1}, {Known: true, Instances: 1}}})
	if len(list) != 3 || list[0].Do != Forward || list[0].Share != 0 || list[2].Share != split.Whole {
		t.Errorf("it lists %+v", list)
	}
}

// What helps is named only where it does by more than is uncertain, and the order does not change with the noise; what
// users were answered counts more than what instances say of themselves.
func TestWhatHelpsForCertain(t *testing.T) {
	side := func(bad, of int64) Side {
		return Side{Known: true, Healthy: 3, Instances: 3, Bad: float64(bad) / float64(of),
			Answers: evidence.Count{Bad: bad, Of: of}}
	}
	facts := func(blue, green Side) Facts {
		return Facts{Target: split.Green, Share: 2500, Moved: true, Proven: true, Rate: 40,
			Sides: [2]Side{blue, green}}
	}
	for name, c := range map[string]struct {
		f    Facts
		best Do
	}{
		"blue fails, green does not":   {facts(side(200, 300), side(0, 100)), Forward},
		"green fails, blue does not":   {facts(side(0, 300), side(80, 100)), Home},
		"too few to tell":              {facts(side(20, 30), side(3, 10)), ""},
		"a little more than the other": {facts(side(160, 300), side(40, 100)), ""},
	} {
		list := List(c.f)
		best, ok := Best(list)
		if best.Do != c.best || ok != (c.best != "") {
			t.Errorf("%s: %q of %+v", name, best.Do, list)
		}
	}
	a, b := List(facts(side(160, 300), side(50, 100))), List(facts(side(150, 300), side(53, 100)))
	for n := range a {
		if a[n].Do != b[n].Do {
			t.Errorf("the order changes with the noise: %+v and %+v", a, b)
		}
	}
	says := side(0, 100)
	says.Healthy = 0
	for _, w := range List(facts(side(0, 300), says)) {
		if w.Do == Hold && (w.Lost != 0 || !w.Seen) || w.Do == Home && w.Seen {
			t.Errorf("its instances say that they are ill, and users are answered well: %+v", w)
		}
	}
	if _, ok := Best(nil); ok {
		t.Error("nothing helps where nothing is wrong")
	}
}

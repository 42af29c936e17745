package forecast

import (
	"math"
	"testing"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

var (
	usual = Traffic{Rate: 300, Capacity: [2]float64{600, 300}, Failing: 0.001}
	by    = Guarding{Margin: 0.005, Level: 0.0024, Blocks: 4200}
)

func TestLookWeighsShareAgainstCapacity(t *testing.T) {
	o := usual.Look(2500)
	if o.Rate != [2]float64{225, 75} || o.Load != [2]float64{0.375, 0.25} {
		t.Errorf("rates %v, loads %v", o.Rate, o.Load)
	}
	if unknown := (Traffic{Rate: 300}).Look(2500); unknown.Load != [2]float64{} {
		t.Errorf("with capacities that are not known the load is %v", unknown.Load)
	}
}

func TestFind(t *testing.T) {
	quarter, half := usual.Find(2500, split.Green, by), usual.Find(5000, split.Green, by)
	if quarter.After <= 0 || half.After <= 0 || half.After > quarter.After || quarter.Late < quarter.After {
		t.Errorf("a fault is found after %+v at 25 %%, %+v at 50 %%", quarter, half)
	}
	if want := quarter.After.Seconds() * 75 * Fault; quarter.Cost < want/2 || quarter.Cost > 2*want {
		t.Errorf("it costs %v, about %v fail until then", quarter.Cost, want)
	}
	if back := usual.Find(split.Whole-2500, split.Blue, by); back.After != quarter.After {
		t.Errorf("crossing to blue, a quarter of the way shows a fault after %v, to green after %v", back.After,
			quarter.After)
	}
	for _, none := range []Found{usual.Find(0, split.Green, by), usual.Find(split.Whole, split.Green, by),
		Traffic{Rate: 300, Failing: 0.96}.Find(2500, split.Green, by), Traffic{Rate: 0.01}.Find(100, split.Green, by)} {
		if none != (Found{}) {
			t.Errorf("what cannot be found is found: %+v", none)
		}
	}
	if again := usual.Find(2500, split.Green, by); again != quarter {
		t.Errorf("of the same it says %+v and %+v", quarter, again)
	}
	if rough := (Traffic{Rate: 341.2, Failing: 0.000812}).Rough(); math.Abs(rough.Rate-340) > 1e-9 ||
		math.Abs(rough.Failing-0.00081) > 1e-9 || (Traffic{}).Rough() != (Traffic{}) {
		t.Errorf("roughly it is %+v", rough)
	}
}

var (
	legs = route.Route{{Part: 500, Dwell: 2 * time.Minute}, {Part: 2500, Dwell: 2 * time.Minute, Sure: true},
		{Part: split.Whole}}
	question = Question{Traffic: usual, Guarding: by, Target: split.Green, Keep: 30 * time.Minute, Find: 0.01,
		Certainty: 0.99, Asks: Clients{Of: 1000, Span: 60, Asks: []float64{0.1, 0.3, 0.5}}}
)

func TestWeigh(t *testing.T) {
	w := question.Weigh(legs)
	if len(w.Legs) != 3 || len(w.Whole) != len(Faults) || len(w.AtOnce) != len(Faults) {
		t.Fatalf("%+v", w)
	}
	if l := w.Legs[0]; l.Seconds != 120 || math.Abs(l.Requests-1800) > 1e-6 || math.Abs(l.Load-0.05) > 1e-9 ||
		l.Clients <= 0 || l.Sure != 0 {
		t.Errorf("the first leg: %+v", l)
	}
	if l := w.Legs[1]; l.Sure <= 0 || l.Sure > 120 {
		t.Errorf("the leg until sure: %+v", l)
	}
	if w.Legs[2].Seconds != 1800 {
		t.Errorf("the last leg lasts %v", w.Legs[2].Seconds)
	}
	for n := range Faults {
		for _, h := range []Hit{w.Legs[0].Hits[n], w.Whole[n], w.AtOnce[n]} {
			if h.Fault != Faults[n] || h.Found < 0 || h.Found > 1 || h.Most < h.Middle ||
				h.Found > 0 && (h.After <= 0 || h.Late < h.After) || h.Clients < 0 {
				t.Errorf("%+v", h)
			}
		}
		if n > 0 && w.Whole[n].Found < w.Whole[n-1].Found-0.05 {
			t.Errorf("a larger fault is found less often: %+v after %+v", w.Whole[n], w.Whole[n-1])
		}
	}
	if large := w.Whole[3]; large.Found < 1 || large.Late > 20 || large.Middle > w.AtOnce[3].Middle {
		t.Errorf("a fifth of the answers: %+v, at once %+v", large, w.AtOnce[3])
	}
	if w.Harm <= 0 || w.Harm >= w.HarmAtOnce {
		t.Errorf("the route costs %v, all at once %v", w.Harm, w.HarmAtOnce)
	}
}

// What is said is what happens: in crossings that are played anew, with the guards as they are and
// readings as often, nine of ten cost no more than what is said of nine of ten.
func TestTheForecastHolds(t *testing.T) {
	seed := numbers(testkit.Rand(t).Uint64())
	r := &seed
	const runs = 100
	for n, fault := range []float64{0.05, 0.2} {
		said := question.Weigh(legs).Whole[n+2]
		under, found, sooner, before := 0, 0, 0, 0
		for range runs {
			w := evidence.NewWorse(by.Margin, by.Blocks)
			for range 600 {
				w.Learn(answers(r, usual.Rate*Every.Seconds(), usual.Failing))
			}
			failed, passed := 0.0, 0.0
		played:
			for _, s := range stretches(legs, question.Keep)[:2] {
				for spent := 0.0; spent < s.seconds; spent += Every.Seconds() {
					b := play(r, usual.Failing, fault, usual.Rate*(1-s.part)*Every.Seconds(),
						usual.Rate*s.part*Every.Seconds())
					failed += float64(b.Trial.Bad)
					if passed += Every.Seconds(); spent < Grace.Seconds() {
						continue
					}
					if w.Add(b); w.Sure(1) >= 1-by.Level {
						found++
						break played
					}
				}
			}
			if failed <= said.Most {
				under++
			}
			if passed <= said.After {
				sooner++
			}
			if passed < said.After { // many are found in the very step that is said
				before++
			}
		}
		if under < 80 || said.Most > 20 && under > 98 || found < 95 || sooner < 30 ||
			before > 75 {
			t.Errorf("a fault of %v: of %d crossings %d cost at most %v, %d were found, %d by %v s, %d before", fault,
				runs, under, said.Most, found, sooner, said.After, before)
		}
	}
}

// The route that is suggested stays under the bound, and no shorter one of the usual ones does.
func TestSuggest(t *testing.T) {
	q := question
	q.Failing = 0.001
	before := time.Duration(0)
	once := q.harm(q.Weigh(route.Route{{Part: split.Whole}}).Whole)
	for _, most := range []float64{2 * once, once / 3} {
		r, harm, ok := q.Suggest(most)
		if leg, err := r.Check(); !ok || err != nil || harm > most {
			t.Fatalf("at most %v: %v costs %v, %v, leg %d: %v", most, r, harm, ok, leg, err)
		}
		if total := r.Forecast(0, 0).Total; total < before || most > once && len(r) != 1 {
			t.Errorf("at most %v it is %v", most, r)
		} else {
			before = total
		}
	}
	if r, _, ok := q.Suggest(0); ok {
		t.Errorf("without any harm there is %v", r)
	}
}

func TestMeet(t *testing.T) {
	c := Clients{Of: 100, Span: 60, Asks: []float64{1}}
	if got := c.meet(1, 60, 1); math.Abs(got-100) > 1e-9 {
		t.Errorf("all meet it, and it says %v", got)
	}
	if got := c.meet(0.01, 1, 1); math.Abs(got-1) > 1e-9 {
		t.Errorf("one of a hundred that ask once: %v", got)
	}
	if got := c.meet(1, 120, 0.5); math.Abs(got-200) > 1e-6 {
		t.Errorf("in twice the time others come: %v", got)
	}
	if got := (Clients{}).meet(1, 60, 1); got != 0 {
		t.Errorf("of nobody %v", got)
	}
}

func BenchmarkWeigh(b *testing.B) {
	for b.Loop() {
		question.Weigh(legs)
	}
}

func BenchmarkFind(b *testing.B) {
	for b.Loop() {
		usual.Find(2500, split.Green, by)
	}
}

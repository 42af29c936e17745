package guard

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

const memory = "process_resident_memory_bytes"

func growing(by float64) plan.Guard {
	return plan.Guard{Name: "memory grows", Watch: plan.Grows, Figure: plan.Figure{Name: memory}, Margin: by,
		Settle: 10 * time.Second, Then: plan.RollBack}
}

// tells has the instances of both sides tell a figure every second, and all of them serve.
type tells struct {
	*watch
	figure string
	of     func(side split.Side, n int, minutes float64) (float64, bool) // of the n-th instance
	each   int                                                           // instances of a side
	begun  [2][]time.Time
	read   time.Time
}

func newTells(t *testing.T, rule plan.Guard, of func(side split.Side, n int, minutes float64) (float64, bool)) *tells {
	s := &tells{watch: newWatch(t, rule), figure: rule.Figure.String(), of: of, each: 3}
	for side := range s.begun {
		for range s.each {
			s.begun[side] = append(s.begun[side], start.Add(-time.Hour))
		}
	}
	return s
}

// run lets seconds pass, with requests to both sides by the share.
func (s *tells) run(seconds int) Status {
	s.t.Helper()
	for range seconds {
		trial := int64(s.share.Fraction() * 200)
		if s.since.IsZero() {
			trial = 0
		}
		s.pass(1, [2]answers{{all: 200 - trial}, {all: trial}})
		r := reading.Figures{At: s.now}
		for _, side := range split.Sides {
			for n := range s.each {
				told := reading.Told{Name: side.String() + "-" + string(rune('1'+n)), Side: side,
					Started: s.begun[side][n]}
				if v, ok := s.of(side, n, s.now.Sub(start).Minutes()); ok {
					told.Values = map[string]float64{s.figure: v}
				} else {
					told.Said = "status 503 at /metrics"
				}
				r.Of = append(r.Of, told)
			}
		}
		f := s.current()
		s.guards.TakeFigures(f, r)
		s.read = s.now
		s.last = s.guards.Evaluate(s.current())
	}
	return s.last[0]
}

func (s *tells) current() Facts {
	f := Facts{
		Now: s.now, Since: s.since, Target: split.Green, Series: &s.series, FrontRead: true,
		Tells:    reading.Capabilities{Counts: true, Times: true, Waits: true, Both: true},
		SideRead: true, Share: s.share, Changed: s.since,
	}
	if s.since.IsZero() {
		f.Share = 0
	}
	s.facts(&f)
	return f
}

// begin lets requests go to the target.
func (s *tells) begin() { s.since = s.now }

// A leak is found on the instance that has it, in minutes; memory that fills, is swept, and fills again is none, and
// neither is what grows on both sides.
func TestALeak(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	noise := func() float64 { return 2e6 * r.NormFloat64() }
	swept := func(n int, minutes float64) float64 { return 40e6 + 8e6*math.Mod(minutes*3+float64(n)/3, 1) }
	shapes := map[string]struct {
		of     func(side split.Side, n int, minutes float64) (float64, bool)
		trips  bool
		blames string
	}{
		"swept": {func(_ split.Side, n int, m float64) (float64, bool) { return swept(n, m) + noise(), true },
			false, ""},
		"both grow": {func(_ split.Side, n int, m float64) (float64, bool) {
			return swept(n, m) + 60e6*m + noise(),
				true
		}, false, ""},
		"all of the side leak": {func(side split.Side, n int, m float64) (float64, bool) {
			return swept(n, m) + 40e6*m*float64(side) + noise(), true
		}, true, ""},
		"one leaks": {func(side split.Side, n int, m float64) (float64, bool) {
			if side == split.Green && n == 1 {
				return swept(n, m) + 90e6*m + noise(), true
			}
			return swept(n, m) + noise(), true
		}, true, "green-2"},
	}
	for name, shape := range shapes {
		t.Run(name, func(t *testing.T) {
			w := newTells(t, growing(10e6), shape.of)
			w.run(20)
			w.begin()
			s := w.run(240)
			if tripped := s.State == Tripped; tripped != shape.trips {
				t.Errorf("after four minutes: %+v", s)
			}
			if shape.trips && (s.Difference < 10e6 || s.Range.Low > s.Difference || s.Range.High < s.Difference ||
				s.Evidence < s.Needed) {
				t.Errorf("it is said to grow by %g, in %v, with evidence %g of %g", s.Difference, s.Range, s.Evidence,
					s.Needed)
			}
			if shape.blames != "" && s.Instance != shape.blames {
				t.Errorf("%q is named", s.Instance)
			}
		})
	}
}

// What a person went on in spite of is heard again where it is worse, and what another goes on with knows what was
// seen.
func TestALeakInSpite(t *testing.T) {
	leak, held, at := 40e6, 40e6, 0.0
	w := newTells(t, growing(10e6), func(side split.Side, n int, m float64) (float64, bool) {
		if side == split.Green {
			held, at = held+leak*(m-at), m
			return held, true
		}
		return 40e6 + 1e5*float64(n), true
	})
	w.begin()
	s := w.run(240)
	alarm, tripped := Gravest(w.last, split.Green, nil)
	if !tripped || alarm.Figure != memory || alarm.Level < 30e6 || alarm.Worst < alarm.Level {
		t.Fatalf("it has not tripped: %+v, %+v", s, alarm)
	}
	before := w.facts
	w.facts = func(f *Facts) {
		before(f)
		f.Overruled = []crossing.Overruling{{Guard: alarm.Guard, Level: alarm.Level, Beyond: alarm.Worst}}
	}
	data, err := json.Marshal(w.guards.Hand())
	if err != nil {
		t.Fatal(err)
	}
	var m Memory
	if err := json.Unmarshal(data, &m); err != nil {
		t.Fatal(err)
	}
	w.guards = New(w.guards.rules, w.guards.terms)
	w.guards.Remember(m)
	if s = w.run(240); s.State == Tripped || s.Margin < alarm.Level {
		t.Errorf("the same leak trips again: %+v", s)
	}
	leak = 200e6
	if s = w.run(600); s.State != Tripped {
		t.Errorf("one five times as bad is not heard: %+v", s)
	}
	if list := w.guards.Stories(); len(list) != 1 || list[0].Figure != memory || len(list[0].Points) < 10 ||
		list[0].Points[0].Value == 0 {
		t.Errorf("its story is %+v", list)
	}
}

// A guard on a figure that is not told says so, and why; one that is not read either.
func TestAFigureThatIsNotThere(t *testing.T) {
	there := map[split.Side]bool{split.Blue: true}
	w := newTells(t, growing(10e6),
		func(side split.Side, _ int, _ float64) (float64, bool) { return 40e6, there[side] })
	w.begin()
	if s := w.run(60); s.State != Unknown || s.Gap != NotTold || !strings.Contains(s.Said, "503") {
		t.Errorf("the target tells nothing: %+v", s)
	}
	there[split.Green], there[split.Blue] = true, false
	if s := w.run(60); s.State != Unknown || s.Gap != NoBaseline {
		t.Errorf("the live side tells nothing: %+v", s)
	}
	there[split.Blue] = true
	if s := w.run(120); s.State != Clear {
		t.Errorf("both tell it: %+v", s)
	}
	there[split.Green] = false // for less than what is carried
	if s := w.run(20); s.State != Clear {
		t.Errorf("it was not told for a moment: %+v", s)
	}
	w.now = w.now.Add(time.Minute)
	if s := w.guards.Evaluate(w.current())[0]; s.State != Unknown || s.Gap != NotRead {
		t.Errorf("nothing was read for a minute: %+v", s)
	}
}

// A clock that is set back by an hour makes no guard deaf for an hour.
func TestAFigureAfterTheClockWasSet(t *testing.T) {
	w := newTells(t, growing(10e6), nil)
	begun := start
	w.of = func(side split.Side, _ int, _ float64) (float64, bool) {
		return 40e6 + 50e6*float64(side)*w.now.Sub(begun).Minutes(), true
	}
	w.begin()
	w.run(20)
	w.now, w.since, begun = w.now.Add(-time.Hour), w.since.Add(-time.Hour), begun.Add(-time.Hour)
	w.guards.states[0].figure.Told = 0
	r := reading.Figures{At: w.now,
		Of: []reading.Told{{Name: "green-1", Side: split.Green, Values: map[string]float64{memory: 1}}}}
	w.guards.TakeFigures(w.current(), r)
	if e := w.guards.states[0].figure; e.Told != 1 || !e.At.Equal(w.now) || e.Legs < 2 {
		t.Errorf("what is told after that is not heard: %+v", e)
	}
}

// An instance that was started again begins with little, which is no growth and no shrinking of the side.
func TestAFigureAfterARestart(t *testing.T) {
	w := newTells(t, growing(10e6), nil)
	w.of = func(side split.Side, n int, m float64) (float64, bool) {
		up := w.now.Sub(w.begun[side][n]).Seconds()
		return 400e6 * (1 - math.Exp(-up/5)), true
	}
	w.begin()
	w.run(30)
	for k := range 8 {
		w.begun[split.Green][k%3] = w.now
		if s := w.run(30); s.State == Tripped {
			t.Fatalf("restart %d is taken for a leak: %+v", k, s)
		}
	}
}

// A number that stands higher is found beside the live side and after it, against what that had last.
func TestHigher(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 1))
	rule := plan.Guard{Name: "open higher", Watch: plan.Higher,
		Figure: plan.Figure{Name: "open", Labels: map[string]string{"kind": "a"}}, Margin: 20, Then: plan.RollBack}
	more := 0.0
	w := newTells(t, rule, nil)
	w.of = func(side split.Side, _ int, _ float64) (float64, bool) {
		if side == split.Blue && w.share == split.Whole {
			return 5 * r.NormFloat64(), true // who gets nothing has nothing open
		}
		return 100 + more*float64(side) + 5*r.NormFloat64(), true
	}
	w.begin()
	if s := w.run(120); s.State != Clear || s.Then != plan.RollBack || s.Figure != `open{kind="a"}` {
		t.Errorf("equal sides: %+v", s)
	}
	w.share = split.Whole
	if s := w.run(120); s.State != Clear || s.Then != plan.Freeze {
		t.Errorf("alone, and as it was: %+v", s)
	}
	more = 60
	if s := w.run(120); s.State != Tripped || s.Then != plan.Freeze ||
		math.Abs(s.Difference-60) > 15 && s.Difference < 20 {
		t.Errorf("alone, and higher: %+v", s)
	}
}

// Bookings that fail to come are found by the requests that each side had, whatever the time of day; a counter that
// begins anew is none.
func TestFewerBookings(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 1))
	rule := plan.Guard{Name: "fewer bookings", Watch: plan.Fewer, Figure: plan.Figure{Name: "booked_total"},
		Margin: 0.1, Then: plan.RollBack}
	for _, part := range []float64{1, 0.6} {
		var booked [2][3]float64
		w := newTells(t, rule, nil)
		w.share = 2500
		w.of = func(side split.Side, n int, m float64) (float64, bool) {
			share := w.share.Of(side).Fraction()
			if w.since.IsZero() {
				share = map[split.Side]float64{split.Blue: 1}[side]
			}
			rate := 12 * (1 + 0.7*math.Sin(m)) * share
			if side == split.Green {
				rate *= part
			}
			for p := r.Float64(); p > math.Exp(-rate); p *= r.Float64() {
				booked[side][n]++
			}
			return booked[side][n], true
		}
		w.run(30)
		w.begin()
		s := w.run(90)
		booked[split.Blue][0] = 0 // it began anew
		s = w.run(90)
		switch {
		case part == 1 && s.State != Clear, part < 1 && s.State != Tripped:
			t.Errorf("with %g of the bookings: %+v", part, s)
		case part < 1 && (s.Difference < 0.3 || s.Difference > 0.5 || s.Range.Low > 0.4 || s.Range.High < 0.4):
			t.Errorf("40 %% fewer are said to be %g, in %v", s.Difference, s.Range)
		}
		w.share = split.Whole
		if s = w.run(20); part == 1 && (s.State != Unknown || s.Gap != NoneBeside) {
			t.Errorf("with nothing beside it: %+v", s)
		}
	}
}

// What is counted a while after its request is held against the requests of that time, whether the plan says how long
// it takes or not.
func TestBookingsThatComeLate(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 2))
	for _, c := range []struct {
		after, least, most time.Duration // said, and what it takes
		part               float64       // of the bookings that the new side should have
		state              State
		gap                Gap
	}{
		{10 * time.Second, 10 * time.Second, 10 * time.Second, 1, Clear, ""},
		{time.Minute, time.Minute, time.Minute, 1, Clear, ""},
		{plan.Unsaid, 10 * time.Second, 10 * time.Second, 1, Clear, ""},
		{plan.Unsaid, time.Minute, time.Minute, 1, Clear, ""},
		{plan.Unsaid, 0, time.Minute, 1, Clear, ""},
		{plan.Unsaid, 30 * time.Second, time.Minute, 0.6, Tripped, ""},
		{time.Minute, 0, time.Minute, 0.6, Tripped, ""},
		{plan.Unsaid, 0, 0, 0, Unknown, NoneYet},
		{0, 0, 0, 0, Tripped, ""},
	} {
		for range 5 {
			rule := plan.Guard{Name: "fewer bookings", Watch: plan.Fewer, Figure: plan.Figure{Name: "booked_total"},
				Margin: 0.1, After: c.after, Then: plan.RollBack}
			w := newTells(t, rule, nil)
			w.share = 2500
			var booked [2][3]float64
			w.of = func(side split.Side, n int, _ float64) (float64, bool) {
				rate := 0.0 // of what is asked now comes some now, and some later
				const parts = 12
				for k := range parts {
					at := w.now.Add(-c.least - (c.most-c.least)*time.Duration(k)/parts)
					share := map[split.Side]float64{split.Blue: 1}[side]
					if !w.since.IsZero() && !at.Before(w.since) {
						share = w.share.Of(side).Fraction()
					}
					rate += 8 * share / parts
				}
				if side == split.Green {
					rate *= c.part
				}
				for p := r.Float64(); p > math.Exp(-rate); p *= r.Float64() {
					booked[side][n]++
				}
				return booked[side][n], true
			}
			w.run(100)
			w.begin()
			s := w.run(400)
			if s.State != c.state || s.Gap != c.gap {
				t.Errorf("said %v, takes %v to %v, %g of the bookings: %v %q, %v certain", c.after, c.least, c.most, c.part,
					s.State, s.Gap, s.Sure)
			}
		}
	}
}

// What an instance counted and did not tell is no booking that failed to come: it comes with the next page, and where
// it never does, the guard says so.
func TestBookingsThatAreNotTold(t *testing.T) {
	rule := plan.Guard{Name: "fewer bookings", Watch: plan.Fewer, Figure: plan.Figure{Name: "booked_total"},
		Margin: 0.1, Then: plan.RollBack}
	for name, c := range map[string]struct {
		told  func(n int, seconds float64) bool
		part  float64
		state State
	}{
		"one keeps silent at the end":      {func(n int, s float64) bool { return n > 0 || s < 110 }, 1, Clear},
		"one tells every tenth time":       {func(n int, s float64) bool { return n > 0 || math.Mod(s, 10) == 0 }, 1, Clear},
		"fewer, and one tells hardly ever": {func(n int, s float64) bool { return n > 0 || math.Mod(s, 5) == 0 }, 0.6, Tripped},
		"one tells nothing":                {func(n int, _ float64) bool { return n > 0 }, 1, Unknown},
	} {
		r := rand.New(rand.NewPCG(5, 3))
		var booked [2][3]float64
		w := newTells(t, rule, nil)
		w.share = 5000
		w.of = func(side split.Side, n int, _ float64) (float64, bool) {
			rate := 12 * w.share.Of(side).Fraction()
			if side == split.Green {
				rate *= c.part
			}
			for p := r.Float64(); p > math.Exp(-rate); p *= r.Float64() {
				booked[side][n]++
			}
			return booked[side][n], side == split.Blue || c.told(n, w.now.Sub(start).Seconds())
		}
		w.run(20)
		w.begin()
		tripped := false
		for range 115 {
			tripped = w.run(1).State == Tripped || tripped
		}
		if s := w.last[0]; s.State != c.state || tripped != (c.state == Tripped) {
			t.Errorf("%s: %+v", name, s)
		}
	}
}

// What no page can mean is no figure.
func TestNoFigure(t *testing.T) {
	value := 1e301
	w := newTells(t, growing(1e6), func(split.Side, int, float64) (float64, bool) { return value, true })
	for _, value = range []float64{1e301, math.Inf(1), math.NaN(), math.Inf(-1), -1e305} {
		if s := w.run(3); w.guards.Hand().Figures[0].Told != 0 {
			t.Errorf("%g is taken: %+v", value, s)
		}
		if _, err := json.Marshal(w.guards.Hand()); err != nil {
			t.Error(err)
		}
	}
}

// Memory that a collector sweeps is compared by its troughs: how it rises in between is no growth and no higher
// standing, and what leaks beside is found, in ten minutes or three of its periods.
func TestSaws(t *testing.T) {
	for _, c := range []struct {
		name   string
		watch  plan.Watch
		by     float64
		period float64 // minutes, at the load that each side has when both have half
		leak   float64 // a minute
		more   float64 // that the new side stands higher
		trips  bool
	}{
		{"grows, each minute", plan.Grows, 10e6, 1, 0, 0, false},
		{"grows, every three minutes", plan.Grows, 10e6, 3, 0, 0, false},
		{"grows, every eight minutes", plan.Grows, 10e6, 8, 0, 0, false},
		{"leaks, each minute", plan.Grows, 10e6, 1, 20e6, 0, true},
		{"leaks, every three minutes", plan.Grows, 10e6, 3, 20e6, 0, true},
		{"higher, each minute", plan.Higher, 20e6, 1, 0, 0, false},
		{"higher, every three minutes", plan.Higher, 20e6, 3, 0, 0, false},
		{"stands higher", plan.Higher, 20e6, 1, 0, 50e6, true},
	} {
		for run := range 8 {
			r := rand.New(rand.NewPCG(uint64(run), 7))
			rule := plan.Guard{Name: c.name, Watch: c.watch, Figure: plan.Figure{Name: memory}, Margin: c.by,
				Settle: 10 * time.Second, Then: plan.RollBack}
			w := newTells(t, rule, nil)
			w.share = 2500
			var held, leaked [2][3]float64
			for n := range held[split.Blue] { // the live side's have been running for long
				held[split.Blue][n] = 80e6 * r.Float64()
			}
			w.of = func(side split.Side, n int, _ float64) (float64, bool) {
				load := 2 * w.share.Of(side).Fraction()
				if w.since.IsZero() {
					load = 2 * float64(1-side)
				}
				held[side][n] += 80e6 / c.period / 60 * load * (0.9 + 0.2*r.Float64())
				if held[side][n] > 80e6 {
					held[side][n] = 2e6 * r.Float64()
				}
				if side == split.Green && load > 0 {
					leaked[side][n] += c.leak / 60
				}
				return 100e6 + held[side][n] + leaked[side][n] + c.more*float64(side) + 1e6*r.NormFloat64(), true
			}
			w.run(60)
			w.begin()
			var s Status
			tripped := -1
			for second := range 35 * 60 {
				if s = w.run(1); s.State == Tripped {
					tripped = second
					break
				}
			}
			if within := int(60 * max(10, 3*2*c.period)); (tripped >= 0) != c.trips || tripped > within {
				t.Errorf("%s, run %d: tripped after %d s, at most %d: %+v", c.name, run, tripped, within, s)
			}
		}
	}
}

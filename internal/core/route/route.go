package route

import (
	"fmt"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/split"
)

// Leg is one stop of a route.
type Leg struct {
	Part  split.Share   `json:"part"`            // requests that the side crossed to gets
	Dwell time.Duration `json:"dwell,omitempty"` // how long to stay before going on, in nanoseconds
	Ask   bool          `json:"ask,omitempty"`   // ask a person before going here
}

// String is the leg as a plan writes it: "5 % for 2m", with "ask, " in front
// where a person is asked.
func (l Leg) String() string {
	text := l.Part.String()
	if l.Dwell > 0 {
		text += " for " + Short(l.Dwell)
	}
	if l.Ask {
		text = "ask, " + text
	}
	return text
}

// Route is the planned way, first leg first.
type Route []Leg

// Check says what keeps the route from being one, and at which leg: shares have
// to grow, and the last one has to be 100 %.
func (r Route) Check() (leg int, err error) {
	if len(r) == 0 {
		return 0, fmt.Errorf("a route needs at least one leg, the last one 100 %%")
	}
	before := split.Share(0)
	for i, l := range r {
		switch {
		case !l.Part.Valid():
			return i, fmt.Errorf("%v is not between 0 %% and 100 %%", l.Part)
		case l.Part <= before:
			return i, fmt.Errorf("%v does not go further than the %v before it", l.Part, before)
		case l.Dwell < 0:
			return i, fmt.Errorf("a leg cannot dwell for %v", l.Dwell)
		}
		before = l.Part
	}
	if before != split.Whole {
		return len(r) - 1, fmt.Errorf("the last leg is %v: a route has to end at 100 %%", before)
	}
	return 0, nil
}

// Reached is the index of the last leg whose part is not more than the given
// one, -1 if even the first is.
func (r Route) Reached(part split.Share) int {
	at := -1
	for i, l := range r {
		if l.Part <= part {
			at = i
		}
	}
	return at
}

// Stop is a leg with the time at which it begins, counted from the first
// request that moves, and without the time that people take.
type Stop struct {
	Leg
	Begins time.Duration
}

// Forecast is what will happen if nothing goes wrong.
type Forecast struct {
	Stops []Stop
	Keep  time.Duration // how long the old side stays after the last leg
	Total time.Duration // until the old side may be retired
	Asks  int           // how often a person is waited for
}

// Forecast adds up the route's times. The last leg's dwell is the time for which
// the old side is kept.
func (r Route) Forecast(keep time.Duration) Forecast {
	f := Forecast{Keep: keep}
	for i, l := range r {
		f.Stops = append(f.Stops, Stop{l, f.Total})
		if l.Ask {
			f.Asks++
		}
		if i < len(r)-1 {
			f.Total += l.Dwell
		}
	}
	f.Total += keep
	return f
}

// Traffic is what an outlook is reckoned from.
type Traffic struct {
	Rate     float64    // requests a second through the front, all of them
	Capacity [2]float64 // requests a second that each side can carry, by side; 0 if not known
	Failing  float64    // the live side's rate of failing answers
}

// Fault is the size of fault that outlooks are reckoned for: one answer in
// twenty.
const Fault = 0.05

// Outlook is what a share would mean.
type Outlook struct {
	Share split.Share
	Rate  [2]float64 // requests a second, by side
	Load  [2]float64 // of capacity, by side; 0 if the capacity is not known
	// Seen is how long it would take until a fault in [Fault] of the target's
	// answers is sure, and Cost how many requests would have failed by then.
	// Both are 0 if it would not be found, or nothing goes to the target.
	Seen time.Duration
	Cost float64
}

// Look reckons the outlook for a share on green while crossing to target.
func (t Traffic) Look(share split.Share, target split.Side, b evidence.Bound) Outlook {
	o := Outlook{Share: share}
	for _, side := range split.Sides {
		o.Rate[side] = t.Rate * share.Of(side).Fraction()
		if t.Capacity[side] > 0 {
			o.Load[side] = o.Rate[side] / t.Capacity[side]
		}
	}
	rate := o.Rate[target]
	if rate <= 0 {
		return o
	}
	if n := evidence.AnswersToSee(t.Failing, Fault, o.Rate[target.Other()]/rate, b); n > 0 {
		o.Seen = time.Duration(float64(n) / rate * float64(time.Second))
		o.Cost = float64(n) * Fault
	}
	return o
}

// Short writes a duration with its two largest units and none that are zero:
// "2m", "1h30m", "45s", "300ms".
func Short(d time.Duration) string {
	switch {
	case d < time.Second:
		return d.Round(time.Millisecond).String()
	case d < time.Minute:
		return d.Round(100 * time.Millisecond).String()
	case d < time.Hour:
		d = d.Round(time.Second)
		return units(int(d/time.Minute), "m", int(d%time.Minute/time.Second), "s")
	default:
		d = d.Round(time.Minute)
		return units(int(d/time.Hour), "h", int(d%time.Hour/time.Minute), "m")
	}
}

func units(large int, unit string, small int, smallUnit string) string {
	if small == 0 {
		return fmt.Sprintf("%d%s", large, unit)
	}
	return fmt.Sprintf("%d%s%d%s", large, unit, small, smallUnit)
}

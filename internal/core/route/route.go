package route

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"vaiven/internal/core/split"
)

// Leg is one stop of a route.
type Leg struct {
	Part split.Share `json:"part"` // requests that the side crossed to gets
	// how long to stay before going on, in nanoseconds; until sure, the most
	Dwell time.Duration `json:"dwell,omitempty"`
	// to go on as soon as the fault to find is excluded, and to ask a person if it is not by then
	Sure  bool          `json:"sure,omitempty"`
	Least time.Duration `json:"least,omitempty"` // until sure: how long to stay at least, in nanoseconds
	Ask   bool          `json:"ask,omitempty"`   // ask a person before going here
	// beside a control group: instances of the version that is live, started with those crossed to, that get as much
	Control bool `json:"control,omitempty"`
}

// String is the leg as a plan writes it: "5 % for 2m", with "ask, " in front
// where a person is asked.
func (l Leg) String() string {
	text := l.Part.String() + l.Terms()
	if l.Ask {
		text = "ask, " + text
	}
	return text
}

// Terms are what a plan writes behind a leg's share: " for 2m", " beside control until sure, at least 1m, at most
// 20m", "" for nothing.
func (l Leg) Terms() string {
	if l.Control {
		return " beside control" + l.stay()
	}
	return l.stay()
}

// stay is how long a leg lasts, as a plan writes it, "" if it has no end.
func (l Leg) stay() string {
	switch {
	case l.Sure && l.Least > 0:
		return " until sure, at least " + Short(l.Least) + ", at most " + Short(l.Dwell)
	case l.Sure:
		return " until sure, at most " + Short(l.Dwell)
	case l.Dwell > 0:
		return " for " + Short(l.Dwell)
	}
	return ""
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
		case l.Sure && l.Least > l.Dwell:
			return i, fmt.Errorf("a leg cannot last at least %s and at most %s", Short(l.Least), Short(l.Dwell))
		case l.Control && l.Part > split.Whole/2:
			return i, fmt.Errorf("%v %w", l.Part, ErrControlHalf)
		case l.Control && i > 0 && !r[i-1].Control:
			return i, ErrControlFirst
		}
		before = l.Part
	}
	if before != split.Whole {
		return len(r) - 1, fmt.Errorf("the last leg is %v: a route has to end at 100 %%", before)
	}
	return 0, nil
}

// What keeps a leg from being beside a control group.
var (
	ErrControlHalf  = errors.New("and as much for a control group are more than all")
	ErrControlFirst = errors.New("a control group stands from the first leg on: it would not be as fresh later")
)

// Controls reports whether any leg is beside a control group.
func (r Route) Controls() bool { return slices.ContainsFunc(r, func(l Leg) bool { return l.Control }) }

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
// the old side is kept. After each change those who ask go by what was before for as long as they
// remember it, and the time of a leg begins after that.
func (r Route) Forecast(keep, remembered time.Duration) Forecast {
	f := Forecast{Keep: keep}
	for i, l := range r {
		f.Stops = append(f.Stops, Stop{l, f.Total})
		if l.Ask {
			f.Asks++
		}
		if f.Total += remembered; i < len(r)-1 {
			f.Total += l.Dwell
		}
	}
	f.Total += keep
	return f
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

package past

import (
	"slices"
	"time"
)

// Usual is how long each step usually takes, over the last crossings.
type Usual struct {
	Raise, Prove, Shift, Home Spread
	// of the requests that the side crossed to answered, in crossings that settled
	Failed float64
}

// Spread is the middle of some times, and between which most of them lie: all but the tenth at either end.
type Spread struct {
	Median time.Duration `json:"median"`
	Low    time.Duration `json:"low"`
	High   time.Duration `json:"high"`
	Of     int           `json:"of"` // times
}

const (
	usualOver  = 30 // crossings
	usualLeast = 3  // times, for something to stand out from
	standsOut  = 2  // times as long, or as short
	// failed requests that are no chance
	failedLeast, failedTimes = 10, 3
)

// UsualOf is what is usual in a list of crossings, the newest first. Only those count that came to the step's end.
func UsualOf(list []Crossing) Usual {
	list = list[:min(len(list), usualOver)]
	of := func(took func(Took) time.Duration) Spread {
		var times []time.Duration
		for _, c := range list {
			if t := took(c.Took); t > 0 && !c.Ended.IsZero() && !c.First { // a first release goes to 100 % at once
				times = append(times, t)
			}
		}
		return spread(times)
	}
	u := Usual{
		Raise: of(func(t Took) time.Duration { return t.Raise }),
		Prove: of(func(t Took) time.Duration { return t.Prove }),
		Shift: of(func(t Took) time.Duration { return t.Shift }),
		Home:  of(func(t Took) time.Duration { return t.Home }),
	}
	failed, all := int64(0), int64(0)
	for _, c := range list {
		if c.Settled() {
			failed, all = failed+c.Counted.Failed, all+c.Counted.Requests
		}
	}
	if all > 0 {
		u.Failed = float64(failed) / float64(all)
	}
	return u
}

func spread(times []time.Duration) Spread {
	if len(times) == 0 {
		return Spread{}
	}
	slices.Sort(times)
	at := func(part int) time.Duration { return times[(len(times)-1)*part/10] }
	return Spread{at(5), at(1), times[len(times)-1-(len(times)-1)/10], len(times)}
}

// Odd is a step that took another time than usual, or more failed requests than usual.
type Odd struct {
	Step  string  // "raise", "prove", "shift", "home", or "failed"
	Times float64 // as long, or as many
}

// Odd is what stands out in a crossing, what does so most first.
func (u Usual) Odd(c Crossing) (list []Odd) {
	for _, s := range []struct {
		step  string
		took  time.Duration
		usual Spread
	}{{"raise", c.Took.Raise, u.Raise}, {"prove", c.Took.Prove, u.Prove}, {"shift", c.Took.Shift, u.Shift},
		{"home", c.Took.Home, u.Home}} {
		if s.took == 0 || s.usual.Of < usualLeast || s.usual.Median < time.Millisecond {
			continue
		}
		times := float64(s.took) / float64(s.usual.Median)
		if times >= standsOut && s.took > s.usual.High || times <= 1.0/standsOut && s.took < s.usual.Low {
			list = append(list, Odd{s.step, times})
		}
	}
	if n := c.Counted; n.Requests > 0 && n.Failed >= failedLeast {
		if part := float64(n.Failed) / float64(n.Requests); u.Failed > 0 && part >= failedTimes*u.Failed {
			list = append(list, Odd{"failed", part / u.Failed})
		}
	}
	far := func(o Odd) float64 { return max(o.Times, 1/o.Times) }
	slices.SortStableFunc(list, func(a, b Odd) int {
		if far(a) > far(b) {
			return -1
		}
		return 1
	})
	return list
}

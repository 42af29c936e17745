package guard

import (
	"cmp"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/plan"
)

// Moment is what a guard that compares came to at a time.
type Point struct {
	At         time.Time         `json:"at"`
	Live       evidence.Count    `json:"live"` // since the moment before, as the guard counts
	Trial      evidence.Count    `json:"trial"`
	Evidence   float64           `json:"evidence"` // that the new side is worse, as a power of ten
	Needed     float64           `json:"needed"`   // the power of ten at which it trips
	Difference float64           `json:"difference"`
	Range      evidence.Interval `json:"range"` // of the difference
	// Apart are the lowest and the highest rate of the live side's own instances since the crossing began, where
	// failing answers of several are counted: what differs by no more may be noise.
	Apart  evidence.Interval `json:"apart,omitzero"`
	Value  float64           `json:"value,omitempty"`  // of a figure: the target's on average
	Beside float64           `json:"beside,omitempty"` // and the live side's
}

// Story is a guard's moments since its crossing began, oldest first.
type Story struct {
	Guard  string     `json:"guard"`
	Watch  plan.Watch `json:"watch"`
	Unit   Unit       `json:"unit,omitempty"`
	Figure string     `json:"figure,omitempty"` // of a guard on one
	Margin float64    `json:"margin"`
	Points []Point    `json:"points"`
}

// mostMoments is how many moments are kept: then two become one.
const mostMoments = 480

// told adds a moment.
func told(list []Point, m Point) []Point {
	list = append(list, m)
	if len(list) <= mostMoments {
		return list
	}
	var half []Point
	for n := 0; n < len(list); n += 2 {
		half = append(half, Join(list[n:min(n+2, len(list))]))
	}
	return half
}

// Join is one moment for several, of which there is one at least: what both sides answered in all of them, and what
// the guard came to in the last.
func Join(list []Point) Point {
	all := list[len(list)-1]
	for _, m := range list[:len(list)-1] {
		all.Live, all.Trial = all.Live.Plus(m.Live), all.Trial.Plus(m.Trial)
	}
	return all
}

// Reach is from where to where differences of some moments are drawn: what is allowed, with room beside it, nearly all
// that there were, and the last one's range. High is above low.
func (s Story) Reach(list []Point) (low, high float64) {
	low, high = -1.5*s.Margin, 2.5*s.Margin
	for _, m := range list {
		low, high = min(low, 1.1*m.Difference), max(high, 1.1*m.Difference)
	}
	if n := len(list); n > 0 {
		low, high = min(low, list[n-1].Range.Low), max(high, list[n-1].Range.High)
	}
	if high <= low {
		high = low + 1
	}
	return low, high
}

// notable reports whether a moment is one to keep: one in so many seconds, and that in which the guard trips.
func (st *state) notable(mark bool, s Status) bool {
	trips := s.State == Tripped && !st.tripped
	st.tripped = s.State == Tripped
	return mark || trips
}

// keep keeps a moment, with what the guard came to then.
func (st *state) keep(s Status, m Point) {
	st.sureness = append(append([]float64(nil), st.sureness[max(0, len(st.sureness)-surenessLength+1):]...), s.Sure)
	m.Evidence, m.Needed, m.Difference, m.Range = s.Evidence, s.Needed, s.Difference, s.Range
	st.story = told(st.story, m)
}

// Stories are those of the guards that compare, in the order of the plan.
func (g *Guards) Stories() []Story {
	list := []Story{}
	for n, rule := range g.rules {
		if rule.Watch.Gathers() && !rule.Off {
			st := g.states[n]
			figure := ""
			switch {
			case rule.Watch.Figures():
				figure, rule.Margin = rule.Figure.String(), allows(rule)
			case st.figure != nil:
				rule = byMean(rule)
				figure, rule.Margin = rule.Figure.String(), st.figure.Margin
			}
			unit := st.unit
			if rule.Watch == plan.Rate {
				unit = Unit(cmp.Or(rule.Figure.Unit, "counted"))
			}
			list = append(list, Story{Guard: rule.Name, Watch: rule.Watch, Unit: unit, Figure: figure,
				Margin: rule.Margin, Points: st.story[:len(st.story):len(st.story)]})
		}
	}
	return list
}

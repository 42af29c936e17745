package crossing

import (
	"slices"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
)

// Overlap is for how long a crossing had both sides up, and what the new one cost in that time.
type Overlap struct {
	Lasted time.Duration `json:"lasted"`
	Still  bool          `json:"still,omitempty"` // they both stand
	Cost   float64       `json:"cost,omitempty"`
	Unit   string        `json:"unit,omitempty"` // of the cost; "" if the plan has no price
}

// OverlapOf is the overlap of the events of one crossing: from when the new side was up until one of them was retired,
// or until now; by the prices and instances of the plan's stacks. A service's first release has none.
func OverlapOf(events []Event, parts []plan.Part, now time.Time) Overlap {
	var o Overlap
	var from, to time.Time
	var s State
	for _, e := range events {
		s = Apply(s, e)
		switch e.What.(type) {
		case Raised:
			if from.IsZero() {
				from = e.At
			}
		case Retired:
			to = e.At
		}
	}
	if from.IsZero() || s.First {
		return o
	}
	if to.IsZero() {
		to, o.Still = now, true
	}
	o.Lasted = to.Sub(from)
	for _, part := range parts {
		if stack := part.Stacks[s.Target]; stack.Price.Unit != "" {
			o.Unit = stack.Price.Unit
			o.Cost += raise.Cost(stack.Price.Amount, slices.Repeat([]time.Time{from}, stack.Instances), to)
		}
	}
	return o
}

package wayback

import (
	"slices"
	"time"
)

// Step is one step of going home at a front, as it was rehearsed.
type Step struct {
	Front string        `json:"front,omitempty"` // which, of several
	What  string        `json:"what"`
	Took  time.Duration `json:"took"` // nanoseconds
}

// Rehearsal is everything of going home but the last act on each front, timed.
type Rehearsal struct {
	At time.Time `json:"at,omitzero"` // when it was over; zero if there was none
	// nanoseconds, from the beginning to the end: fronts are rehearsed at the same time
	Took  time.Duration `json:"took"`
	Steps []Step        `json:"steps,omitempty"`
	// why the members of the plan's group could not go home without the keeper; "" if they could, or if there is none
	Alone  string `json:"alone,omitempty"`
	Failed string `json:"failed,omitempty"` // why it would not work, in the system's words; "" if it would
	// it failed since the front was not reached, which says nothing of going home once it is
	Broken bool `json:"broken,omitempty"`
}

// Spread is how long the last rehearsals that would have worked took.
type Spread struct {
	Of     int           `json:"of"` // how many they are, at most [SpreadMost]
	Least  time.Duration `json:"least"`
	Middle time.Duration `json:"middle"` // the median
	Most   time.Duration `json:"most"`
}

// SpreadMost is how many rehearsals a spread is taken over.
const SpreadMost = 10

// SpreadOf is the spread of the last times, the newest last.
func SpreadOf(took []time.Duration) Spread {
	last := slices.Sorted(slices.Values(took[max(0, len(took)-SpreadMost):]))
	if len(last) == 0 {
		return Spread{}
	}
	return Spread{Of: len(last), Least: last[0], Middle: last[len(last)/2], Most: last[len(last)-1]}
}

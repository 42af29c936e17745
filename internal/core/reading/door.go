package reading

import (
	"time"

	"vaiven/internal/core/split"
)

// Mark is one answer in the door log.
type Mark struct {
	Side  string `json:"side"`            // "blue", "green", or "" if not known
	Kind  Answer `json:"kind,omitempty"`  // "" is a good answer
	Cache bool   `json:"cache,omitempty"` // came from a cache, so it says nothing about a side
}

// Answer is what is wrong with an answer.
type Answer string

// The kinds of answers.
const (
	GoodAnswer    Answer = ""
	FailingAnswer Answer = "failing" // an instance answered, with another status than wanted
	LostAnswer    Answer = "lost"    // no instance answered
)

// Door is the door log as of a moment. Its counts begin with the prober.
type Door struct {
	At         time.Time            `json:"at"`
	Answers    int64                `json:"answers"` // requests that ended, one way or another
	Failing    int64                `json:"failing"`
	Lost       int64                `json:"lost"`
	LastLost   string               `json:"last_lost,omitempty"` // why
	LongestGap time.Duration        `json:"longest_gap"`         // between good answers, in nanoseconds
	Recent     []Mark               `json:"recent"`              // the last answers, oldest first
	Versions   map[string]int64     `json:"versions,omitempty"`  // answers by the version that gave them
	LastBegun  map[string]time.Time `json:"last_begun"`          // by side, when the last request began that it answered
	Seconds    []Second             `json:"-"`                   // the last minutes' answers by side, oldest first
}

// Second is the answers of one second, by side.
type Second struct {
	At    time.Time // when it began
	Sides [2]int64
}

// Seen is how many requests that began since a time each side answered, to the second.
func (d Door) Seen(since time.Time) [2]int64 {
	var n [2]int64
	for _, s := range d.Seconds {
		if !s.At.Before(since) {
			n[split.Blue] += s.Sides[split.Blue]
			n[split.Green] += s.Sides[split.Green]
		}
	}
	return n
}

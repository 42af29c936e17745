package reading

import (
	"maps"
	"slices"
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
	SlowAnswer    Answer = "slow"      // good, and later than the plan's guard on the door wants it
	FailingAnswer Answer = "failing"   // an instance answered, with another status or content than wanted
	LostAnswer    Answer = "lost"      // no instance answered
	Unreached     Answer = "unreached" // there was no connection to the front, which says nothing of a side
)

// Door is the door log as of a moment. Its counts begin with the prober.
type Door struct {
	At      time.Time `json:"at"`
	Answers int64     `json:"answers"` // requests that ended, one way or another
	Slow    int64     `json:"slow,omitempty"`
	Failing int64     `json:"failing"`
	Lost    int64     `json:"lost"`            // also those that did not reach the front
	Twice   int64     `json:"twice,omitempty"` // of numbered messages: answers beyond the first
	// of numbered messages: answered by somebody who had answered a later one; whoever does several at a time does that
	Disordered int64         `json:"disordered,omitempty"`
	LongestGap time.Duration `json:"longest_gap"` // between good answers, in nanoseconds
	Gap        time.Duration `json:"-"`           // the longest since the report before this one
	Recent     []Mark        `json:"recent"`      // the last answers, oldest first
	// the last of them that failed or were lost, oldest first, at most [BadMost]
	Bad      []Bad            `json:"bad,omitempty"`
	Versions map[string]int64 `json:"versions,omitempty"` // answers by the version that gave them
	// by side, when the last request began that it answered
	LastBegun map[string]time.Time `json:"last_begun"`
	Seconds   []Second             `json:"-"` // the last minutes' answers by side, oldest first
	// what came of requests in the last minutes, oldest first
	Ended []Ended `json:"-"`
}

// Bad is an answer that came to nothing good.
type Bad struct {
	Mark
	At  time.Time `json:"at"`
	Why string    `json:"why"`
}

// BadMost is how many bad answers are kept with their words.
const BadMost = 8

// LastLost is why the last request was lost, "" if none was.
func (d Door) LastLost() string {
	for _, b := range slices.Backward(d.Bad) {
		if b.Kind == LostAnswer || b.Kind == Unreached {
			return b.Why
		}
	}
	return ""
}

// After is the door log of a prober that goes on for another.
func (d Door) After(before Door) Door {
	if before.At.IsZero() {
		return d
	}
	d.Answers += before.Answers
	d.Slow += before.Slow
	d.Failing += before.Failing
	d.Lost += before.Lost
	d.Twice += before.Twice
	d.Disordered += before.Disordered
	d.LongestGap = max(d.LongestGap, before.LongestGap)
	d.Bad = append(before.Bad[:len(before.Bad):len(before.Bad)], d.Bad...)
	d.Bad = d.Bad[max(0, len(d.Bad)-BadMost):]
	d.Recent = append(before.Recent[max(0,
		min(len(d.Recent), len(before.Recent))):len(before.Recent):len(before.Recent)], d.Recent...)
	versions := map[string]int64{}
	maps.Copy(versions, d.Versions)
	for version, n := range before.Versions {
		versions[version] += n
	}
	d.Versions = versions
	begun := map[string]time.Time{}
	maps.Copy(begun, before.LastBegun)
	maps.Copy(begun, d.LastBegun)
	d.LastBegun = begun
	d.Seconds = append(before.Seconds[:len(before.Seconds):len(before.Seconds)], d.Seconds...)
	d.Ended = append(before.Ended[:len(before.Ended):len(before.Ended)], d.Ended...)
	return d
}

// Ended is what came of the requests that ended within one second.
type Ended struct {
	At        time.Time // when it began
	Sides     [2]Tally
	Nobody    Tally // of whom it is not known which side they went to
	Unreached int64 // in none of the others
}

// Of is how many requests ended, whoever they went to.
func (e Ended) Of() int64 {
	return e.Unreached + e.Nobody.Of + e.Sides[split.Blue].Of + e.Sides[split.Green].Of
}

// Good is how many of them ended well.
func (e Ended) Good() int64 {
	return e.Of() - e.Unreached - e.Nobody.Bad - e.Sides[split.Blue].Bad - e.Sides[split.Green].Bad
}

// Tally is a number of requests, and how many of them came to nothing good: slow, failing
// or lost.
type Tally struct{ Of, Bad int64 }

// Over adds up what came of the requests that ended since a time, to the second.
func (d Door) Over(since time.Time) Ended {
	sum := Ended{At: since}
	for _, e := range d.Ended {
		if e.At.Before(since) {
			continue
		}
		for side, t := range e.Sides {
			sum.Sides[side].Of += t.Of
			sum.Sides[side].Bad += t.Bad
		}
		sum.Nobody.Of += e.Nobody.Of
		sum.Nobody.Bad += e.Nobody.Bad
		sum.Unreached += e.Unreached
	}
	return sum
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

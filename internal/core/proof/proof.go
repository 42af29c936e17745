package proof

import (
	"slices"
	"time"
)

// Health is the judgement on one instance.
type Health string

// The judgements. The zero value is Unknown.
const (
	Unknown Health = ""
	Up      Health = "up"
	Down    Health = "down"
)

// Judge turns readings into a judgement by thresholds. The zero value judges by
// the last reading alone.
type Judge struct {
	UpAfter   int    // good readings in a row until up; 0 means 1
	DownAfter int    // bad readings in a row until down; 0 means 1
	Health    Health // the judgement so far
	Run       int    // readings in a row that were like the last one
	Last      bool   // whether the last reading was good
}

// Read is the judge after one more reading.
func (j Judge) Read(good bool) Judge {
	if good != j.Last {
		j.Run = 0
	}
	j.Run++
	j.Last = good
	switch {
	case good && j.Run >= max(j.UpAfter, 1):
		j.Health = Up
	case !good && j.Run >= max(j.DownAfter, 1):
		j.Health = Down
	}
	return j
}

// Result is one check of one instance. Want and Got are sentences for people:
// "status 200", "status 503".
type Result struct {
	Part     string `json:"part,omitempty"`
	Kind     Kind   `json:"kind,omitempty"`
	Check    string `json:"check"`
	Instance string `json:"instance"` // or the side, for what concerns all of it
	Pass     bool   `json:"pass"`
	Ask      bool   `json:"ask,omitempty"` // not passed, but a person may accept it
	Want     string `json:"want"`
	Got      string `json:"got"`
	// the same text for the same thing found, where Got also says what changes from try to try
	Found string        `json:"found,omitempty"`
	Took  time.Duration `json:"took"` // nanoseconds, of the last try
	Tries int           `json:"tries"`
	At    time.Time     `json:"at"`
	Since time.Time     `json:"since,omitzero"` // of the last readings that came out alike
	// the last readings in milliseconds, oldest first; -1 for a bad one
	History []float64 `json:"history,omitempty"`
	Answer  string    `json:"answer,omitempty"` // of the last failing reading, in full as far as it was kept
}

// Kind is what a result is about.
type Kind string

// The kinds, in the order in which they are judged and shown.
const (
	KindInstances  Kind = "instances"    // as many as planned
	KindBuild      Kind = "build"        // what an instance says it is
	KindHealth     Kind = "health"       //
	KindReach      Kind = "reach"        // whether the front itself connects to an instance
	KindWarmUp     Kind = "warm-up"      // requests before any is judged
	KindSmoke      Kind = "smoke"        // the side's own addresses
	KindThrough    Kind = "by front"     // the same, by the front's door of the spare side
	KindNeed       Kind = "need"         // what it depends on, from where it stands
	KindDifference Kind = "differences"  // between the sides
	KindPairs      Kind = "same request" // to both sides
)

// Kinds lists all kinds in their order.
var Kinds = []Kind{KindInstances, KindBuild, KindHealth, KindReach, KindWarmUp, KindSmoke, KindThrough, KindNeed,
	KindDifference, KindPairs}

// SameCell reports whether two results are of the same check on the same
// instance.
func (r Result) SameCell(other Result) bool {
	return r.Part == other.Part && r.Kind == other.Kind && r.Check == other.Check && r.Instance == other.Instance
}

// Finding is what a result found that is not as wanted. It is known by what was
// found where, not by how that is worded or how long it took, so that what somebody
// accepted is not asked about again, and something else is.
type Finding struct {
	Part     string `json:"part,omitempty"`
	Kind     Kind   `json:"kind,omitempty"`
	Check    string `json:"check"`
	Instance string `json:"instance"`
	What     string `json:"what"` // what was found, the same text for the same thing
	Want     string `json:"want"`
	Got      string `json:"got"`
}

// Same reports whether both are the same thing found in the same place.
func (f Finding) Same(other Finding) bool {
	f.Want, f.Got = other.Want, other.Got
	return f == other
}

// Finding is what the result found.
func (r Result) Finding() Finding {
	what := r.Found
	if what == "" {
		what = r.Got
	}
	return Finding{Part: r.Part, Kind: r.Kind, Check: r.Check, Instance: r.Instance, What: what, Want: r.Want,
		Got: r.Got}
}

// Proof is the set of results for a side.
type Proof struct {
	Results []Result `json:"results"`
}

// Passing counts the results that passed.
func (p Proof) Passing() int {
	n := 0
	for _, r := range p.Results {
		if r.Pass {
			n++
		}
	}
	return n
}

// Pass reports whether the side is proven. A proof without results proves
// nothing.
func (p Proof) Pass() bool { return len(p.Results) > 0 && p.Passing() == len(p.Results) }

// Open are the results that neither passed nor were accepted.
func (p Proof) Open(accepted []Finding) []Result {
	var open []Result
	for _, r := range p.Results {
		if !r.Pass && !(r.Ask && slices.ContainsFunc(accepted, r.Finding().Same)) {
			open = append(open, r)
		}
	}
	return open
}

// Failed is the first result that did not pass, and false if all did.
func (p Proof) Failed() (Result, bool) {
	for _, r := range p.Results {
		if !r.Pass {
			return r, true
		}
	}
	return Result{}, false
}

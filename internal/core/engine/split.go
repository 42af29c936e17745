package engine

import (
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

const (
	// splitGrace is how long requests that began before a change may still be counted.
	splitGrace = 1500 * time.Millisecond
	// splitLate is how late a broker may be with what it tells of messages.
	splitLate = 10 * time.Second
	// splitSpan is how far back a split is judged by: what was wrong for a while and was
	// put right must not be held against it for ever.
	splitSpan = 5 * time.Minute
)

// SplitView is whether requests are split as asked, by what was counted since the split
// was last changed.
type SplitView struct {
	Asked   split.Share    `json:"asked"`             // on green
	Front   evidence.Seen  `json:"front"`             // by the front's own counts
	Prober  evidence.Seen  `json:"prober"`            // by the answers that Vaiven's own requests got
	Counts  evidence.Count `json:"counts"`            // the front's: on green, and in all
	Clients bool           `json:"clients,omitempty"` // these are clients
	Door    evidence.Count `json:"door"`              // the prober's, as far as they say something
	Wrong   bool           `json:"wrong,omitempty"`
	Since   time.Time      `json:"since,omitzero"` // while wrong
}

// JudgeSplit says whether requests are split as asked: by the front's counts of those on
// green and in all, and by the answers of each side that the prober got where it meets both. Where
// the key keeps clients together and the front counts them, it is clients that are counted.
func JudgeSplit(share split.Share, f plan.Front, tells reading.Capabilities, counts evidence.Count,
	probed [2]int64) SplitView {
	door := evidence.Count{Bad: probed[split.Green], Of: probed[split.Blue] + probed[split.Green]}
	if !tells.Both {
		door = evidence.Count{} // the prober is one client: it sees one side
	}
	v := SplitView{
		Asked: share, Counts: counts, Door: door, Clients: f.Together() && tells.Clients,
		Front:  evidence.Asked(share.Fraction(), counts, evidence.Independent),
		Prober: evidence.Asked(share.Fraction(), door, evidence.Independent),
	}
	// A few who ask much make any share, and who has a session is where that began.
	if _, all := share.Alone(); f.Sticky || f.Together() && !tells.Clients && !all {
		v.Front.Verdict, v.Front.More = evidence.NotTold, 0
	}
	if v.Clients {
		v.Front.Chance = evidence.Chance(share.Fraction(), counts.Of)
	}
	v.Wrong = v.Front.Verdict == evidence.Wrong || v.Prober.Verdict == evidence.Wrong
	return v
}

// Split is what was counted since a time on green, and in all: requests, messages that were led to a queue, or clients
// where the key keeps them together and the front counts them.
func Split(s *figures.Series, since time.Time, f plan.Front, tells reading.Capabilities) evidence.Count {
	count := func(side split.Side) int64 { return s.Count(side, since, 0).Requests }
	if _, queued := s.Led(split.Green, since); queued { // what is done of them may be long behind
		count = func(side split.Side) int64 {
			led, _ := s.Led(side, since)
			return led
		}
	}
	if f.Together() && tells.Clients {
		count = s.Came
	}
	green := count(split.Green)
	return evidence.Count{Bad: green, Of: green + count(split.Blue)}
}

// judgeSplit holds what was counted since the last change against the share in force.
func (j *judgement) judgeSplit(now time.Time) {
	s := j.front.reading.Split
	since := s.Since
	if j.settled.After(since) {
		since = j.settled
	}
	if until := j.everywhere(); until.After(since) { // until then some go by what was before
		since = until
	}
	if since = since.Add(splitGrace); j.front.reading.Sides[split.Green].Queue != nil {
		since = since.Add(splitLate)
	}
	if from := now.Add(-splitSpan); from.After(since) {
		since = from
	}
	before := j.split
	if counts := Split(&j.series, since, j.plan.Front, j.front.reading.Tells); counts != before.Counts ||
		s.Share != before.Asked || j.door.At.After(j.splitAt) {
		of := j.plan.Front
		of.Sticky = of.Sticky || j.front.reading.Sessions // whatever the plan says
		j.split = JudgeSplit(s.Share, of, j.front.reading.Tells, counts, j.door.Seen(since))
		j.splitAt = j.door.At
	}
	if j.split.Wrong {
		if j.split.Since = now; before.Wrong {
			j.split.Since = before.Since
		}
	}
}

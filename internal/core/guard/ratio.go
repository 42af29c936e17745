package guard

import (
	"math"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/plan"
)

// Ratio is what a guard has gathered on a rate that a source tells as two counters: what is bad, and what there is. Its
// fields are there to be written and read back.
type Ratio struct {
	Worse   *evidence.Worse  `json:"worse"`
	Between evidence.Between `json:"between"`
	// how the live side's bad ones differ from one time to the next, over what chance alone makes of them
	Noise evidence.Noise   `json:"noise"`
	Rest  [4]float64       `json:"rest"`           // what was divided by the noise and is below one
	Leg   evidence.Block   `json:"leg"`            // what both sides came to since the share was changed
	Since evidence.Block   `json:"since"`          // and since a moment was last kept
	Share float64          `json:"share"`          // the target's, of the leg
	Past  []evidence.Count `json:"past,omitempty"` // what the live side came to, by minutes
	Until time.Time        `json:"until,omitzero"` // the last of them
}

// ratio takes in what was counted since the reading before.
func (e *Figure) ratio(rule plan.Guard, f Facts, trial, live toldOf, since span, seconds int) {
	if e.Ratio == nil {
		blocks := seconds / int(max(rule.Every, time.Second).Seconds())
		e.Ratio = &Ratio{Worse: evidence.NewWorse(e.Margin, max(blocks, 1))}
	}
	q := e.Ratio
	if q.Share != e.Share {
		q.Share, q.Leg = e.Share, evidence.Block{}
	}
	if !since.same || since.at.IsZero() {
		return
	}
	mine, okTrial := since.rate(trial)
	theirs, okLive := since.rate(live)
	if !okTrial || !okLive {
		return
	}
	if was, ok := e.paired(theirs, since); ok {
		q.learn(was, theirs)
	}
	if e.Share < 1 {
		q.pass(e.At, theirs)
	}
	calm := evidence.Block{Live: q.calm(0, theirs), Trial: q.calm(2, mine)}
	switch {
	case e.Share == 0:
		q.Worse.Learn(calm.Live)
		return
	case !since.after(f, 0, forecast.Grace+rule.Settle):
		return
	case e.Share < 1:
		q.Worse.Add(calm)
		q.Between.Add(calm)
	case q.Worse.Live.Of > 0:
		q.Worse.AddAgainst(evidence.Ceiling(q.Past), calm.Trial)
	}
	block := evidence.Block{Live: theirs, Trial: mine}
	q.Leg, q.Since = q.Leg.Plus(block), q.Since.Plus(block)
}

// rate is by how much both counters of a side have grown since the reading before.
func (s span) rate(t toldOf) (evidence.Count, bool) {
	_, bad, okBad := s.counted(t, value)
	_, of, ok := s.counted(t, func(s Sample) float64 { return s.Of })
	return evidence.Count{Bad: min(bad, of), Of: of}, ok && okBad
}

// learn takes in what the live side came to in two times that follow each other.
func (q *Ratio) learn(a, b evidence.Count) {
	both := a.Plus(b)
	if both.Bad == 0 || a.Of == 0 || b.Of == 0 {
		return
	}
	for _, c := range []evidence.Count{a, b} {
		due := both.Rate() * float64(c.Of)
		q.Noise.Squared += (float64(c.Bad) - due) * (float64(c.Bad) - due) / due
	}
	q.Noise.Freedom++
}

// calm is a count as if each of what comes in clumps had come alone: divided by the noise. What is below one waits for
// the next.
func (q *Ratio) calm(rest int, c evidence.Count) evidence.Count {
	factor := q.Noise.Factor()
	part := func(n int, count int64) int64 {
		q.Rest[n] += float64(count) / factor
		whole := math.Floor(q.Rest[n] + 1e-9)
		q.Rest[n] -= whole
		return int64(whole)
	}
	bad := part(rest, c.Bad)
	of := part(rest+1, c.Of)
	return evidence.Count{Bad: min(bad, of), Of: of}
}

// pass keeps what the live side came to, by the minute.
func (q *Ratio) pass(at time.Time, live evidence.Count) {
	if minute := at.Truncate(time.Minute); !minute.Equal(q.Until) {
		q.Until, q.Past = minute, another(q.Past)
	}
	last := len(q.Past) - 1
	q.Past[last] = q.Past[last].Plus(live)
}

// find is what was counted until now comes to.
func (q *Ratio) find() finding {
	difference, in := q.Between.Difference(likely)
	of := finding{log: q.Worse.Log(), difference: difference, in: in, few: q.Leg.Trial.Of < leastCounted}
	if q.Share == 1 {
		of.in = evidence.Interval{}
		of.difference = q.Leg.Trial.Rate() - q.Worse.Live.Rate()
	}
	return of
}

// shown is what is shown of both sides: since the share was changed, or what the live side came to before.
func (q *Ratio) shown(f Facts) (trial, live evidence.Count) {
	trial, live = q.Leg.Trial, q.Leg.Live
	if f.alone() || live.Of == 0 {
		live = evidence.Count{}
		for _, c := range q.Past {
			live = live.Plus(c)
		}
	}
	return trial, live
}

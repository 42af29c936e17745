package guard

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Figure is what one guard on a figure has gathered. Its fields are there to be written and read back.
type Figure struct {
	Margin float64             `json:"margin"`
	Part   float64             `json:"part"`           // of the error allowed, that it may be wrong about
	Ruled  crossing.Overruling `json:"ruled,omitzero"` // the last word of a person to go on in spite of it
	// times that it began anew: the share was changed, or which instances there are
	Legs  int     `json:"legs"`
	Share float64 `json:"share"` // the target's, as of the last reading
	// of a number: how the target's instances differ on average
	Side   *evidence.Drift            `json:"side,omitempty"`
	Each   map[string]*evidence.Drift `json:"each,omitempty"`   // by instance of the target: how each does
	Fewer  *evidence.Fewer            `json:"fewer,omitempty"`  // of what is counted
	Last   map[string]Sample          `json:"last,omitempty"`   // by instance: what it told last
	At     time.Time                  `json:"at,omitzero"`      // of that
	Before *float64                   `json:"before,omitempty"` // the live side's number on average, while it served
	Value  float64                    `json:"value"`            // the target's, on average, as of the last reading
	Beside float64                    `json:"beside"`           // the live side's
	Told   int                        `json:"told"`             // instances of the target that told it then
	Live   int                        `json:"live"`             // and of the live side
	Said   string                     `json:"said,omitempty"`   // why one did not

	found *finding // what that comes to; nil until somebody asks
}

// finding is what was told until now comes to. It changes with each reading, and guards are evaluated far more often.
type finding struct {
	log        float64 // of the evidence
	instance   string  // that it is about, "" for the side
	difference float64
	in         evidence.Interval // of that; zero if it is not known
	few        bool              // there is too little to say anything
}

// leastCounted is how much has to be counted for a guard on a count to say anything.
const leastCounted = 20

// TakeFigures has the guards on figures take in what instances told.
func (g *Guards) TakeFigures(f Facts, r reading.Figures) {
	for n, rule := range g.rules {
		if !rule.Watch.Figures() || rule.Off {
			continue
		}
		st := &g.states[n]
		if st.figure == nil {
			st.figure = &Figure{Margin: rule.Margin, Part: g.part()}
		}
		st.figure.take(rule, f, r, g.terms.Seconds)
	}
}

// toldOf is what the instances of one side told: of one that told nothing this once, what it told last.
type toldOf struct {
	names []string // of instances, with when they were started
	told  []Sample
}

// Sample is what an instance told, and when.
type Sample struct {
	Value float64   `json:"value"`
	At    time.Time `json:"at"`
}

func (t toldOf) mean() float64 {
	sum := 0.0
	for _, v := range t.told {
		sum += v.Value
	}
	return sum / float64(len(t.told))
}

func (e *Figure) of(r reading.Figures, side split.Side, figure string) toldOf {
	var t toldOf
	for _, i := range r.Of {
		if i.Side != side {
			continue
		}
		name := fmt.Sprintf("%s %d", i.Name, i.Started.Unix())
		v, ok := i.Values[figure]
		sample := Sample{v, r.At}
		if !ok {
			if e.Said = i.Said; e.Said == "" {
				e.Said = "it is not on its page"
			}
			if sample, ok = e.Last[name]; !ok || r.At.Sub(sample.At) > carried {
				continue
			}
		}
		t.names, t.told = append(t.names, name), append(t.told, sample)
	}
	return t
}

// carried is for how long what an instance told last stands for what it does not tell.
const carried = 30 * time.Second

// take takes in what instances told.
func (e *Figure) take(rule plan.Guard, f Facts, r reading.Figures, seconds int) {
	switch back := e.At.Sub(r.At); {
	case back > carried: // the clock was set: what was told before is of no time that is known
		e.Last, e.At = nil, time.Time{}
	case back >= 0:
		return
	}
	if k := slices.IndexFunc(f.Overruled, func(o crossing.Overruling) bool { return o.Guard == rule.Name }); k >= 0 &&
		f.Overruled[k] != e.Ruled {
		e.Ruled, e.Part = f.Overruled[k], e.Part/2
		e.Margin = max(e.Margin, e.Ruled.Beyond)
		e.Side, e.Each, e.Fewer, e.Legs = nil, nil, nil, 0
	}
	e.Said, e.found = "", nil
	figure := rule.Figure.String()
	trial, live := e.of(r, f.Target, figure), e.of(r, f.Target.Other(), figure)
	e.Told, e.Live = len(trial.names), len(live.names)
	last, at := e.Last, e.At
	e.Last, e.At = map[string]Sample{}, r.At
	same := true
	for _, t := range []toldOf{trial, live} {
		for n, name := range t.names {
			_, known := last[name]
			same = same && known
			e.Last[name] = t.told[n]
		}
	}
	same = same && len(last) == len(e.Last)
	share := f.Share.Fraction()
	if share != e.Share || !same {
		e.Side, e.Each = nil, nil
		if e.Share = share; share > 0 {
			e.Legs++
		}
	}
	if rule.Watch == plan.Fewer {
		e.count(f, trial, live, last, same, at, seconds)
		return
	}
	e.stand(rule, f, trial, live)
}

// stand takes in how high a number stands.
func (e *Figure) stand(rule plan.Guard, f Facts, trial, live toldOf) {
	if len(live.told) > 0 {
		e.Beside = live.mean()
		if before := e.Beside; e.Share < 1 {
			e.Before = &before
		}
	}
	if len(trial.told) == 0 {
		return
	}
	e.Value = trial.mean()
	if e.Share == 0 || f.Since.IsZero() || e.At.Before(f.Changed.Add(rule.Settle)) ||
		e.At.Before(f.Since.Add(rule.Settle)) {
		return
	}
	base := 0.0 // of how a number grows on a side that gets nothing, nothing is to be learnt
	switch {
	case e.Share < 1 && len(live.told) > 0:
		base = e.Beside
	case e.Share < 1, rule.Watch == plan.Higher && e.Before == nil:
		return
	case rule.Watch == plan.Higher:
		base = *e.Before
	}
	if e.Side == nil {
		e.Side, e.Each = evidence.NewDrift(e.Margin, rule.Watch == plan.Grows), map[string]*evidence.Drift{}
		for _, name := range trial.names {
			e.Each[name] = evidence.NewDrift(e.Margin, rule.Watch == plan.Grows)
		}
	}
	minutes := e.At.Sub(f.Since).Minutes()
	e.Side.Add(minutes, e.Value-base)
	for n, name := range trial.names {
		e.Each[name].Add(minutes, trial.told[n].Value-base)
	}
}

// count takes in what was counted since the reading before.
func (e *Figure) count(f Facts, trial, live toldOf, last map[string]Sample, same bool, at time.Time, seconds int) {
	if e.Fewer == nil {
		e.Fewer = evidence.NewFewer(e.Margin, seconds)
	}
	if !same || at.IsZero() {
		return
	}
	since := func(t toldOf) (counts []int64, sum int64, ok bool) {
		for n, name := range t.names {
			more := t.told[n].Value - last[name].Value
			if more < 0 {
				return nil, 0, false // it began anew
			}
			counts = append(counts, int64(math.Round(more)))
			sum += counts[n]
		}
		return counts, sum, true
	}
	mine, trialSum, okTrial := since(trial)
	theirs, liveSum, okLive := since(live)
	if !okTrial || !okLive {
		return
	}
	if e.Share > 0 && e.Share < 1 && len(mine) > 0 && len(theirs) > 0 && !f.Since.IsZero() &&
		at.After(f.Changed.Add(forecast.Grace)) {
		if share, ok := e.split(f, at); ok {
			e.Fewer.Add(evidence.Counted{Live: liveSum, Trial: trialSum}, share)
		}
	}
	e.Fewer.Noise.Learn(theirs)
}

// split is the part of the requests that the target got since a time: as it was counted, or, where the front does
// not count, as it was asked for. It is not known where that changed meanwhile.
func (e *Figure) split(f Facts, since time.Time) (share float64, ok bool) {
	if !f.Tells.Counts {
		return e.Share, true
	}
	var trial, live int64
	for st := range f.Series.After(since) {
		if st.Mixed {
			return 0, false
		}
		if st.To.After(e.At) {
			break
		}
		trial, live = trial+st.Failing(f.Target).Of, live+st.Failing(f.Target.Other()).Of
	}
	if trial == 0 || live == 0 {
		return 0, false
	}
	return float64(trial) / float64(trial+live), true
}

// finds is what was told until now comes to: of a number the evidence of the side and that of each of its instances,
// and of these the one that stands out most, where it is beyond what the side is on average.
func (e *Figure) finds() finding {
	if e.found == nil {
		found := e.find()
		e.found = &found
	}
	return *e.found
}

func (e *Figure) find() finding {
	switch {
	case e.Fewer != nil:
		sum := e.Fewer.Sum
		ratio, in := sum.Ratio(likely, e.Fewer.Noise.Factor())
		return finding{log: e.Fewer.Log(), difference: 1 - ratio,
			in: finite(evidence.Interval{Low: 1 - in.High, High: 1 - in.Low}), few: sum.Live+sum.Trial < leastCounted}
	case e.Side == nil:
		return finding{few: true}
	}
	about := e.Side
	difference, in := about.Range(likely)
	of := finding{difference: difference, in: finite(in)}
	highest := difference
	each := make([]float64, 0, len(e.Each))
	for name, d := range e.Each {
		each = append(each, d.Log())
		if difference, in := d.Range(likely); !math.IsInf(in.Low, 0) && in.Low > highest {
			about, highest = d, in.Low
			of = finding{difference: difference, in: finite(in)}
			of.instance, _, _ = strings.Cut(name, " ")
		}
	}
	of.log, of.few = evidence.Mean(e.Side.Log(), evidence.Mean(each...)), !about.Known()
	return of
}

// likely is the chance that a range that is shown is wrong.
const likely = 0.05

// allowed is the part of the error that the evidence may spend: of a number it begins anew with each leg, and all
// legs together spend no more than there is, since 1/2 + 1/6 + 1/12 + ... is 1.
func (e *Figure) allowed() float64 {
	if e.Fewer != nil || e.Legs == 0 {
		return e.Part
	}
	return e.Part / float64(e.Legs*(e.Legs+1))
}

// figured is how a guard on a figure stands.
func (g *Guards) figured(n int, rule plan.Guard, s Status, f Facts, mark bool) Status {
	st := &g.states[n]
	e := st.figure
	s.Figure = rule.Figure.String()
	if e == nil || !f.FiguresRead {
		s.State, s.Gap = Unknown, NotRead
		return s
	}
	if f.alone() && s.Then == plan.RollBack { // what was is no proof of what would be now
		s.Then = plan.Freeze
	}
	s.Margin, s.Value, s.Beside, s.Said = e.Margin, e.Value, e.Beside, e.Said
	of := e.finds()
	s.Instance, s.Difference, s.Range = of.instance, of.difference, of.in
	part := e.allowed()
	s.Sure = evidence.SureOf(of.log, part)
	s.Evidence, s.Needed = of.log/math.Ln10, -math.Log10(part*g.terms.Alpha)
	switch {
	case e.Told == 0:
		s.State, s.Gap = Unknown, NotTold
	case f.alone() && rule.Watch == plan.Fewer:
		s.State, s.Gap = Unknown, NoneBeside
	case !f.alone() && e.Live == 0, f.alone() && rule.Watch == plan.Higher && e.Before == nil:
		s.State, s.Gap = Unknown, NoBaseline
	case s.Sure >= 1-g.terms.Alpha:
		s.State = Tripped
	case of.few:
		s.State, s.Gap = Unknown, TooFew
	case s.Sure >= 0.5:
		s.State = Watching
	}
	if st.notable(mark, s) {
		st.keep(s, Point{At: f.Now, Value: s.Value, Beside: s.Beside})
	}
	s.Sureness = st.sureness
	return s
}

// finite is a range that is known, and the zero value for one that is not.
func finite(in evidence.Interval) evidence.Interval {
	if math.IsInf(in.Low, 0) || math.IsInf(in.High, 0) {
		return evidence.Interval{}
	}
	return in
}

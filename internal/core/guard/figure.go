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
	First  time.Time                  `json:"first,omitzero"`   // of what is counted: when the target first came to some
	Before *float64                   `json:"before,omitempty"` // the live side's number on average, while it served
	Saws   map[string]*evidence.Saw   `json:"saws,omitempty"`   // by instance, of both sides
	// some of them were swept: troughs are compared
	Sawing bool `json:"sawing,omitempty"`
	// of the live side's troughs: by instance the last one, and how they spread, or how they grow, a minute
	Troughs map[string]Sample `json:"troughs,omitempty"`
	Spread  evidence.Spread   `json:"spread,omitzero"`
	Turned  map[string]bool   `json:"turned,omitempty"` // the target's instances that had a trough since the side's was taken
	Value   float64           `json:"value"`            // the target's, on average, as of the last reading
	Beside  float64           `json:"beside"`           // the live side's
	Told    int               `json:"told"`             // instances of the target that told it then
	Live    int               `json:"live"`             // and of the live side
	Said    string            `json:"said,omitempty"`   // why one did not

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
		if ok && !(math.Abs(v) < mostFigure) { // no page means that
			i.Said, ok = fmt.Sprintf("%g is no figure", v), false
		}
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

// mostFigure is what no figure comes to: it can be added up and written.
const mostFigure = 1e300

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
		e.Side, e.Each, e.Turned = nil, nil, nil
		if e.Share = share; share > 0 {
			e.Legs++
		}
	}
	if rule.Watch == plan.Fewer {
		e.count(rule, f, trial, live, last, same, at, seconds)
		return
	}
	e.stand(rule, f, trial, live)
}

// stand takes in how high a number stands.
func (e *Figure) stand(rule plan.Guard, f Facts, trial, live toldOf) {
	ended := map[string]bool{}
	if rule.Watch.Figures() {
		ended = e.saw(rule, f, trial, live)
	}
	if len(live.told) > 0 {
		e.Beside = live.mean()
		if before := e.Beside; e.Share < 1 && !e.Sawing {
			e.Before = &before
		}
	}
	if len(trial.told) == 0 {
		return
	}
	e.Value = trial.mean()
	if e.Sawing {
		e.troughs(rule, f, trial, live, ended)
		return
	}
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

// saw takes in how the numbers of instances rise and are swept. It returns whose trough has just ended. From the first
// one that is swept on, troughs are compared.
func (e *Figure) saw(rule plan.Guard, f Facts, trial, live toldOf) (ended map[string]bool) {
	ended = map[string]bool{}
	saws := map[string]*evidence.Saw{}
	settled := !e.At.Before(f.Changed.Add(rule.Settle))
	for side, t := range []toldOf{trial, live} {
		loaded := settled && (side == 0 && e.Share > 0 || side == 1 && e.Share < 1)
		for n, name := range t.names {
			s := e.Saws[name]
			if s == nil {
				s = &evidence.Saw{}
			}
			saws[name] = s
			switch told := t.told[n]; {
			case !told.At.Equal(e.At): // not just now
			case loaded:
				ended[name] = s.Add(told.Value, e.Margin)
			default:
				s.Rest(told.Value)
			}
			if s.Drops > 0 && !e.Sawing {
				e.Sawing, e.Side, e.Each, e.Before = true, nil, nil, nil
				e.Legs++
			}
		}
	}
	e.Saws = saws
	return ended
}

// trough is the mean of the last troughs of instances, and false as long as one has none.
func (e *Figure) trough(t toldOf) (mean float64, known bool) {
	for _, name := range t.names {
		s := e.Saws[name]
		if !s.Found {
			return 0, false
		}
		mean += s.Trough / float64(len(t.names))
	}
	return mean, len(t.names) > 0
}

// spread takes in how the live side's troughs differ: of a number that grows, from one to the next.
func (e *Figure) spread(rule plan.Guard, live toldOf, ended map[string]bool) {
	if e.Troughs == nil {
		e.Troughs = map[string]Sample{}
	}
	for _, name := range live.names {
		if !ended[name] {
			continue
		}
		now := Sample{e.Saws[name].Trough, e.At}
		if was, known := e.Troughs[name]; known && rule.Watch == plan.Grows {
			e.Spread.Add((now.Value - was.Value) / now.At.Sub(was.At).Minutes())
		}
		if rule.Watch == plan.Higher {
			e.Spread.Add(now.Value)
		}
		e.Troughs[name] = now
	}
}

// troughs takes in the troughs that have just ended.
func (e *Figure) troughs(rule plan.Guard, f Facts, trial, live toldOf, ended map[string]bool) {
	e.spread(rule, live, ended)
	base, known := e.trough(live)
	switch {
	case known && e.Share < 1:
		e.Before = &base
	case e.Share < 1:
		return
	case rule.Watch == plan.Higher && e.Before == nil:
		return
	case rule.Watch == plan.Higher:
		base = *e.Before
	default:
		base = 0
	}
	if e.Share == 0 || f.Since.IsZero() {
		return
	}
	if e.Side == nil {
		e.Side, e.Each = evidence.NewTroughs(e.Margin, rule.Watch == plan.Grows), map[string]*evidence.Drift{}
		for _, name := range trial.names {
			e.Each[name] = evidence.NewTroughs(e.Margin, rule.Watch == plan.Grows)
		}
	}
	minutes := e.At.Sub(f.Since).Minutes()
	if e.Turned == nil {
		e.Turned = map[string]bool{}
	}
	e.Side.Beside = e.Spread
	for _, name := range trial.names {
		e.Each[name].Beside = e.Spread
		if ended[name] {
			e.Turned[name] = true
			e.Each[name].Add(minutes, e.Saws[name].Trough-base)
		}
	}
	if mean, all := e.trough(trial); all && len(e.Turned) == len(trial.names) {
		e.Side.Add(minutes, mean-base)
		clear(e.Turned)
	}
}

// count takes in what was counted since the reading before.
func (e *Figure) count(rule plan.Guard, f Facts, trial, live toldOf, last map[string]Sample, same bool, at time.Time,
	seconds int) {
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
	if e.Share > 0 && !f.Since.IsZero() && trialSum > 0 && e.First.IsZero() {
		e.First = e.At
	}
	late, settle, known := e.late(rule, f)
	if e.Share > 0 && e.Share < 1 && len(mine) > 0 && len(theirs) > 0 && known &&
		at.Add(-late).After(f.Changed.Add(settle)) {
		if share, ok := e.split(f, at.Add(-late), e.At.Add(-late)); ok {
			e.Fewer.Add(evidence.Counted{Live: liveSum, Trial: trialSum}, share)
		}
	}
	e.Fewer.Noise.Learn(theirs)
}

// The times that what is counted later than its request is given, where the plan does not say how much later.
const (
	spreads  = time.Minute     // over which it may come, beside what it takes at least
	noneMost = 5 * time.Minute // until a person is asked where none came
)

// late is how much later than its request something is counted, and how long after a change of the share what comes is
// of requests before it. Where the plan does not say it, it is what it took the target to come to its first.
func (e *Figure) late(rule plan.Guard, f Facts) (late, settle time.Duration, known bool) {
	switch {
	case f.Since.IsZero():
		return 0, 0, false
	case rule.After != plan.Unsaid:
		return rule.After, forecast.Grace, true
	case e.First.IsZero():
		return 0, 0, false
	}
	return max(e.First.Sub(f.Since), 0), spreads, true
}

// split is the part of the requests that the target got between two times: as it was counted, or, where the front does
// not count, as it was asked for. It is not known where that changed meanwhile.
func (e *Figure) split(f Facts, since, until time.Time) (share float64, ok bool) {
	if !f.Tells.Counts {
		return e.Share, true
	}
	var trial, live int64
	for st := range f.Series.After(since) {
		if st.Mixed {
			return 0, false
		}
		if st.To.After(until) {
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
	case rule.Watch == plan.Fewer && rule.After == plan.Unsaid && e.First.IsZero() && f.Now.Sub(f.Since) >= noneMost:
		s.State, s.Gap = Unknown, NoneYet
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

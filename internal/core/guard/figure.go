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
	Read    time.Time         `json:"read,omitzero"`    // when whoever tells it was last asked
	Oldest  time.Time         `json:"oldest,omitzero"`  // of the samples of the last reading
	Ratio   *Ratio            `json:"ratio,omitempty"`  // of a rate
	// of what is counted, where a side tells one number: the live side's count since the reading before, which waits
	// for the next to be compared with
	Waiting *Paired `json:"waiting,omitempty"`

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

// Paired is what the live side came to in a time.
type Paired struct {
	Count evidence.Count `json:"count"`
	Took  time.Duration  `json:"took"`
}

// like reports whether two times were about as long.
func (p Paired) like(took time.Duration) bool {
	return p.Took-took <= took/5 && took-p.Took <= took/5
}

// leastCounted is how much has to be counted for a guard on a count to say anything.
const leastCounted = 20

// TakeFigures has the guards on figures take in what instances or a source told.
func (g *Guards) TakeFigures(f Facts, r reading.Figures) {
	for n, rule := range g.rules {
		st := &g.states[n]
		switch {
		case rule.Off, rule.Asked() && rule.Name != r.Guard, !rule.Asked() && (r.Guard != "" || !rule.Watch.Figures()):
			continue
		case rule.Watch == plan.Alert:
			if st.alerts == nil {
				st.alerts = &Alerts{}
			}
			st.alerts.take(rule, f, r)
			continue
		}
		if st.figure == nil {
			st.figure = &Figure{Margin: allows(rule), Part: g.part()}
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
	Of    float64   `json:"of,omitempty"` // of a rate: how much there is of which the value is bad
	At    time.Time `json:"at"`
}

func (t toldOf) mean() float64 {
	sum := 0.0
	for _, v := range t.told {
		sum += v.Value
	}
	return sum / float64(len(t.told))
}

func (e *Figure) of(r reading.Figures, side split.Side, rule plan.Guard) toldOf {
	var t toldOf
	figure := rule.Figure.String()
	for _, i := range r.Of {
		if i.Side != side {
			continue
		}
		name := fmt.Sprintf("%s %d", i.Name, i.Started.Unix())
		v, ok := i.Values[figure]
		if ok && !(math.Abs(v) < mostFigure) { // no page means that
			i.Said, ok = fmt.Sprintf("%g is no figure", v), false
		}
		sample := Sample{v, i.Of[figure], r.At}
		if !ok {
			if e.Said = i.Said; e.Said == "" {
				e.Said = "it is not on its page"
			}
			if sample, ok = e.Last[name]; !ok || r.At.Sub(sample.At) > carriedFor(rule) {
				continue
			}
		}
		t.names, t.told = append(t.names, name), append(t.told, sample)
	}
	return t
}

// mostFigure is what no figure comes to: it can be added up and written.
const mostFigure = 1e300

// carried is for how long what an instance told last stands for what it does not tell, and carriedLeast for how long
// at the least what a source told does: as long as it is asked twice.
const (
	carried      = 30 * time.Second
	carriedLeast = 5 * time.Second
)

func carriedFor(rule plan.Guard) time.Duration {
	if rule.Asked() {
		return max(2*rule.Every, carriedLeast)
	}
	return carried
}

// take takes in what was told.
func (e *Figure) take(rule plan.Guard, f Facts, r reading.Figures, seconds int) {
	e.Read = f.Now
	mine, theirs := allCounted(rule, r, f.Target), allCounted(rule, r, f.Target.Other())
	if none := !anyTold(r); none || !mine || !theirs {
		if e.Said = r.Said(); r.At.Sub(e.At) > carriedFor(rule) {
			if none || !mine {
				e.Told = 0
			}
			if none || !theirs {
				e.Live = 0
			}
		}
		return
	}
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
		e.Side, e.Each, e.Fewer, e.Ratio, e.Legs = nil, nil, nil, nil, 0
	}
	e.Said, e.found = "", nil
	trial, live := e.of(r, f.Target, rule), e.of(r, f.Target.Other(), rule)
	e.Told, e.Live = len(trial.names), len(live.names)
	last, at, oldest := e.Last, e.At, e.Oldest
	e.Oldest = r.Oldest()
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
		e.Side, e.Each, e.Turned, e.Waiting = nil, nil, nil, nil
		if e.Share = share; share > 0 {
			e.Legs++
		}
	}
	since := span{last, at, oldest, same}
	switch rule.Watch {
	case plan.Fewer:
		e.count(rule, f, trial, live, since, seconds)
	case plan.Rate:
		e.ratio(rule, f, trial, live, since, seconds)
	default:
		e.stand(rule, f, trial, live)
	}
}

// allCounted reports whether what a side counts can be added up. Where one of its instances does not tell what it
// counts, the sum is not known, and comes with the next reading in which all do.
func allCounted(rule plan.Guard, r reading.Figures, side split.Side) bool {
	return rule.Watch != plan.Fewer || !slices.ContainsFunc(r.Of, func(t reading.Told) bool {
		v, ok := t.Values[rule.Figure.String()]
		return t.Side == side && (!ok || !(math.Abs(v) < mostFigure))
	})
}

// anyTold reports whether anybody told anything.
func anyTold(r reading.Figures) bool {
	return slices.ContainsFunc(r.Of, func(t reading.Told) bool { return len(t.Values) > 0 })
}

// span is what is known of the reading before.
type span struct {
	last       map[string]Sample
	at, oldest time.Time // its newest sample, and its oldest
	same       bool      // the same instances told it at the same share
}

// after reports whether all that was counted since is of a time behind a change of the share, and so long after it.
func (s span) after(f Facts, late, settle time.Duration) bool {
	return !s.at.IsZero() && s.oldest.Add(-late).After(f.Changed.Add(settle))
}

// counted is by how much what each instance counts has grown since the reading before, and in all; not known where one
// began anew. Part is what is read of a sample.
func (s span) counted(t toldOf, part func(Sample) float64) (counts []int64, sum int64, ok bool) {
	for n, name := range t.names {
		more := part(t.told[n]) - part(s.last[name])
		if more < 0 {
			return nil, 0, false
		}
		counts = append(counts, int64(math.Round(more)))
		sum += counts[n]
	}
	return counts, sum, true
}

func value(s Sample) float64 { return s.Value }

// stand takes in how high a number stands.
func (e *Figure) stand(rule plan.Guard, f Facts, trial, live toldOf) {
	ended := map[string]bool{}
	if rule.Watch == plan.Grows || rule.Watch == plan.Higher {
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
	level := rule.Watch.Levels()
	switch {
	case rule.Watch == plan.Bound:
		base = rule.Margin
	case e.Share < 1 && len(live.told) > 0:
		base = e.Beside
	case e.Share < 1, level && e.Before == nil:
		return
	case level:
		base = *e.Before
	}
	worse := worse(rule)
	if e.Side == nil {
		e.Side, e.Each = evidence.NewDrift(e.Margin, rule.Watch == plan.Grows), map[string]*evidence.Drift{}
		for _, name := range trial.names {
			e.Each[name] = evidence.NewDrift(e.Margin, rule.Watch == plan.Grows)
		}
	}
	minutes := e.At.Sub(f.Since).Minutes()
	e.Side.Add(minutes, worse*(e.Value-base))
	for n, name := range trial.names {
		e.Each[name].Add(minutes, worse*(trial.told[n].Value-base))
	}
}

// allows is by how much a figure may differ from what it is held against: from a bound by nothing.
func allows(rule plan.Guard) float64 {
	if rule.Watch == plan.Bound {
		return 0
	}
	return rule.Margin
}

// worse is 1 where more is worse, and -1 where less is.
func worse(rule plan.Guard) float64 {
	if rule.Watch == plan.Lower || rule.Watch == plan.Bound && rule.Down {
		return -1
	}
	return 1
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
		now := Sample{Value: e.Saws[name].Trough, At: e.At}
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
func (e *Figure) count(rule plan.Guard, f Facts, trial, live toldOf, since span, seconds int) {
	if e.Fewer == nil {
		e.Fewer = evidence.NewFewer(e.Margin, seconds)
	}
	if !since.same || since.at.IsZero() {
		return
	}
	mine, trialSum, okTrial := since.counted(trial, value)
	theirs, liveSum, okLive := since.counted(live, value)
	if !okTrial || !okLive {
		return
	}
	if e.Share > 0 && !f.Since.IsZero() && trialSum > 0 && e.First.IsZero() {
		e.First = e.At
	}
	late, settle, known := e.late(rule, f)
	if e.Share > 0 && e.Share < 1 && len(mine) > 0 && len(theirs) > 0 && known && since.after(f, late, settle) {
		if share, ok := e.split(f, since.at.Add(-late), e.At.Add(-late)); ok {
			e.Fewer.Add(evidence.Counted{Live: liveSum, Trial: trialSum}, share)
		}
	}
	if len(theirs) != 1 {
		e.Fewer.Noise.Learn(theirs)
		return
	}
	// Nobody to compare it with but itself a moment ago.
	if was, ok := e.paired(evidence.Count{Of: liveSum}, since); ok {
		e.Fewer.Noise.Learn([]int64{was.Of, liveSum})
	}
}

// paired is what the live side came to in a time as long as this one just before it, where there is one that was not
// compared yet.
func (e *Figure) paired(now evidence.Count, since span) (was evidence.Count, ok bool) {
	took := e.At.Sub(since.at)
	if w := e.Waiting; w != nil && w.like(took) {
		e.Waiting = nil
		return w.Count, true
	}
	e.Waiting = &Paired{now, took}
	return evidence.Count{}, false
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
	case e.Ratio != nil:
		return e.Ratio.find()
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
	if e.Fewer != nil || e.Ratio != nil || e.Legs == 0 {
		return e.Part
	}
	return e.Part / float64(e.Legs*(e.Legs+1))
}

// freshFigures is how long figures count at least.
const freshFigures = 10 * time.Second

// fresh reports whether whoever tells the figure was asked lately.
func (e *Figure) fresh(rule plan.Guard, f Facts) bool {
	return e != nil && f.Now.Sub(e.Read) <= max(4*rule.Every, freshFigures)
}

// figured is how a guard on a figure stands.
func (g *Guards) figured(n int, rule plan.Guard, s Status, f Facts, mark, fresh bool) Status {
	st := &g.states[n]
	e := st.figure
	s.Figure, s.From, s.Down = rule.Figure.String(), rule.Figure.From, rule.Down
	if e == nil || !fresh {
		s.State, s.Gap = Unknown, NotRead
		return s
	}
	if f.alone() && s.Then == plan.RollBack && rule.Watch.Beside() { // what was is no proof of what would be now
		s.Then = plan.Freeze
	}
	s.Margin, s.Value, s.Beside, s.Said, s.Told = e.Margin, e.Value, e.Beside, e.Said, e.At
	of := e.finds()
	s.Instance, s.Difference, s.Range = of.instance, of.difference, of.in
	if rule.Watch == plan.Bound {
		s.Bound = rule.Margin
	}
	if e.Ratio != nil {
		s.Trial, s.Baseline = e.Ratio.shown(f)
	}
	part := e.allowed()
	s.Sure = evidence.SureOf(of.log, part)
	s.Evidence, s.Needed = of.log/math.Ln10, -math.Log10(part*g.terms.Alpha)
	switch {
	case e.Told == 0:
		s.State, s.Gap = Unknown, NotTold
	case f.alone() && rule.Watch == plan.Fewer:
		s.State, s.Gap = Unknown, NoneBeside
	case !f.alone() && e.Live == 0 && rule.Watch.Beside(), f.alone() && rule.Watch.Levels() && e.Before == nil,
		f.alone() && e.Ratio != nil && s.Baseline.Of == 0:
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
		m := Point{At: f.Now, Value: s.Value, Beside: s.Beside}
		if e.Ratio != nil {
			m.Live, m.Trial = e.Ratio.Since.Live, e.Ratio.Since.Trial
			e.Ratio.Since = evidence.Block{}
		}
		st.keep(s, m)
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

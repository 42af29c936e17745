package guard

import (
	"math"
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
)

// Unit is what a guard that compares counts.
type Unit string

// The units.
const (
	Requests Unit = "requests"
	Clients  Unit = "clients" // each by its first answer: those of one that stays on its side fail together
	Probes   Unit = "probes"  // the prober's requests
)

const (
	// lately is the time that the counts shown are about, and in which a guard has to have had
	// some answers to say anything.
	lately = 2 * time.Minute
	// reserve is the part of the error allowed that is not given to any guard yet.
	reserve = 0.1
	// near is the part of a guard's error that it may be wrong about as soon as it compares; the
	// rest is for going back from a side that stands alone.
	near = 0.8
	// hides is how much of a past may be bad, as far as it can be told, for anything to be compared with it: one that
	// could hide that every third answer fails is none.
	hides = 0.3
	// farBeyond is how far outside of what was usual a side that stands alone has to be for a guard to
	// go back by itself.
	farBeyond = 0.05
)

// Least is how many answers lately a guard needs to say anything.
func Least(w plan.Watch) int64 {
	if w == plan.Door {
		return 10
	}
	return 20
}

// usualParts are the parts of the live side's answers by whose times "slower than usual" is meant,
// and usualLeast how many answers it takes to know them.
var usualParts = []float64{0.5, 0.75, 0.9, 0.95, 0.98, 0.99, 0.995, 0.999}

const usualLeast = 1000

// slower is by how much more than usual an answer has to take: a fifth, and two milliseconds,
// which nobody notices.
func slower(usual time.Duration) time.Duration { return usual + usual/5 + 2*time.Millisecond }

// Evidence is what one guard that compares has gathered. Its fields are there to be written and
// read back.
type Evidence struct {
	Bounds []time.Duration `json:"bounds,omitempty"` // of [plan.Slow]: what counts as slow
	// by bound; of [plan.Door]: by answers that name their side, and by those that do not
	Near    []*evidence.Worse   `json:"near"`
	Far     []*evidence.Worse   `json:"far,omitempty"`   // since the target stands alone
	None    *evidence.Excluded  `json:"none,omitempty"`  // since the share was changed last
	Between []evidence.Between  `json:"between"`         // by bound
	Pending []evidence.Block    `json:"pending"`         // by bound: what only one side has answered so far
	Past    [][]evidence.Count  `json:"past,omitempty"`  // by bound: what the live side answered, by minutes
	Minute  time.Time           `json:"minute,omitzero"` // the last of them
	Part    float64             `json:"part"`            // of the error allowed, that it may be wrong about
	Ruled   crossing.Overruling `json:"ruled,omitzero"`  // the last word of a person to go on in spite of it
	Share   float64             `json:"share"`           // the target's, as of the last block
}

// pastMost is how many minutes of the live side are kept.
const pastMost = 60

// newEvidence is a guard's that has seen nothing.
func newEvidence(rule plan.Guard, bounds []time.Duration, part float64, blocks int) *Evidence {
	e := &Evidence{Bounds: bounds, Part: part}
	n := max(len(bounds), 1)
	several := n
	if rule.Watch == plan.Door {
		several = 2
	}
	for range several {
		e.Near = append(e.Near, evidence.NewWorse(rule.Margin, blocks))
	}
	e.Between, e.Pending, e.Past = make([]evidence.Between, n), make([]evidence.Block, n), make([][]evidence.Count, n)
	return e
}

// again begins anew after a person went on in spite of the guard: with half of the error that it
// may still be wrong about, and only for what is worse than what that person saw.
func (e *Evidence) again(o crossing.Overruling, blocks int) {
	margin := max(e.Near[0].Margin, o.Beyond)
	for n, w := range e.Near {
		e.Near[n] = evidence.NewWorse(margin, blocks)
		e.Near[n].Live = w.Live
	}
	e.Far, e.Ruled = nil, o
	e.Part /= 2
	for n := range e.Between {
		e.Between[n] = evidence.Between{}
	}
}

// learn takes in what the live side answered, while the target got nothing.
func (e *Evidence) learn(n int, at time.Time, live evidence.Count) {
	e.Near[n].Learn(live)
	e.pass(n, at, live)
}

// pass keeps what the live side answered, by the minute.
func (e *Evidence) pass(n int, at time.Time, live evidence.Count) {
	if n == 0 && !at.Truncate(time.Minute).Equal(e.Minute) {
		e.Minute = at.Truncate(time.Minute)
		for k := range e.Past {
			e.Past[k] = append(e.Past[k][max(0, len(e.Past[k])-pastMost+1):len(e.Past[k]):len(e.Past[k])],
				evidence.Count{})
		}
	}
	if last := len(e.Past[n]) - 1; last >= 0 {
		e.Past[n][last] = e.Past[n][last].Plus(live)
	}
}

// add takes in what both sides answered at the same share. What only one side has answered waits
// for the other.
func (e *Evidence) add(n int, at time.Time, b evidence.Block, part float64) {
	e.pass(n, at, b.Live)
	e.Pending[n] = e.Pending[n].Plus(b)
	if b = e.Pending[n]; !b.Both() {
		return
	}
	e.Pending[n] = evidence.Block{}
	if n == 0 && e.None != nil && part == e.Share {
		e.None.Add(b)
	}
	e.Near[n].Add(b)
	e.Between[n].Add(b)
}

// alone takes in what the target answered with nothing beside it, against what the live side was
// held to have at most.
func (e *Evidence) alone(n int, trial evidence.Count, high float64, blocks int) {
	for len(e.Far) <= n {
		e.Far = append(e.Far, evidence.NewWorse(max(e.Near[n].Margin, farBeyond, 2*high), blocks))
	}
	e.Near[n].AddAgainst(high, trial)
	e.Far[n].AddAgainst(high, trial)
}

// log is the logarithm of all evidence of some kind as one.
func log(list []*evidence.Worse) float64 {
	logs := make([]float64, len(list))
	for n, w := range list {
		logs[n] = w.Log()
	}
	return evidence.Mean(logs...)
}

// most is the bound by which there is most evidence.
func (e *Evidence) most() int {
	if len(e.Bounds) == 0 {
		return 0
	}
	best := 0
	for n := range e.Bounds {
		if e.Near[n].Log() > e.Near[best].Log() {
			best = n
		}
	}
	return best
}

// bounds are what a guard's answers are counted by; none where there is but one way to count.
func bounds(rule plan.Guard, f Facts) []time.Duration {
	switch {
	case rule.Watch != plan.Slow:
		return nil
	case rule.After > 0:
		return []time.Duration{rule.After}
	}
	usual := f.Series.Usual(f.Target.Other(), f.Now.Add(-10*time.Minute), usualParts, usualLeast)
	var list []time.Duration
	for _, u := range usual {
		list = append(list, slower(u))
	}
	return slices.Compact(list)
}

// unit is what a guard counts.
func unit(rule plan.Guard, f Facts) Unit {
	switch {
	case rule.Watch == plan.Door:
		return Probes
	case f.Together && f.Tells.Clients:
		return Clients
	}
	return Requests
}

// count is what a side answered in a step, as a guard counts it.
func count(rule plan.Guard, bound time.Duration, u Unit, st figures.Step, f Facts) (trial, live evidence.Count) {
	of := func(s split.Side) evidence.Count {
		switch {
		case u == Clients:
			return st.Clients(s, bound)
		case rule.Watch == plan.Slow:
			return st.Slow(s, bound)
		}
		return st.Failing(s)
	}
	return of(f.Target), of(f.Target.Other())
}

// take has a guard take in what was counted since the last time.
func (g *Guards) take(n int, rule plan.Guard, f Facts) {
	st := &g.states[n]
	if st.evidence == nil {
		list := bounds(rule, f)
		if rule.Watch == plan.Slow && len(list) == 0 {
			return // what is usual is not known yet
		}
		st.evidence = newEvidence(rule, list, g.part(), g.blocks(rule))
	}
	e := st.evidence
	if k := slices.IndexFunc(f.Overruled, func(o crossing.Overruling) bool { return o.Guard == rule.Name }); k >= 0 &&
		f.Overruled[k] != e.Ruled {
		e.again(f.Overruled[k], g.blocks(rule))
	}
	if now := f.Share.Fraction(); now != e.Share {
		e.None, e.Share = nil, now
		clear(e.Pending)
	}
	if rule.Watch == plan.Door {
		st.unit = Probes
		g.takeDoor(rule, st, f)
		return
	}
	if !f.Tells.Counts || rule.Watch == plan.Slow && !f.Tells.Times {
		return
	}
	u := unit(rule, f)
	st.unit = u
	for s := range f.Series.After(g.taken) {
		part := s.Share.Of(f.Target).Fraction()
		if part > 0 && (f.Since.IsZero() || s.From.Before(f.Since)) || s.Mixed ||
			!f.Changed.IsZero() && s.From.Before(f.Changed.Add(forecast.Grace)) && s.To.After(f.Changed) {
			clear(e.Pending)
			continue
		}
		for k := range e.Past {
			bound := time.Duration(0)
			if rule.Watch == plan.Slow {
				bound = e.Bounds[k]
			}
			trial, live := count(rule, bound, u, s, f)
			if k == 0 && part > 0 {
				st.since = st.since.Plus(evidence.Block{Live: live, Trial: trial})
			}
			switch {
			case part == 0:
				e.learn(k, s.To, live)
			case part < 1:
				e.none(rule)
				e.add(k, s.To, evidence.Block{Live: live, Trial: trial}, part)
			default:
				if b, ok := kept(f.Baselines, rule.Name, bound); ok && b.Count.Of > 0 {
					e.alone(k, trial, b.High, g.blocks(rule))
				}
			}
		}
	}
}

// blocks is how many blocks a guard is planned to see: one for each reading of the front, or for
// each second at the door.
func (g *Guards) blocks(rule plan.Guard) int {
	if rule.Watch == plan.Door {
		return g.terms.Seconds
	}
	return g.terms.Blocks
}

// none begins to look for what can be excluded, unless it does already.
func (e *Evidence) none(rule plan.Guard) {
	if e.None == nil {
		e.None = evidence.NewExcluded(rule.Find, e.Near[0].Live)
	}
}

// part is what each guard that compares may be wrong about, of all that is allowed. After each
// time in which nobody watched it is half of what it was: what was seen before is forgotten, and may
// have come close to an alarm.
func (g *Guards) part() float64 { return part(g.rules) / math.Exp2(float64(g.terms.Restarts)) }

func part(rules []plan.Guard) float64 {
	n := 0
	for _, rule := range rules {
		if rule.Watch.Gathers() && !rule.Off {
			n++
		}
	}
	return (1 - reserve) / float64(max(n, 1))
}

// Level is the chance of a false alarm that each guard that compares may spend, of alpha for all.
func Level(rules []plan.Guard, alpha float64) float64 { return alpha * near * part(rules) }

func (g *Guards) compare(n int, rule plan.Guard, s Status, f Facts, mark bool) Status {
	st := &g.states[n]
	s.Unit = unit(rule, f)
	s.Eased = s.Unit == Requests && f.Together && rule.Then == plan.RollBack
	if s.Eased {
		s.Then = plan.Freeze
	}
	since := f.Since
	if from := f.Now.Add(-lately); from.After(since) {
		since = from
	}
	e := st.evidence
	if e != nil && len(e.Bounds) > 0 {
		s.After = e.Bounds[e.most()]
	}
	if rule.Watch != plan.Slow || e != nil { // else it is not known yet what is slow
		s.Trial, s.Baseline = counts(rule, s.After, f, since)
	}
	if rule.Watch == plan.Failing {
		s.Cut = f.Series.Count(f.Target, since, 0).Cut
	}
	var b crossing.Baseline
	if f.alone() {
		b, _ = kept(f.Baselines, rule.Name, s.After)
		s.Baseline, s.AsOf = b.Count, b.To
	}
	overruled := slices.ContainsFunc(f.Overruled, func(o crossing.Overruling) bool { return o.Guard == rule.Name })
	if rule.Watch == plan.Door && !overruled && shut(f) { // a person who goes on knows, and it is not read then
		s.State, s.Sure = Tripped, 1
		of := f.Door.Over(f.Changed.Add(time.Second)).Of()
		s.Trial = evidence.Count{Bad: of, Of: of}
		s.Sureness = st.sureness
		return s
	}
	lack := blind(rule, f, since)
	if lack == "" && rule.Watch == plan.Slow && e == nil {
		lack = NoBaseline
	}
	if e == nil || lack != "" {
		s.State, s.Gap = Unknown, lack
		s.Sureness = st.sureness
		return s
	}
	s.Margin = e.Near[0].Margin
	s = judged(s, e, f, b, g.terms.Alpha)
	if rate := s.Trial.Of; rate > 0 && !f.alone() && s.Excluded > rule.Find {
		span := f.Now.Sub(since).Seconds()
		flow := evidence.Flow{Live: float64(s.Baseline.Of) / span, Trial: float64(rate) / span,
			Base: e.Near[0].Live.Rate()}
		s.FindIn = seconds(flow.ToExclude(rule.Find, g.terms.Alpha))
	}
	now := s.Evidence
	if s.State == Watching && now > st.evidenceBefore && !st.at.IsZero() && f.Now.After(st.at) {
		growth := (now - st.evidenceBefore) / f.Now.Sub(st.at).Seconds()
		s.More = seconds((s.Needed - now) / growth)
	}
	if st.notable(mark, s) {
		m := Point{At: f.Now, Live: st.since.Live, Trial: st.since.Trial}
		if rule.Watch == plan.Failing && s.Unit == Requests {
			m.Apart = g.apart(f)
		}
		st.keep(s, m)
		st.evidenceBefore, st.at, st.since = now, f.Now, evidence.Block{}
	}
	s.Sureness = st.sureness
	return s
}

// apart are the lowest and the highest rate of the live side's instances since the target first got traffic, zero
// where there are no two that have answered enough.
func (g *Guards) apart(f Facts) evidence.Interval {
	var rates []float64
	for address, c := range f.Series.Instances(f.Target.Other()) {
		was := g.first[address]
		if c.Of -= was.Of; c.Of >= Least(plan.Failing) {
			rates = append(rates, float64(c.Bad-was.Bad)/float64(c.Of))
		}
	}
	if len(rates) < 2 {
		return evidence.Interval{}
	}
	return evidence.Interval{Low: slices.Min(rates), High: slices.Max(rates)}
}

// seconds is a time, 0 for one that nobody waits for.
func seconds(s float64) time.Duration {
	if math.IsInf(s, 1) || math.IsNaN(s) || s > (24*time.Hour).Seconds() {
		return 0
	}
	return time.Duration(s * float64(time.Second))
}

// judged is what the evidence comes to.
func judged(s Status, e *Evidence, f Facts, b crossing.Baseline, alpha float64) Status {
	certainty := 1 - alpha
	at := log(e.Near)
	part := near * e.Part
	s.Sure = evidence.SureOf(at, part)
	s.Evidence, s.Needed = at/math.Ln10, -math.Log10(part*alpha)
	s.Difference, s.Range = e.Between[min(e.most(), len(e.Between)-1)].Difference(0.05)
	s.Excluded = 1
	if e.None != nil {
		s.Excluded = e.None.Least(certainty)
	}
	far := false
	if f.alone() {
		s.Difference, s.Range = s.Trial.Rate()-s.Baseline.Rate(), evidence.Interval{Low: -1, High: 1}
		if i := evidence.Rate(s.Trial, 0.05); s.Trial.Of > 0 {
			s.Range = evidence.Interval{Low: i.Low - b.High, High: i.High - s.Baseline.Rate()}
		}
		far = len(e.Far) > 0 && evidence.SureOf(log(e.Far), (1-near)*e.Part) >= certainty
		if !far && s.Then == plan.RollBack { // what was is no proof of what would be now
			s.Then = plan.Freeze
		}
	}
	switch {
	case s.Sure >= certainty || far:
		s.State = Tripped
	case s.Trial.Of < Least(s.Watch):
		s.State, s.Gap = Unknown, TooFew
	case s.Baseline.Of == 0, s.Baseline.Rate()+s.Margin >= 1: // nothing could be worse
		s.State, s.Gap = Unknown, NoBaseline
	case s.Sure >= 0.5:
		s.State = Watching
	default:
		s.State = Clear
	}
	return s
}

// Baselines is what the guards that compare are to compare with once the other side gets
// nothing any more: what it answered since a time, or lately if that is zero. Where that is less than
// a guard needs, what was kept before stays.
func (g *Guards) Baselines(f Facts, since time.Time) []crossing.Baseline {
	var list []crossing.Baseline
	for n, rule := range g.rules {
		if !rule.Watch.Compares() || rule.Off || f.First {
			continue
		}
		from := since
		if from.IsZero() {
			from = f.Now.Add(-lately)
		}
		ways, past := []time.Duration{0}, [][]evidence.Count(nil)
		if e := g.states[n].evidence; e != nil {
			past = e.Past
			if rule.Watch == plan.Slow {
				ways = e.Bounds
			}
		} else if rule.Watch == plan.Slow {
			ways = bounds(rule, f)
		}
		for k, bound := range ways {
			b := crossing.Baseline{Guard: rule.Name, After: bound, From: from, To: f.Now}
			_, b.Count = counts(rule, bound, f, from)
			times := []evidence.Count{b.Count}
			if k < len(past) && len(past[k]) > 0 {
				times = past[k]
			}
			b.High = evidence.Ceiling(times)
			// an hour may be as bad as any of the day
			if rule.Watch == plan.Failing && b.Count.Of > 0 && len(f.Hours) > 1 {
				b.High = max(b.High, evidence.Ceiling(f.Hours))
			}
			if before, ok := kept(f.Baselines, rule.Name, bound); ok && b.Count.Of < Least(rule.Watch) {
				b = before
			}
			if b.Count.Of > 0 && b.High < hides {
				list = append(list, b)
			}
		}
	}
	return list
}

func kept(list []crossing.Baseline, name string, after time.Duration) (crossing.Baseline, bool) {
	n := slices.IndexFunc(list, func(b crossing.Baseline) bool { return b.Guard == name && b.After == after })
	if n < 0 {
		return crossing.Baseline{}, false
	}
	return list[n], true
}

// counts is what both sides did since a time, as a rule counts it.
func counts(rule plan.Guard, bound time.Duration, f Facts, since time.Time) (trial, live evidence.Count) {
	if rule.Watch == plan.Door {
		a := atDoor(f, since)
		return a.trial, a.live
	}
	if unit(rule, f) == Clients {
		for st := range f.Series.After(since) {
			t, l := count(rule, bound, Clients, st, f)
			trial, live = trial.Plus(t), live.Plus(l)
		}
		return trial, live
	}
	of := func(c figures.Figures) evidence.Count {
		if rule.Watch == plan.Slow {
			return c.SlowCount()
		}
		return c.Compared()
	}
	trial = of(f.Series.Count(f.Target, since, bound))
	// else it was not timed
	if c := f.Series.Count(f.Target.Other(), since, bound); rule.Watch != plan.Slow || c.Timed > 0 {
		live = of(c)
	}
	return trial, live
}

// blind is what keeps a guard from judging at all, "" if nothing does.
func blind(rule plan.Guard, f Facts, since time.Time) Gap {
	switch {
	case rule.Watch == plan.Door:
		return doorBlind(rule, f, since)
	case !f.FrontRead:
		return NotRead
	case !f.Tells.Counts:
		return NotCounted
	case rule.Watch == plan.Slow && !f.Tells.Times:
		return NotTimed
	}
	return ""
}

// Unsure are the guards on what users are answered that have not excluded the fault that they are to
// find, since the share was changed last. Where none of them can see anything, it is the one on the
// door. Where nobody can, nothing is excluded: all of them are, or one without a name where none compares.
func Unsure(list []Status) []crossing.Unsure {
	var unsure, blind []crossing.Unsure
	for _, door := range []bool{false, true} {
		seeing := false
		for _, s := range list {
			if !s.Watch.Compares() || s.State == Off || (s.Watch == plan.Door) != door {
				continue
			}
			if s.Gap == NotCounted || s.Gap == NotTimed || s.Gap == OneClient || s.Gap == NotNamed ||
				s.Gap == OnlySide {
				blind = append(blind, crossing.Unsure{Guard: s.Name, Find: s.Find, Excluded: 1})
				continue // it never can
			}
			seeing = true
			if s.Excluded == 0 || s.Excluded > s.Find || s.State == Unknown {
				unsure = append(unsure, crossing.Unsure{Guard: s.Name, Find: s.Find, Excluded: s.Excluded,
					In: s.FindIn})
			}
		}
		if seeing {
			return unsure
		}
	}
	if len(blind) == 0 {
		blind = []crossing.Unsure{{Excluded: 1}}
	}
	return blind
}

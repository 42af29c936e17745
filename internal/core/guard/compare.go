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
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Unit is what a guard that compares counts.
type Unit string

// The units.
const (
	Requests Unit = "requests"
	Clients  Unit = "clients" // that turn bad, of those at risk: requests of one that stays on its side fail together
	Probes   Unit = "probes"  // the prober's requests
	// blocks of time of an instance in which more was bad than comes one by one: bad answers come in bursts
	Instances Unit = "instances"
)

const (
	// lately is the time that the counts shown are about, and in which a guard has to have had
	// some answers to say anything.
	lately = forecast.Lately
	// reserve is the part of the error allowed that is kept for guards that begin anew.
	reserve = 0.1
	// near is the part of a guard's error that it may be wrong about as soon as it compares; the
	// rest is for going back from a side that stands alone.
	near = 0.8
	// farBeyond is how far outside of what was usual a side that stands alone has to be for a guard to
	// go back by itself.
	farBeyond = 0.05
)

// Least is how many answers lately a guard needs to say anything.
func Least(w plan.Watch) int64 {
	if w == plan.Door {
		return 10
	}
	return forecast.PastLeast
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
	Unit   Unit            `json:"unit"`
	Bounds []time.Duration `json:"bounds,omitempty"` // of [plan.Slow]: what counts as slow
	// by way of counting: by bound; of clients by bound and grade; of [plan.Door] by answers that name their side, and
	// by those that do not
	Near    []*evidence.Worse   `json:"near"`
	Far     []*evidence.Worse   `json:"far,omitempty"`    // by bound, since the target stands alone
	None    *evidence.Excluded  `json:"none,omitempty"`   // since the share was changed last
	Between []evidence.Between  `json:"between"`          // by bound
	Pending []evidence.Block    `json:"pending"`          // by bound: what only one side has answered so far
	Past    [][]evidence.Count  `json:"past,omitempty"`   // by bound: what the live side answered, by minutes
	Minute  time.Time           `json:"minute,omitzero"`  // the last of them
	Part    float64             `json:"part"`             // of the error allowed, that it may be wrong about
	Ruled   crossing.Overruling `json:"ruled,omitzero"`   // the last word of a person to go on in spite of it
	Share   float64             `json:"share"`            // the target's, as of the last block
	Usual   evidence.Bursts     `json:"usual,omitzero"`   // of [Instances]: what is a burst
	Burst   map[string]bool     `json:"burst,omitempty"`  // of [Instances]: by address, those whose last block was counted as one
	Wholly  int                 `json:"wholly,omitempty"` // the last blocks in which no client of the target had a good answer
	Block   time.Time           `json:"block,omitzero"`   // of [Clients]: when the last one ended in which any asked
}

// ways is in how many ways a bound is counted. Clients are in each grade.
func (e *Evidence) ways() int {
	if e.Unit == Clients {
		return reading.Grades
	}
	return 1
}

// way is the way in which a bound is counted that is as likely as that a request is bad, for what is said and kept.
func (e *Evidence) way(bound int) int {
	if e.Unit == Clients {
		return bound*e.ways() + reading.FirstAnswer
	}
	return bound
}

// pastMost is how many minutes of the live side are kept.
const pastMost = 60

// newEvidence is a guard's that has seen nothing.
func newEvidence(rule plan.Guard, u Unit, bounds []time.Duration, part float64, blocks int) *Evidence {
	e := &Evidence{Unit: u, Bounds: bounds, Part: part}
	n := max(len(bounds), 1)
	several := n * e.ways()
	if rule.Watch == plan.Door {
		several = 2
	}
	for range several {
		e.Near = append(e.Near, evidence.NewWorse(rule.Margin, blocks))
	}
	e.Between, e.Pending, e.Past = make([]evidence.Between, n), make([]evidence.Block, n), make([][]evidence.Count, n)
	return e
}

// fresh reports whether nothing was bet yet.
func (e *Evidence) fresh() bool {
	return !slices.ContainsFunc(e.Near, func(w *evidence.Worse) bool { return w.Blocks > 0 })
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

// pass keeps what the live side answered, by the minute.
func (e *Evidence) pass(bound int, at time.Time, live evidence.Count) {
	if bound == 0 && !at.Truncate(time.Minute).Equal(e.Minute) {
		e.Minute = at.Truncate(time.Minute)
		for k := range e.Past {
			e.Past[k] = another(e.Past[k])
		}
	}
	if last := len(e.Past[bound]) - 1; last >= 0 {
		e.Past[bound][last] = e.Past[bound][last].Plus(live)
	}
}

// another begins another minute, and forgets the oldest where there are too many.
func another(past []evidence.Count) []evidence.Count {
	return append(past[max(0, len(past)-pastMost+1):len(past):len(past)], evidence.Count{})
}

// add takes in what both sides answered at the same share, by a bound. What only one side has answered waits for the
// other.
func (e *Evidence) add(bound int, b evidence.Block, part float64) {
	e.Pending[bound] = e.Pending[bound].Plus(b)
	if b = e.Pending[bound]; !b.Both() {
		return
	}
	e.Pending[bound] = evidence.Block{}
	if bound == 0 && e.None != nil && part == e.Share {
		e.None.Add(b)
	}
	e.Between[bound].Add(b)
	if e.Unit != Clients {
		e.Near[bound].Add(b)
	}
}

// alone takes in what the target answered with nothing beside it, against what the live side was
// held to have at most.
func (e *Evidence) alone(bound int, trial evidence.Count, high float64, blocks int) {
	for len(e.Far) <= bound {
		margin := e.Near[e.way(len(e.Far))].Margin
		e.Far = append(e.Far, evidence.NewWorse(max(margin, farBeyond, 2*high), blocks))
	}
	e.Near[e.way(bound)].AddAgainst(high, trial)
	e.Far[bound].AddAgainst(high, trial)
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
	for n, w := range e.Near {
		if w.Log() > e.Near[best].Log() {
			best = n
		}
	}
	return best / e.ways()
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
	case rule.Watch == plan.Failing && !f.Together && f.Bursts.Known():
		return Instances
	}
	return Requests
}

// unitOf is the same of a guard that may have begun to bet on something: whether bad answers come in bursts was known
// then.
func (st *state) unitOf(rule plan.Guard, f Facts) Unit {
	u := unit(rule, f)
	if e := st.evidence; e != nil && u != e.Unit && (u == Instances || u == Requests) &&
		(e.Unit == Instances || e.Unit == Requests) && !e.fresh() {
		return e.Unit
	}
	return u
}

// strata is what became in a step of both sides' clients that were at risk, by how often they were bad before.
func strata(grade int, bound time.Duration, st figures.Step, f Facts) []evidence.Block {
	trial, live := st.Turned(f.Target, grade, bound), st.Turned(f.Target.Other(), grade, bound)
	list := make([]evidence.Block, reading.Strata)
	for n := range list {
		list[n] = evidence.Block{Live: live[n], Trial: trial[n]}
	}
	return list
}

// requests is what both sides answered in a step.
func requests(rule plan.Guard, bound time.Duration, st figures.Step, f Facts) evidence.Block {
	if rule.Watch == plan.Slow {
		return evidence.Block{Live: st.Slow(f.Target.Other(), bound), Trial: st.Slow(f.Target, bound)}
	}
	return evidence.Block{Live: st.Failing(f.Target.Other()), Trial: st.Failing(f.Target)}
}

// take has a guard take in what was counted since the last time.
func (g *Guards) take(n int, rule plan.Guard, f Facts) {
	st := &g.states[n]
	u := st.unitOf(rule, f)
	if u != Probes && (!f.Tells.Counts || rule.Watch == plan.Slow && !f.Tells.Times) {
		return
	}
	if st.evidence == nil || st.evidence.Unit != u && st.evidence.fresh() {
		list := bounds(rule, f)
		if rule.Watch == plan.Slow && len(list) == 0 {
			return // what is usual is not known yet
		}
		st.evidence = newEvidence(rule, u, list, g.part(), g.blocks(rule, u))
		if u == Instances {
			st.evidence.Usual = f.Bursts
			st.evidence.Near[0].Live = evidence.Base{Bad: float64(f.Bursts.Of.Bad), Of: float64(f.Bursts.Of.Of)}
		}
	}
	e := st.evidence
	if e.Unit == Instances && e.Burst == nil {
		e.Burst = map[string]bool{}
	}
	if k := slices.IndexFunc(f.Overruled, func(o crossing.Overruling) bool { return o.Guard == rule.Name }); k >= 0 &&
		f.Overruled[k] != e.Ruled {
		e.again(f.Overruled[k], g.blocks(rule, u))
	}
	if now := f.Share.Fraction(); now != e.Share {
		e.None, e.Share = nil, now
		clear(e.Pending)
	}
	st.unit = e.Unit
	if u == Probes {
		g.takeDoor(rule, st, f)
		return
	}
	if u != e.Unit {
		return // for a while the front does not tell what it told
	}
	for s := range f.Series.After(g.taken) {
		part := s.Share.Of(f.Target).Fraction()
		if u == Clients {
			e.meet(s, f)
		}
		if part > 0 && (f.Since.IsZero() || s.From.Before(f.Since.Add(rule.Settle))) || s.Mixed ||
			!f.Changed.IsZero() && s.From.Before(f.Changed.Add(forecast.Grace)) && s.To.After(f.Changed) {
			clear(e.Pending)
			continue
		}
		for k := range e.Past {
			bound := time.Duration(0)
			if rule.Watch == plan.Slow {
				bound = e.Bounds[k]
			}
			if k == 0 && part > 0 {
				st.since = st.since.Plus(requests(rule, bound, s, f))
			}
			b := evidence.Block{}
			switch u {
			case Clients:
				b = e.turn(k, bound, s, f)
			case Instances:
				b = e.burst(s, f)
			default:
				b = requests(rule, bound, s, f)
			}
			if part < 1 {
				e.pass(k, s.To, b.Live)
			}
			switch {
			case part == 0 && u != Clients:
				e.Near[k].Learn(b.Live)
			case part > 0 && part < 1:
				e.none(rule)
				e.add(k, b, part)
			case part == 1:
				if was, ok := kept(f.Baselines, rule.Name, bound); ok && was.Count.Of > 0 {
					e.alone(k, b.Trial, was.High, g.blocks(rule, u))
				}
			}
		}
	}
}

// turn takes in which clients turned bad in a step, by a bound, and returns what became of those that never had, by
// their first answers.
func (e *Evidence) turn(k int, bound time.Duration, s figures.Step, f Facts) (shown evidence.Block) {
	if all, _ := s.Asked(f.Target.Other()); all == 0 && s.Share.Of(f.Target) < split.Whole {
		return shown // no block has ended
	}
	for grade := range reading.Grades {
		list, w := strata(grade, bound, s, f), e.Near[k*e.ways()+grade]
		switch part := s.Share.Of(f.Target); {
		case part == 0:
			w.LearnStrata(list)
		case part < split.Whole:
			w.AddStrata(list)
		}
		if grade == reading.FirstAnswer {
			shown = list[0]
		}
	}
	return shown
}

// burst is how many instances of both sides had a block that ended in a step, and of how many it was a burst. The block
// behind one that was counted as such may be the end of the same.
func (e *Evidence) burst(s figures.Step, f Facts) evidence.Block {
	count := func(side split.Side) (c evidence.Count) {
		for _, b := range s.Blocks(side) {
			if e.Burst[b.Address] {
				delete(e.Burst, b.Address)
				continue
			}
			if c.Of++; e.Usual.Bad(b.Count) {
				c.Bad++
				e.Burst[b.Address] = true
			}
		}
		return c
	}
	return evidence.Block{Live: count(f.Target.Other()), Trial: count(f.Target)}
}

// common reports whether at least half of the target's instances give more bad answers just now than come one by one:
// that is no burst, which one of them has.
func common(f Facts) bool {
	list, bad := f.Series.Each(f.Target, f.Now), 0
	for _, i := range list {
		c := evidence.Count{Bad: i.Failing}
		for _, n := range i.History {
			c.Of += n
		}
		if f.Bursts.Bad(c) {
			bad++
		}
	}
	return len(list) < 2 || 2*bad >= len(list)
}

// beyond is how far the next wave of a rate that wanders may well go beyond the highest that was seen.
const beyond = 1.5

// wanders reports whether the target gives hardly more bad answers just now than the live side has given by itself,
// time after time.
func wanders(f Facts) bool {
	now := f.Series.Count(f.Target, f.Now.Add(-evidence.Swing), 0)
	count := now.Compared()
	return count.Of > 0 && count.Rate() <= beyond*f.Swings.Highest()
}

// meet takes in whether any of the target's clients had a good answer in a step.
func (e *Evidence) meet(s figures.Step, f Facts) {
	if s.Share.Of(f.Target) != f.Share {
		return
	}
	all, good := s.Asked(f.Target)
	others, beside := s.Asked(f.Target.Other())
	if all+others > 0 {
		e.Block = s.To
	}
	switch {
	case all == 0:
	case good > 0 || beside == 0:
		e.Wholly = 0
	default:
		e.Wholly++
	}
}

const (
	// someClients is the part of the clients that a fault of some may befall, and be seen.
	someClients = 0.05
	// whollyBad is how many blocks without a good answer for anybody stop a route, where clients are too few.
	whollyBad = 2
)

// ClientsNeeded is how many different clients it takes to meet one of those that a fault of some befalls, but for a
// chance of so much.
func ClientsNeeded(alpha float64) int64 {
	return int64(math.Ceil(math.Log(alpha) / math.Log1p(-someClients)))
}

// blocks is how many blocks a guard is planned to see: one for each reading of the front, or for
// each second at the door, or for each block of clients.
func (g *Guards) blocks(rule plan.Guard, u Unit) int {
	switch {
	case rule.Watch == plan.Door:
		return g.terms.Seconds
	case u == Clients, u == Instances:
		return max(g.terms.Seconds/int(reading.ClientBlock.Seconds()), 1)
	}
	return g.terms.Blocks
}

// none begins to look for what can be excluded, unless it does already.
func (e *Evidence) none(rule plan.Guard) {
	if e.None == nil {
		e.None = evidence.NewExcluded(rule.Find, e.Near[e.way(0)].Live)
	}
}

// part is what each guard that compares may be wrong about, of all that is allowed. What was seen before a time in
// which nobody watched is forgotten, and may have come close to an alarm: after the k-th of them a guard has 2⁻ᵏ of its
// part of the reserve, so that all together are no more than there is.
func (g *Guards) part() float64 {
	if g.terms.Restarts == 0 {
		return part(g.rules)
	}
	return part(g.rules) * reserve / (1 - reserve) * math.Exp2(-float64(g.terms.Restarts))
}

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
	s.Unit = st.unitOf(rule, f)
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
	if s.Control && rule.Watch == plan.Door {
		s.Sureness = st.sureness
		return s
	}
	lack := blind(rule, f, since)
	if lack == "" && rule.Watch == plan.Slow && e == nil {
		lack = NoBaseline
	}
	if lack == "" && e != nil && e.Unit != s.Unit { // the front does not tell what it told
		lack = NotRead
	}
	if e == nil || lack != "" {
		s.State, s.Gap = Unknown, lack
		s.Sureness = st.sureness
		return s
	}
	s.Margin = e.Near[0].Margin
	if s.Unit == Clients {
		s.Clients, s.ClientsNeeded = f.Series.Came(f.Target), ClientsNeeded(g.terms.Alpha)
	}
	s = judged(s, e, f, b, g.terms.Alpha)
	if s.State == Tripped && s.Watch == plan.Failing && s.Unit == Requests && s.Then == plan.RollBack &&
		f.Bursts.Some() && !common(f) {
		s.Bursts, s.Then = true, plan.Freeze
	}
	if s.State == Tripped && s.Watch == plan.Failing && s.Then == plan.RollBack && wanders(f) {
		s.Wanders, s.Then = true, plan.Freeze
	}
	if rate := s.Trial.Of; rate > 0 && !f.alone() && s.Excluded > rule.Find && s.Unit != Instances {
		span := f.Now.Sub(since).Seconds()
		seen := evidence.Block{Live: s.Baseline, Trial: s.Trial}
		if e.Unit == Clients {
			seen = turned(s.After, f, since)
		}
		flow := evidence.Flow{Live: float64(seen.Live.Of) / span, Trial: float64(seen.Trial.Of) / span,
			Base: e.Near[e.way(0)].Live.Rate()}
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
	case s.Unit == Clients && s.Watch == plan.Failing && s.Clients < s.ClientsNeeded && e.Wholly >= whollyBad:
		s.State, s.Then = Tripped, plan.Freeze
	case s.Unit == Clients && !f.alone() && s.Clients < Least(s.Watch):
		s.State, s.Gap = Unknown, FewClients
	case s.Trial.Of < Least(s.Watch):
		s.State, s.Gap = Unknown, TooFew
	case s.Baseline.Of == 0, s.Baseline.Rate()+s.Margin >= 1: // nothing could be worse
		s.State, s.Gap = Unknown, NoBaseline
	case s.Unit == Clients && f.Now.Sub(e.Block) > untold: // there are requests, and the front tells nothing of whose
		s.State, s.Gap = Unknown, NotRead
	case s.Sure >= 0.5:
		s.State = Watching
	default:
		s.State = Clear
	}
	return s
}

// untold is for how long a front may tell of no block of clients while requests are answered.
const untold = 6 * reading.ClientBlock

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
			if e := g.states[n].evidence; e != nil && e.Unit == Clients {
				b.Count = turned(bound, f, from).Live
			} else if e != nil && e.Unit == Instances {
				for _, minute := range e.Past[k] {
					b.Count = b.Count.Plus(minute)
				}
			} else {
				_, b.Count = counts(rule, bound, f, from)
			}
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
			if b.Count.Of > 0 && b.High < forecast.PastHides {
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

// turned is what became of both sides' clients since a time, in the way that is as likely as that a request is bad.
func turned(bound time.Duration, f Facts, since time.Time) (sum evidence.Block) {
	for st := range f.Series.After(since) {
		sum = sum.Plus(evidence.Block{Live: st.Turned(f.Target.Other(), reading.FirstAnswer, bound)[0],
			Trial: st.Turned(f.Target, reading.FirstAnswer, bound)[0]})
	}
	return sum
}

// counts is what both sides answered since a time, as a rule counts it.
func counts(rule plan.Guard, bound time.Duration, f Facts, since time.Time) (trial, live evidence.Count) {
	if rule.Watch == plan.Door {
		a := atDoor(f, since)
		return a.trial, a.live
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

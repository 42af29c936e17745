package guard

import (
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
)

// State is how a guard stands.
type State string

// The states. Unknown is not clear: something is missing that the guard needs, and
// [Status.Lack] says what.
const (
	Off      State = "off"
	Idle     State = "idle"    // there is nothing to watch yet
	Unknown  State = "unknown" // it cannot say
	Clear    State = "clear"
	Watching State = "watching" // it may be, and more answers will tell
	Tripped  State = "tripped"
)

// Lack is what a guard needs and has not.
type Lack string

// What may be missing.
const (
	TooFew     Lack = "too few answers"
	NoBaseline Lack = "no baseline" // the live side answers nothing that it could be compared with, or nothing good
	NotTimed   Lack = "not timed"   // the front measures no times
	NotCounted Lack = "not counted" // the front counts no requests
	NotNamed   Lack = "not named"   // the answers at the door do not say which side gave them
	NotRead    Lack = "not read"    // what it watches could not be read lately
	OneClient  Lack = "one client"  // the prober is one, and stays on one side
	OnlySide   Lack = "only side"   // nobody was live before, so that there is nothing to compare with
)

// Status is one guard as of a moment.
type Status struct {
	Name       string              `json:"name"`
	Watch      plan.Watch          `json:"watch"`
	State      State               `json:"state"`
	Lack       Lack                `json:"lack,omitempty"`
	Then       plan.Action         `json:"then"`
	Bound      evidence.Bound      `json:"bound,omitzero"` // of guards that compare
	Most       int                 `json:"most,omitempty"` // of guards that count
	Baseline   evidence.Count      `json:"baseline"`       // the live side's
	AsOf       time.Time           `json:"as_of,omitzero"` // of a baseline that was kept; zero for one of now
	Trial      evidence.Count      `json:"trial"`          // the target's; of guards that count, Bad is the number
	Comparison evidence.Comparison `json:"comparison"`
	More       time.Duration       `json:"more,omitempty"`      // until it may be sure, at the present rates
	Sureness   []float64           `json:"sureness,omitempty"`  // the last certainties, oldest first
	First      raise.Stuck         `json:"first,omitzero"`      // the first instance that is not healthy
	Missing    int                 `json:"missing,omitempty"`   // instances that are not there
	Restarted  int                 `json:"restarted,omitempty"` // instances that had to be started again
	Wanted     int                 `json:"wanted,omitempty"`    // instances that should be
}

// Level is how bad it is: the target's rate, or the number.
func (s Status) Level() float64 {
	if s.Watch.Compares() {
		return s.Trial.Rate()
	}
	return float64(s.Trial.Bad)
}

// Facts is what guards are evaluated on.
type Facts struct {
	Now       time.Time
	Since     time.Time // when the target first got traffic; zero before
	Target    split.Side
	Series    *figures.Series
	FrontRead bool // the series is up to date
	Tells     reading.Tells
	SideRead  bool // the conditions are
	Condition []reading.Condition
	Ill       func(reading.Condition) bool
	Wanted    int // instances of the target
	Restarted int // instances of the target that had to be started again
	Door      reading.Door
	Share     split.Share // the target's part, in force
	Changed   time.Time   // when the share was changed last, by whomever
	Baselines []crossing.Baseline
	First     bool // nobody is on the other side
}

// alone reports whether the target gets all requests, so that there is nothing of now to
// compare it with.
func (f Facts) alone() bool { return f.Share == split.Whole }

// surenessLength is how many certainties a guard shows, and surenessEvery how far they
// lie apart.
const (
	surenessLength = 8
	surenessEvery  = 5 * time.Second
)

// Guards evaluates the rules of a plan as time passes. Make it anew for each crossing. It
// is not safe for concurrent use.
type Guards struct {
	rules  []plan.Guard
	states []state
	marked time.Time // when certainties were last kept
}

// state is what is remembered of one guard.
type state struct {
	sureness []float64
	was      Status // the last one, for counts that have not changed
}

// New makes guards that have seen nothing.
func New(rules []plan.Guard) *Guards { return &Guards{rules: rules, states: make([]state, len(rules))} }

// Evaluate is how all guards stand, in the order of the plan. Answers count since the
// target first got traffic, and no further back than each guard's time.
func (g *Guards) Evaluate(f Facts) []Status {
	mark := !f.Since.IsZero() && f.Now.Sub(g.marked) >= surenessEvery
	if mark {
		g.marked = f.Now
	}
	list := make([]Status, len(g.rules))
	for n, rule := range g.rules {
		s := Status{Name: rule.Name, Watch: rule.Watch, Then: rule.Then, Most: rule.Most, State: Clear}
		if rule.Watch.Compares() {
			s.Bound = rule.Bound
		}
		switch {
		case rule.Off:
			s.State = Off
		case f.Since.IsZero():
			s.State = Idle
		case rule.Watch.Compares() && f.First:
			s.State, s.Lack = Unknown, OnlySide
		case rule.Watch.Compares():
			s = g.compare(n, rule, s, f, mark)
		case rule.Watch == plan.Unhealthy:
			s = unhealthy(s, f)
		default:
			s = lost(s, f)
		}
		list[n] = s
	}
	return list
}

// count is the answers that a rule is about.
func count(rule plan.Guard, f figures.Figures) evidence.Count {
	if rule.Watch == plan.Slow {
		return f.SlowCount()
	}
	return f.FailingCount()
}

// Baselines is what the guards that compare are to compare with once the other side gets
// nothing any more: what it answered since a time, or over each guard's own if that is zero.
// Where that is less than a guard needs, what was kept before stays.
func (g *Guards) Baselines(f Facts, since time.Time) []crossing.Baseline {
	var list []crossing.Baseline
	for _, rule := range g.rules {
		if !rule.Watch.Compares() || rule.Off || f.First {
			continue
		}
		from := since
		if from.IsZero() {
			from = f.Now.Add(-rule.Over)
		}
		b := crossing.Baseline{Guard: rule.Name, From: from, To: f.Now}
		_, b.Count = counts(rule, f, from)
		if before, ok := kept(f.Baselines, rule.Name); ok && b.Count.Of < rule.Bound.AtLeast {
			b = before
		}
		if b.Count.Of > 0 {
			list = append(list, b)
		}
	}
	return list
}

func kept(list []crossing.Baseline, name string) (crossing.Baseline, bool) {
	n := slices.IndexFunc(list, func(b crossing.Baseline) bool { return b.Guard == name })
	if n < 0 {
		return crossing.Baseline{}, false
	}
	return list[n], true
}

// counts is what both sides did since a time, as a rule counts it.
func counts(rule plan.Guard, f Facts, since time.Time) (trial, live evidence.Count) {
	if rule.Watch == plan.Door {
		a := atDoor(f, since)
		return a.trial, a.live
	}
	trial = count(rule, f.Series.Count(f.Target, since, rule.After))
	if n := f.Series.Count(f.Target.Other(), since, rule.After); rule.Watch != plan.Slow || n.Timed > 0 { // else it was not timed
		live = count(rule, n)
	}
	return trial, live
}

// blind is what keeps a guard from judging at all, "" if nothing does.
func blind(rule plan.Guard, f Facts, since time.Time) Lack {
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

// times are those that a guard is judged over beside its rule's own, so that what begins late
// is not lost among what was good before. Each gets its part of what the rule allows to be
// wrong about. The shortest is only for what both sides go through at the same time: held
// against what was, a moment in which the whole machine stood still would be enough.
func times(rule plan.Guard, f Facts) []time.Duration {
	switch {
	case rule.Watch == plan.Slow:
		return nil
	case rule.Watch == plan.Door && !f.alone():
		return []time.Duration{20 * time.Second, 5 * time.Second}
	}
	return []time.Duration{20 * time.Second}
}

// overTimes compares the sides over several times, of which the one that says most counts.
func overTimes(s Status, rule plan.Guard, f Facts, since time.Time) Status {
	list := times(rule, f)
	part := rule
	part.Bound.Sure = 1 - (1-rule.Bound.Sure)/float64(1+len(list))
	best := judged(s, part, f.Now.Sub(since))
	for _, span := range list {
		from := f.Now.Add(-span)
		if from.Before(since) {
			continue
		}
		w := s
		trial, live := counts(rule, f, from)
		w.Trial = trial
		if !f.alone() {
			w.Baseline = live
		}
		if w = judged(w, part, span); w.Lack == "" && w.Comparison.Sure > best.Comparison.Sure {
			best = w
		}
	}
	return best
}

func (g *Guards) compare(n int, rule plan.Guard, s Status, f Facts, mark bool) Status {
	st := &g.states[n]
	since := f.Since
	if from := f.Now.Add(-rule.Over); from.After(since) {
		since = from
	}
	trial, live := counts(rule, f, since)
	s.Trial, s.Baseline = trial, live
	if f.alone() {
		b, _ := kept(f.Baselines, rule.Name)
		s.Baseline, s.AsOf = b.Count, b.To
	}
	switch lack := blind(rule, f, since); {
	case lack != "":
		s.State, s.Lack = Unknown, lack
	case rule.Watch == plan.Slow && s.Trial == st.was.Trial && s.Baseline == st.was.Baseline:
		s.State, s.Lack, s.Comparison, s.More = st.was.State, st.was.Lack, st.was.Comparison, st.was.More
	default:
		s = overTimes(s, rule, f, since)
	}
	if mark {
		st.sureness = append(append([]float64(nil), st.sureness[max(0, len(st.sureness)-surenessLength+1):]...), s.Comparison.Sure)
	}
	s.Sureness = st.sureness
	if s.Lack != NotRead {
		st.was = s
	}
	return s
}

// judged compares the sides.
func judged(s Status, rule plan.Guard, span time.Duration) Status {
	s.Comparison = evidence.Compare(s.Baseline, s.Trial, rule.Bound)
	switch v := s.Comparison.Verdict; {
	case v == evidence.TooFew:
		s.State, s.Lack = Unknown, TooFew
	case v == evidence.NoBaseline, s.Baseline.Rate()+rule.Bound.Margin >= 1: // nothing could be worse
		s.State, s.Lack = Unknown, NoBaseline
	case v == evidence.Worse:
		s.State = Tripped
	case v == evidence.Watching:
		s.State = Watching
		s.More = time.Duration(s.Comparison.More * float64(span))
	default:
		s.State = Clear
	}
	return s
}

// unhealthy counts instances that do not serve as they should, and those that are not
// there.
func unhealthy(s Status, f Facts) Status {
	s.Wanted = f.Wanted
	if !f.SideRead && len(f.Condition) == 0 {
		s.State, s.Lack = Unknown, NotRead // that nobody was seen yet does not say that nobody is there
		return s
	}
	if s.Missing = max(f.Wanted-len(f.Condition), 0); s.Missing > 0 {
		s.Trial.Bad = int64(s.Missing)
	}
	for _, c := range f.Condition {
		if !f.Ill(c) {
			continue
		}
		if s.Trial.Bad++; s.First.Name == "" {
			s.First = raise.Stuck{Name: c.Name, Health: c.State, Said: c.Said}
		}
	}
	s.Restarted = f.Restarted
	s.Trial.Bad = max(s.Trial.Bad, int64(f.Restarted)) // one that is ill may be one of them
	return counted(s, f.SideRead)
}

func lost(s Status, f Facts) Status {
	s.Trial.Bad = f.Series.Count(f.Target, f.Since, 0).Lost
	return counted(s, f.FrontRead)
}

// counted holds a number against what is allowed. One that is too large is so whenever
// it was read.
func counted(s Status, read bool) Status {
	switch {
	case s.Trial.Bad > int64(s.Most):
		s.State = Tripped
	case !read:
		s.State, s.Lack = Unknown, NotRead
	case s.Trial.Bad > 0:
		s.State = Watching
	}
	return s
}

// Gravest is the tripped guard that is to be heeded: one that goes back before one that
// freezes, and the first in the plan's order. A guard that a person has overruled is
// heeded again when it is known to be worse than what that person saw. It is false if
// there is none.
func Gravest(list []Status, target split.Side, overruled []crossing.Overruling) (crossing.Alarm, bool) {
	best := -1
	for n, s := range list {
		if s.State != Tripped || isOverruled(s, overruled) {
			continue
		}
		if best < 0 || s.Then == plan.RollBack && list[best].Then != plan.RollBack {
			best = n
		}
	}
	if best < 0 {
		return crossing.Alarm{}, false
	}
	s := list[best]
	return crossing.Alarm{
		Guard: s.Name, Watch: s.Watch, Then: s.Then, Level: s.Level(), Baseline: s.Baseline.Rate(), Sure: s.Comparison.Sure,
		First: s.First, Missing: s.Missing, Restarted: s.Restarted, Side: target,
	}, true
}

// isOverruled reports whether a person has gone on in spite of a guard at its level.
func isOverruled(s Status, overruled []crossing.Overruling) bool {
	for _, o := range overruled {
		switch {
		case o.Guard != s.Name:
		case s.Watch.Compares():
			return evidence.Rate(s.Trial, 1-s.Bound.Sure).Low <= o.Level
		default:
			return s.Level() <= o.Level
		}
	}
	return false
}

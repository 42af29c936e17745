package guard

import (
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
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
type Gap string

// What may be missing.
const (
	TooFew     Gap = "too few answers"
	FewClients Gap = "too few clients"
	NoBaseline Gap = "no baseline" // the live side answers nothing that it could be compared with, or nothing good
	NotTimed   Gap = "not timed"   // the front measures no times
	NotCounted Gap = "not counted" // the front counts no requests
	NotNamed   Gap = "not named"   // the answers at the door do not say which side gave them
	NotRead    Gap = "not read"    // what it watches could not be read lately
	NoneYet    Gap = "none yet"    // of what is counted the target has come to nothing yet
	OneClient  Gap = "one client"  // the prober is one, and stays on one side
	OnlySide   Gap = "only side"   // nobody was live before, so that there is nothing to compare with
	NotTold    Gap = "not told"    // no instance tells the figure, and [Status.Said] says why
	NoneBeside Gap = "none beside" // all requests go to the target, and it only compares with what runs beside it
)

// Status is one guard as of a moment.
type Status struct {
	Name  string      `json:"name"`
	Watch plan.Watch  `json:"watch"`
	State State       `json:"state"`
	Gap   Gap         `json:"gap,omitempty"`
	Then  plan.Action `json:"then"`
	// it freezes in place of rolling back: clients stay on their sides, and nobody counts them
	Eased bool `json:"eased,omitempty"`
	// it freezes in place of rolling back: bad answers come in bursts at single instances of the live side too
	Bursts bool `json:"bursts,omitempty"`
	// it freezes in place of rolling back: the live side itself comes and goes up to a rate that is no lower
	Wanders bool `json:"wanders,omitempty"`
	Unit    Unit `json:"unit,omitempty"` // of guards that compare: what is counted
	// it compares with the control group, and not with all of the live side; the guard on the door, to which all of
	// that is one, heeds only whether anybody is answered
	Control bool `json:"control,omitempty"`
	// of guards that count clients: how many different ones the target had since the share was changed, and how many it
	// takes to see a fault of some of them
	Clients       int64 `json:"clients,omitempty"`
	ClientsNeeded int64 `json:"clients_needed,omitempty"`
	// of guards that compare: how much higher the rate may be; on figures see [plan.Watch.Figures]
	Margin float64 `json:"margin,omitempty"`
	// of guards that compare: the fault that is not to be missed
	Find float64 `json:"find,omitempty"`
	// of guards on times: the bound by which there is most evidence, in nanoseconds
	After time.Duration `json:"after,omitempty"`
	Most  int           `json:"most,omitempty"` // of guards that count
	// the live side's, of the last two minutes or of what was kept
	Baseline evidence.Count `json:"baseline"`
	AsOf     time.Time      `json:"as_of,omitzero"` // of a baseline that was kept; zero for one of now
	// the target's, of the last two minutes; of guards that count, Bad is the number
	Trial evidence.Count `json:"trial"`
	// that it is worse by more than the margin, for the whole crossing, in [0, 1)
	Sure     float64 `json:"sure"`
	Evidence float64 `json:"evidence,omitempty"` // that it is, as a power of ten
	Needed   float64 `json:"needed,omitempty"`   // the power of ten at which it trips
	// of the rates, what hits both sides left out; of figures in the margin's unit
	Difference float64 `json:"difference"`
	// that the difference lies in, with 95 % certainty; of figures zero if it is not known
	Range  evidence.Interval `json:"range"`
	Figure string            `json:"figure,omitempty"` // of guards on one
	Value  float64           `json:"value,omitempty"`  // of a figure: the target's instances on average
	Beside float64           `json:"beside,omitempty"` // and the live side's
	// of a figure: the one that the difference is about; "" for the side
	Instance string `json:"instance,omitempty"`
	Said     string `json:"said,omitempty"` // of a figure: why it was not told
	// of a figure: when the newest sample is of; of alerts: when they were read
	Told   time.Time `json:"told,omitzero"`
	From   plan.From `json:"from,omitempty"`  // of a figure: who tells it, "" for instances
	Bound  float64   `json:"bound,omitempty"` // of a figure that has one
	Down   bool      `json:"down,omitempty"`  // what is lower than that is worse
	Alerts Fired     `json:"alerts,omitzero"`
	// the smallest fault that there is not, with the plan's certainty, since the share was changed last; 1 if none is
	// excluded
	Excluded float64 `json:"excluded,omitempty"`
	// about how long it takes at this traffic to exclude the fault that is not to be missed, from the change of the
	// share; 0 if that is done, or cannot be told
	FindIn time.Duration `json:"find_in,omitempty"`
	More   time.Duration `json:"more,omitempty"` // until it may be sure, at the present rates
	// with all requests on the target it will have nothing to compare with: the live side's own answers are too bad, or
	// too few
	NoPast   bool        `json:"no_past,omitempty"`
	Sureness []float64   `json:"sureness,omitempty"` // the last certainties, oldest first
	First    raise.Stuck `json:"first,omitzero"`     // the first instance that is not healthy
	Missing  int         `json:"missing,omitempty"`  // instances that are not there
	// answers of the target that were cut short, of those that are bad
	Cut       int64 `json:"cut,omitempty"`
	Restarted int   `json:"restarted,omitempty"` // instances that had to be started again
	Wanted    int   `json:"wanted,omitempty"`    // instances that should be
}

// Fired are the alerts that a guard on them knows, beside how many are new.
type Fired struct {
	New     string `json:"new,omitempty"`     // the name of the first that is
	Summary string `json:"summary,omitempty"` // what it says of itself
	Old     int    `json:"old,omitempty"`     // that fired before the leg began, and do not count
}

// Level is how bad it is: the target's rate, by how much a figure differs, or the number.
func (s Status) Level() float64 {
	switch {
	case s.Watch.Compares():
		return s.Trial.Rate()
	case s.Watch == plan.Rate:
		return s.Trial.Rate()
	case s.Watch.Figures():
		return s.Difference
	case s.Watch == plan.Waits:
		return s.Value
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
	// the front cannot be reached, or could not a moment ago: what is asked from here says nothing of a side, as it may
	// be here that is cut off
	Unreached bool
	Queue     *reading.Queue // of the target, where it takes messages from one
	Tells     reading.Capabilities
	SideRead  bool // the conditions are
	Condition []reading.Condition
	Ill       func(reading.Condition) bool
	Wanted    int     // instances of the target
	Beside    float64 // part of the live side's instances that are ill
	Restarted int     // instances of the target that had to be started again
	Door      reading.Door
	Share     split.Share // the target's part, in force
	Changed   time.Time   // when the share was changed last, by whomever
	Baselines []crossing.Baseline
	First     bool // nobody is on the other side
	Together  bool // the key keeps a client's requests on one side
	Control   bool // what the live side does is its control group's
	// what the live side answered in each hour of the last day, and how much of it failed: of [Guards.Baselines]
	Hours     []evidence.Count
	Bursts    evidence.Bursts       // how bad answers came at the live side's instances before
	Swings    evidence.Swings       // and at all of the live side
	Overruled []crossing.Overruling // guards in spite of which a person went on
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

// Terms is what a crossing's guards are given together.
type Terms struct {
	Alpha    float64 // the chance of a false alarm of any guard that compares, in all of the crossing
	Seconds  int     // that the crossing is planned to last
	Blocks   int     // readings of the front that the crossing is planned to have
	Restarts int     // times that what was seen was forgotten
}

// Guards evaluates the rules of a plan as time passes. Make it anew for each crossing. It
// is not safe for concurrent use.
type Guards struct {
	rules     []plan.Guard
	terms     Terms
	states    []state
	taken     time.Time                 // what was counted until then was taken in
	takenDoor time.Time                 // and of the door log
	marked    time.Time                 // when certainties were last kept
	first     map[string]evidence.Count // what the live side's instances had answered when the target first got traffic
}

// state is what is remembered of one guard.
type state struct {
	sureness       []float64
	evidence       *Evidence // of one that compares, once it knows by what
	evidenceBefore float64   // when certainties were last kept, which was
	at             time.Time
	story          []Point
	since          evidence.Block // what was taken in since the last of them
	unit           Unit
	figure         *Figure // of one on a figure, once there was a reading
	alerts         *Alerts // of one on alerts, likewise
	tripped        bool    // as of the last moment
	noPast         bool    // as of when certainties were last kept
}

// New makes guards that have seen nothing.
func New(rules []plan.Guard, t Terms) *Guards {
	return &Guards{rules: rules, terms: t, states: make([]state, len(rules))}
}

// Memory is what guards know, for those that go on for them.
type Memory struct {
	Taken     time.Time   `json:"taken,omitzero"`
	TakenDoor time.Time   `json:"taken_door,omitzero"`
	Evidence  []*Evidence `json:"evidence,omitempty"` // by rule; nil of those that do not compare
	Stories   [][]Point   `json:"stories,omitempty"`  // by rule
	Figures   []*Figure   `json:"figures,omitempty"`  // by rule; nil of those that are not on one
	Alerts    []*Alerts   `json:"alerts,omitempty"`   // by rule; nil of those that are not on them
}

// Hand is the memory for the guards that go on for these.
func (g *Guards) Hand() Memory {
	m := Memory{Taken: g.taken, TakenDoor: g.takenDoor}
	for _, st := range g.states {
		m.Evidence, m.Stories, m.Figures = append(m.Evidence, st.evidence), append(m.Stories, st.story),
			append(m.Figures, st.figure)
		m.Alerts = append(m.Alerts, st.alerts)
	}
	return m
}

// Remember goes on for guards of the same rules.
func (g *Guards) Remember(m Memory) {
	if len(m.Evidence) != len(g.rules) {
		return
	}
	g.taken, g.takenDoor = m.Taken, m.TakenDoor
	for n := range g.states {
		if e := m.Evidence[n]; e != nil && e.Unit != "" { // else it is of a Vaiven that counted in other ways
			g.states[n].evidence = e
		}
		if n < len(m.Stories) {
			g.states[n].story = m.Stories[n]
		}
		if n < len(m.Figures) {
			g.states[n].figure = m.Figures[n]
		}
		if n < len(m.Alerts) {
			g.states[n].alerts = m.Alerts[n]
		}
	}
}

// Evaluate is how all guards stand, in the order of the plan, with what was counted since the
// last time taken in.
func (g *Guards) Evaluate(f Facts) []Status {
	mark := !f.Since.IsZero() && f.Now.Sub(g.marked) >= surenessEvery
	if mark {
		g.marked = f.Now
	}
	if g.first == nil && !f.Since.IsZero() {
		g.first = f.Series.Instances(f.Target.Other())
	}
	list := make([]Status, len(g.rules))
	for n, rule := range g.rules {
		s := Status{Name: rule.Name, Watch: rule.Watch, Then: rule.Then, Most: rule.Most, State: Clear}
		s.Control = f.Control && rule.Watch.Beside() && (!rule.Asked() || rule.Figure.Query.Apart())
		if rule.Watch.Compares() && !rule.Off {
			s.Margin, s.Find = rule.Margin, rule.Find
			if means(rule, f) {
				g.takeMean(n, rule, f)
			} else {
				g.take(n, rule, f)
			}
		}
		switch {
		case rule.Off:
			s.State = Off
		case f.Since.IsZero():
			s.State = Idle
		case rule.Watch.Beside() && f.First:
			s.State, s.Gap = Unknown, OnlySide
		case f.Unreached && (rule.Watch == plan.Unhealthy || rule.Watch == plan.Door):
			s.State, s.Gap = Unknown, NotRead
		case means(rule, f):
			s = g.mean(n, rule, s, f, mark)
		case rule.Watch.Compares():
			s = g.compare(n, rule, s, f, mark)
		case rule.Watch.Figures():
			s = g.figured(n, rule, s, f, mark, g.states[n].figure.fresh(rule, f))
		case rule.Watch == plan.Alert:
			s = g.alerted(n, rule, s, f)
		case rule.Watch == plan.Waits:
			s = waits(rule, s, f)
		case rule.Watch == plan.Unhealthy:
			s = unhealthy(rule, s, f)
		default:
			s = lost(s, f)
		}
		list[n] = s
	}
	if mark && !f.alone() && !f.First {
		past := g.Baselines(f, f.Since)
		for n, rule := range g.rules {
			g.states[n].noPast = rule.Watch.Compares() && !rule.Off && !means(rule, f) &&
				!slices.ContainsFunc(past, func(b crossing.Baseline) bool { return b.Guard == rule.Name })
		}
	}
	for n := range list {
		list[n].NoPast = g.states[n].noPast && !f.alone() && (list[n].State == Clear || list[n].State == Watching)
	}
	g.passed(f)
	return list
}

// passed notes what was taken in.
func (g *Guards) passed(f Facts) {
	for st := range f.Series.After(g.taken) {
		g.taken = st.To
	}
	g.takenDoor = lastSecond(f.Door)
}

// unhealthy counts instances that do not serve as they should, and those that are not there. As many may be ill as
// the plan allows, or as great a part as is ill on the live side at the same time: what hits both is no matter of the
// release. That holds for less than half of that side, beyond which it says nothing of what is usual.
func unhealthy(rule plan.Guard, s Status, f Facts) Status {
	s.Wanted = f.Wanted
	s.Most = max(s.Most, int(rule.Part*float64(f.Wanted)+1e-9))
	if f.Beside < 0.5 {
		s.Most = max(s.Most, int(f.Beside*float64(f.Wanted)+1e-9))
	}
	if !f.SideRead && len(f.Condition) == 0 {
		s.State, s.Gap = Unknown, NotRead // that nobody was seen yet does not say that nobody is there
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

const (
	// waitsTimes is how many times as long as on the live side a message may wait where the plan does not say it, and
	// waitsLeast how long at the least.
	waitsTimes = 3
	waitsLeast = 30 * time.Second
)

// waits holds how long the oldest message waits, in seconds, against what is allowed.
func waits(rule plan.Guard, s Status, f Facts) Status {
	s.After = rule.Longest
	usual, known := f.Series.Waited(f.Target.Other())
	if s.After == 0 && known {
		s.After = max(waitsTimes*usual, waitsLeast)
	}
	switch {
	case !f.FrontRead:
		s.State, s.Gap = Unknown, NotRead
		return s
	case f.Queue == nil:
		s.State, s.Gap = Unknown, NotCounted
		return s
	}
	switch s.Value = f.Queue.Oldest.Seconds(); {
	case s.After == 0 && f.First:
		s.State, s.Gap = Unknown, OnlySide
	case s.After == 0:
		s.State, s.Gap = Unknown, NotCounted
	case f.Queue.Oldest > s.After:
		s.State = Tripped
	case f.Queue.Oldest > s.After/2:
		s.State = Watching
	}
	return s
}

// counted holds a number against what is allowed. One that is too large is so whenever
// it was read.
func counted(s Status, read bool) Status {
	switch {
	case s.Trial.Bad > int64(s.Most):
		s.State = Tripped
	case !read:
		s.State, s.Gap = Unknown, NotRead
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
	a := crossing.Alarm{
		Guard: s.Name, Watch: s.Watch, Then: s.Then, Level: s.Level(), Baseline: s.Baseline.Rate(), Sure: s.Sure,
		Worst: s.Range.High,
		Cut:   s.Cut, First: s.First, Missing: s.Missing, Restarted: s.Restarted, Side: target,
		AsOf: s.AsOf,
	}
	if s.Watch.Figures() {
		a.Figure, a.Instance, a.Worst = s.Figure, s.Instance, max(s.Range.High, s.Difference)
		a.Bound, a.Down = s.Bound, s.Down
	}
	if s.Watch == plan.Alert {
		a.Alert, a.Summary = s.Alerts.New, s.Alerts.Summary
	}
	return a, true
}

// isOverruled reports whether a person has gone on in spite of a guard at its level. One that
// compares begins anew then, with a wider margin.
func isOverruled(s Status, overruled []crossing.Overruling) bool {
	for _, o := range overruled {
		switch {
		case o.Guard != s.Name:
		case s.Watch == plan.Alert: // those that fired then are old
			return false
		case s.Watch.Gathers():
			return s.Margin < o.Beyond
		default:
			return s.Level() <= o.Level
		}
	}
	return false
}

package past

import (
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/split"
)

// Crossing is what a crossing came to, or has come to by now.
type Crossing struct {
	Number   int            `json:"number"`
	Service  string         `json:"service"`
	Target   split.Side     `json:"target"`
	From     string         `json:"from,omitempty"` // version of the side crossed from; "" for a first release
	Version  string         `json:"version"`
	Build    string         `json:"build,omitempty"`
	Commit   string         `json:"commit,omitempty"` // where that was said
	By       string         `json:"by"`               // who began it
	Begun    time.Time      `json:"begun"`
	Stage    crossing.Stage `json:"stage"`
	Ended    time.Time      `json:"ended,omitzero"`
	Cause    crossing.Cause `json:"cause,omitzero"` // of the end
	Approved []Word         `json:"approved,omitempty"`
	Notices  []Notice       `json:"notices,omitempty"`
	// changes of the part on the side crossed to; the first is what it began with
	Steps []Step `json:"steps"`
	Took  Took   `json:"took"`
	// what users met with; of one that is under way nothing yet
	Counted crossing.Counted `json:"counted,omitzero"`
	Both    Overlap          `json:"both,omitzero"`
	First   bool             `json:"first,omitempty"` // nobody was live before
	Events  int              `json:"events"`
	// sequence numbers of its first and its last event
	FromSeq uint64 `json:"from_seq"`
	ToSeq   uint64 `json:"to_seq"`
}

// Word is what somebody said to it.
type Word struct {
	At       time.Time         `json:"at"`
	By       string            `json:"by"`
	Peer     crossing.Peer     `json:"peer,omitzero"`
	To       crossing.Question `json:"to,omitzero"` // a yes to this question
	Accepted []proof.Finding   `json:"accepted,omitempty"`
	Said     string            `json:"said,omitempty"`
}

// Step is a change of the part on the side crossed to.
type Step struct {
	Asked time.Time   `json:"asked"`
	At    time.Time   `json:"at"`   // when the front confirmed it
	Part  split.Share `json:"part"` // from then on
}

// Took is how long each step took; 0 for what was not reached.
type Took struct {
	Raise time.Duration `json:"raise,omitempty"` // from the order until all instances were up
	Prove time.Duration `json:"prove,omitempty"` // the last proof that passed
	Shift time.Duration `json:"shift,omitempty"` // from the first leg's order until all requests were on the new side
	Home  time.Duration `json:"home,omitempty"`  // from the word until the front confirmed it
}

// Overlap is for how long both sides were up, and what the new one cost in that time.
type Overlap struct {
	Lasted time.Duration `json:"lasted"`
	Still  bool          `json:"still,omitempty"` // they both stand
	Cost   float64       `json:"cost,omitempty"`
	Unit   string        `json:"unit,omitempty"` // of the cost; "" if the plan has no price
}

// Settled reports whether all requests stayed on the side that it crossed to.
func (c Crossing) Settled() bool { return c.Stage == crossing.Settled }

// Lasted is how long the crossing took, or has taken by now.
func (c Crossing) Lasted(now time.Time) time.Duration {
	if c.Ended.IsZero() {
		return now.Sub(c.Begun)
	}
	return c.Ended.Sub(c.Begun)
}

// Of is what the events of one crossing come to, and how it stands after them; by the prices and instances of the
// plan's stacks. The times of what is still so are those of now.
func Of(events []crossing.Event, parts []plan.Part, now time.Time) (Crossing, crossing.State) {
	b := builder{}
	for _, e := range events {
		b.add(e)
	}
	return b.crossing(parts, now), b.state
}

// builder gathers the events of one crossing.
type builder struct {
	c      Crossing
	state  crossing.State
	task   crossing.Task // the last one that was ordered
	begun  time.Time     // when
	moving time.Time     // when the first leg was ordered
	homing time.Time     // when it was said that it goes home
	up     time.Time     // since when both sides are
	gone   time.Time     // when one of them was
}

func (b *builder) add(e crossing.Event) {
	before := b.state
	b.state = crossing.Apply(before, e)
	c, s := &b.c, b.state
	if c.Events++; c.Events == 1 {
		c.FromSeq = e.Seq
	}
	c.ToSeq = e.Seq
	switch f := e.What.(type) {
	case crossing.Begun:
		main := raise.Main(f.Choices)
		c.Number, c.Service, c.Target, c.From, c.Version, c.Build = f.Number, f.Service, f.Target, f.LiveVersion,
			main.Version, main.Build
		c.By, c.Begun, c.First = e.By, e.At, f.First
		c.Steps = []Step{{e.At, e.At, s.Part()}}
	case crossing.Ordered:
		if b.task, b.begun = f.Task, e.At; f.Task.Do == crossing.TaskMove && b.moving.IsZero() {
			b.moving = e.At
		}
	case crossing.Raised:
		if b.up.IsZero() && !s.First {
			b.up = e.At
		}
		if c.Took.Raise == 0 && b.task.Do == crossing.TaskRaise && !b.task.More {
			c.Took.Raise = e.At.Sub(b.begun)
		}
	case crossing.Proved:
		if b.task.Do == crossing.TaskProve {
			c.Took.Prove = e.At.Sub(b.begun)
		}
	case crossing.Answered:
		c.Approved = append(c.Approved, Word{At: e.At, By: e.By, Peer: e.Peer, To: f.Question, Said: e.Said})
	case crossing.Accepted:
		if n := len(c.Approved); n > 0 && c.Approved[n-1].At.Equal(e.At) {
			c.Approved[n-1].Accepted = f.Findings
		} else {
			c.Approved = append(c.Approved, Word{At: e.At, By: e.By, Peer: e.Peer, Accepted: f.Findings, Said: e.Said})
		}
	case crossing.RollsBack:
		b.homing = e.At
	case crossing.Returned:
		if !b.homing.IsZero() {
			c.Took.Home = e.At.Sub(b.homing)
		}
	case crossing.Retired:
		b.gone = e.At
	case crossing.Ended:
		c.Ended, c.Cause, c.Counted = e.At, f.Cause, f.Counted
	}
	c.Stage = s.Stage
	if s.Part() != before.Part() && c.Events > 1 {
		asked := e.At
		if wasOrdered(e.What) {
			asked = b.begun
		}
		c.Steps = append(c.Steps, Step{asked, e.At, s.Part()})
		if s.Part() == split.Whole && c.Took.Shift == 0 && !b.moving.IsZero() {
			c.Took.Shift = e.At.Sub(b.moving)
		}
	}
}

// wasOrdered reports whether a fact says what came of an order to change the share.
func wasOrdered(f crossing.Fact) bool {
	switch f.(type) {
	case crossing.TookEffect, crossing.Returned:
		return true
	}
	return false
}

func (b *builder) crossing(parts []plan.Part, now time.Time) Crossing {
	c := b.c
	c.Approved, c.Steps, c.Notices = slices.Clone(c.Approved), slices.Clone(c.Steps), slices.Clone(c.Notices)
	if b.up.IsZero() {
		return c
	}
	o, to := &c.Both, b.gone
	if o.Still = to.IsZero(); o.Still {
		to = now
	}
	o.Lasted = to.Sub(b.up)
	for _, part := range parts {
		if stack := part.Stacks[c.Target]; stack.Price.Unit != "" {
			o.Unit = stack.Price.Unit
			o.Cost += raise.Cost(stack.Price.Amount, slices.Repeat([]time.Time{b.up}, stack.Instances), to)
		}
	}
	return c
}

// Book gathers the events of a service, each once, in their order. The zero value has none. It belongs to one
// goroutine.
type Book struct {
	list    []builder // of crossings, oldest first
	hand    []crossing.Event
	commits map[string]string // by version
	Seq     uint64            // of the last event
}

// Add takes in an event.
func (b *Book) Add(e crossing.Event) {
	b.Seq = e.Seq
	switch f := e.What.(type) {
	case crossing.Built:
		b.made(f.Version, f.Commit)
	case crossing.VersionArrived:
		b.made(f.Version, f.Commit)
	}
	if e.Crossing == 0 {
		b.notice(e)
		if byHand(e.What) {
			b.hand = append(b.hand, e)
		}
		return
	}
	n := len(b.list) - 1
	if n < 0 || b.list[n].c.Number != e.Crossing {
		b.list = append(b.list, builder{c: Crossing{Number: e.Crossing}})
		n++
	}
	b.list[n].add(e)
	if c := &b.list[n].c; c.Commit == "" {
		c.Commit = b.commits[c.Version]
	}
}

// notice adds what became of a letter to the crossing that it was about.
func (b *Book) notice(e crossing.Event) {
	var n Notice
	switch f := e.What.(type) {
	case crossing.NoticeSent:
		n = Notice{e.At, f.Letter, f.Tries, ""}
	case crossing.NoticeFailed:
		n = Notice{e.At, f.Letter, f.Tries, f.Failed}
	default:
		return
	}
	for i := range b.list {
		c := &b.list[i].c
		if slices.ContainsFunc(n.Letter.Of, func(seq uint64) bool { return seq >= c.FromSeq && seq <= c.ToSeq }) {
			c.Notices = append(c.Notices, n)
		}
	}
}

// made notes of which commit a version is said to be.
func (b *Book) made(version, commit string) {
	if b.commits == nil {
		b.commits = map[string]string{}
	}
	if commit != "" {
		b.commits[version] = commit
	}
}

// byHand reports whether a fact outside of a crossing is worth remembering: not what was told to whom.
func byHand(f crossing.Fact) bool {
	switch f.(type) {
	case crossing.Expires, crossing.NoticesBegin, crossing.NoticeSent, crossing.NoticeFailed, crossing.WayBackIs,
		crossing.RetireDue, crossing.TermBegins:
		return false
	}
	return true
}

// Crossings are all crossings, the newest first.
func (b *Book) Crossings(parts []plan.Part, now time.Time) []Crossing {
	list := make([]Crossing, 0, len(b.list))
	for _, c := range slices.Backward(b.list) {
		list = append(list, c.crossing(parts, now))
	}
	return list
}

// Hand are the events of what was done outside of a crossing, oldest first.
func (b *Book) Hand() []crossing.Event { return b.hand }

// People are who began it, and who said yes to something, each once.
func (c Crossing) People() (began string, yes []string) {
	for _, w := range c.Approved {
		if w.By != "" && !slices.Contains(yes, w.By) {
			yes = append(yes, w.By)
		}
	}
	return c.By, yes
}

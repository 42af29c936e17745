package check

import (
	"context"
	"sync"
	"time"

	"vaiven/internal/core/proof"
	"vaiven/internal/place"
	"vaiven/internal/plan"
	"vaiven/internal/secret"
	"vaiven/internal/stack"
)

// State is how an instance is.
type State string

// The states.
const (
	Starting  State = "starting"  // runs, and says nothing yet
	Answering State = "answering" // says something, but was never healthy
	Healthy   State = "healthy"
	Failing   State = "failing" // was healthy, and runs
	Exited    State = "exited"
)

// Condition is an instance with its health as last read.
type Condition struct {
	stack.Instance
	State   State         `json:"state"`
	Since   time.Time     `json:"since"` // of the state
	At      time.Time     `json:"at"`    // of the reading
	Took    time.Duration `json:"took"`
	Said    string        `json:"said,omitempty"`    // what is wrong, "" if nothing is
	Answer  string        `json:"answer,omitempty"`  // the bad reading's, in full
	History []float64     `json:"history,omitempty"` // times of the last readings in milliseconds, oldest first; -1 for a bad one
}

// Monitor judges the health of instances from round to round.
type Monitor struct {
	service string
	health  map[string]plan.Check // by part
	secrets secret.Values
	seen    map[string]*watched
}

// watched is what the monitor remembers of one instance.
type watched struct {
	started time.Time
	judge   proof.Judge
	wasUp   bool
	reached bool
	last    Condition
}

// NewMonitor makes a monitor that has seen nothing.
func NewMonitor(p *plan.Plan, secrets secret.Values) *Monitor {
	m := &Monitor{service: p.Service, health: map[string]plan.Check{}, secrets: secrets, seen: map[string]*watched{}}
	for _, part := range p.Parts {
		m.health[part.Name] = part.Health
	}
	return m
}

// atOnce bounds how many readings are under way at the same time.
const atOnce = 256

// Round reads the health of all instances at once and returns their conditions
// in the same order. An instance whose part is read less often keeps its condition
// until it is due. It is not safe for concurrent use.
func (m *Monitor) Round(ctx context.Context, instances []stack.Instance) []Condition {
	readings := make([]*Reading, len(instances))
	before := time.Now()
	var wait sync.WaitGroup
	room := make(chan struct{}, atOnce)
	for n, i := range instances {
		w := m.remembered(i)
		health := m.health[i.Part]
		if !i.Running || before.Sub(w.last.At) < health.Every*3/4 {
			continue
		}
		t := Target{From: place.Local{}, Values: i.Values(m.service), Secrets: m.secrets}
		wait.Go(func() {
			room <- struct{}{}
			defer func() { <-room }()
			r := t.Read(ctx, health)
			readings[n] = &r
		})
	}
	wait.Wait()
	now := time.Now()
	conditions := make([]Condition, len(instances))
	seen := map[string]*watched{}
	for n, i := range instances {
		w := m.remembered(i)
		w.last = w.condition(i, readings[n], now)
		seen[key(i)] = w
		conditions[n] = w.last
	}
	m.seen = seen
	return conditions
}

func key(i stack.Instance) string { return i.Part + "/" + i.Name }

// remembered is what is known of an instance, which is nothing if it was started
// anew.
func (m *Monitor) remembered(i stack.Instance) *watched {
	if w := m.seen[key(i)]; w != nil && w.started.Equal(i.Started) {
		return w
	}
	h := m.health[i.Part]
	w := &watched{started: i.Started, judge: proof.Judge{UpAfter: h.Up, DownAfter: h.Down}}
	w.last = Condition{State: Starting, Since: i.Started}
	m.seen[key(i)] = w
	return w
}

// condition is how an instance is after a reading; r is nil if none was made.
func (w *watched) condition(i stack.Instance, r *Reading, now time.Time) Condition {
	c := w.last
	c.Instance = i
	if r != nil {
		w.read(r.Good)
		w.reached = w.reached || r.Reached
		c.At, c.Took, c.Said, c.Answer = r.At, r.Took, "", ""
		if !r.Good {
			c.Said, c.Answer = r.Got, r.Answer
		}
		c.History = remember(c.History, r.point())
	}
	if c.State = w.state(i.Running); c.State != w.last.State {
		c.Since = now
	}
	if c.State == Exited {
		c.At, c.Said = now, i.Exit
	}
	return c
}

func (w *watched) read(good bool) {
	w.judge = w.judge.Read(good)
	w.wasUp = w.wasUp || w.judge.Health == proof.Up
}

func (w *watched) state(running bool) State {
	switch {
	case !running:
		return Exited
	case !w.wasUp && w.reached:
		return Answering
	case !w.wasUp:
		return Starting
	case w.judge.Health == proof.Up:
		return Healthy
	}
	return Failing
}

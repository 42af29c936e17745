package check

import (
	"context"
	"time"

	"golang.org/x/sync/errgroup"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
)

// Monitor judges the health of instances from round to round.
type Monitor struct {
	service string
	health  map[string]plan.Check // by part
	secrets secret.Values
	from    func(reading.Instance) place.Place
	seen    map[string]*watched
}

// watched is what the monitor remembers of one instance.
type watched struct {
	started time.Time
	judge   proof.Judge
	wasUp   bool
	reached bool
	last    reading.Condition
}

// NewMonitor makes a monitor that has seen nothing, and connects to each instance from where it is to be reached.
func NewMonitor(p *plan.Plan, secrets secret.Values, from func(reading.Instance) place.Place) *Monitor {
	m := &Monitor{service: p.Service, health: map[string]plan.Check{}, secrets: secrets, from: from,
		seen: map[string]*watched{}}
	for _, part := range p.Parts {
		m.health[part.Name] = part.Health
	}
	return m
}

// atOnce bounds how many readings are under way at the same time.
const atOnce = 256

// Round reads the health of all instances at once and returns their conditions in the same order. An instance whose
// part is read less often keeps its condition until it is due, and so does one of which nothing is known, as what
// carries connections to it does not answer. It is not safe for concurrent use.
func (m *Monitor) Round(ctx context.Context, instances []reading.Instance) []reading.Condition {
	readings := make([]*Reading, len(instances))
	before := time.Now()
	var asked errgroup.Group
	asked.SetLimit(atOnce)
	for n, i := range instances {
		w := m.remembered(i)
		health := m.health[i.Part]
		if !i.Running || before.Sub(w.last.At) < health.Every*3/4 {
			continue
		}
		t := Target{From: m.from(i), Values: i.Values(m.service), Secrets: m.secrets,
			Look: func(context.Context) (reading.Instance, error) { return i, nil }}
		asked.Go(func() error {
			if r := t.Read(ctx, health); !r.Unmade {
				readings[n] = &r
			}
			return nil
		})
	}
	_ = asked.Wait()
	now := time.Now()
	conditions := make([]reading.Condition, len(instances))
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

func key(i reading.Instance) string { return i.Part + "/" + i.Name }

// remembered is what is known of an instance, which is nothing if it was started
// anew.
func (m *Monitor) remembered(i reading.Instance) *watched {
	if w := m.seen[key(i)]; w != nil && w.started.Equal(i.Started) {
		return w
	}
	h := m.health[i.Part]
	w := &watched{started: i.Started, judge: proof.Judge{UpAfter: h.Up, DownAfter: h.Down}}
	w.last = reading.Condition{State: reading.Starting, Since: i.Started}
	m.seen[key(i)] = w
	return w
}

// condition is how an instance is after a reading; r is nil if none was made.
func (w *watched) condition(i reading.Instance, r *Reading, now time.Time) reading.Condition {
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
	if c.State = w.state(i.Running); !i.Running && i.Waits != "" {
		c.State, c.At, c.Said = reading.Starting, now, i.Waits
	}
	if c.State != w.last.State {
		c.Since = now
	}
	if c.State == reading.Exited {
		c.At, c.Said = now, i.Exit
	}
	return c
}

func (w *watched) read(good bool) {
	w.judge = w.judge.Read(good)
	w.wasUp = w.wasUp || w.judge.Health == proof.Up
}

func (w *watched) state(running bool) reading.Health {
	switch {
	case !running:
		return reading.Exited
	case !w.wasUp && w.reached:
		return reading.Answering
	case !w.wasUp:
		return reading.Starting
	case w.judge.Health == proof.Up:
		return reading.Healthy
	}
	return reading.Failing
}

package engine

import (
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// The pauses before an instance that ends is started again: each is twice the one before.
const (
	pauseFirst = time.Second
	pauseMost  = time.Minute
	calmAfter  = 10 * time.Minute // an instance that has run for so long begins with the first again
)

// named is an instance by what it is called.
type named struct {
	side       split.Side
	part, name string
}

func nameOf(i reading.Instance) named { return named{i.Side, i.Part, i.Name} }

// again is how often an instance was started again.
type again struct {
	count int
	last  time.Time // when it was last tried
	under bool      // it is being tried
	done  time.Time // when it was; what was read before says nothing
}

// Restarts are the instances that are to be started again now, because they have ended while
// their side gets requests or is kept. Those of a side that gets requests come first. A side that
// is being raised or retired is left alone.
func (j *judgement) Restarts(at time.Time) []reading.Instance {
	for _, side := range j.wanted(at) {
		var list []reading.Instance
		ended := false
		for _, c := range j.sides[side].view.Instances {
			if c.Running || c.State != reading.Exited || !j.restarts(c.Instance) || j.coming(c.Instance) {
				continue
			}
			ended = true
			a := j.again[nameOf(c.Instance)]
			if a.under || at.Sub(a.last) < a.pause() || !a.done.IsZero() && !j.sides[side].asked.After(a.done) {
				continue
			}
			list = append(list, c.Instance)
		}
		if ended { // the next side has time
			return list
		}
	}
	return nil
}

// wanted are the sides whose instances are started again: those that get requests, the one with
// most first, and the one that is kept.
func (k *sight) wanted(at time.Time) []split.Side {
	s, r := k.state, k.front.reading
	known := k.front.fresh(at)
	if !known && s.Stage == crossing.None {
		return nil // it is not known at all where requests go
	}
	first := s.Share // what carried the traffic as recorded: a front may have begun anew
	if s.Stage == crossing.None {
		first = r.Split.Share
	}
	order := split.Sides
	if first > split.Whole/2 {
		order = [2]split.Side{split.Green, split.Blue}
	}
	var list []split.Side
	for _, side := range order {
		kept := (s.Stage == crossing.Shifting || s.Stage == crossing.Keeping) && s.Moved
		busy := s.Task.ID != 0 && s.Task.Side == side &&
			(s.Task.Do == crossing.TaskRaise || s.Task.Do == crossing.TaskRetire)
		gets := s.Stage != crossing.None && s.Sends(side) > 0 || known && r.Sends(side) > 0
		if (gets || kept) && !busy && k.sides[side].fresh(at) {
			list = append(list, side)
		}
	}
	return list
}

// restarts reports whether an instance's stack is one that is started again.
func (w *world) restarts(i reading.Instance) bool {
	for _, part := range w.plan.Parts {
		if s := part.Stacks[i.Side]; part.Name == i.Part {
			return s.Restart && (s.Kind() == plan.Processes || s.Kind() == plan.Hosts)
		}
	}
	return false
}

// pause is how long after the last try the next may be.
func (a again) pause() time.Duration {
	if a.count == 0 {
		return 0
	}
	return min(pauseFirst<<min(a.count-1, 10), pauseMost)
}

// Restarting takes in that an instance is being started again.
func (j *judgement) Restarting(at time.Time, i reading.Instance) {
	a := j.again[nameOf(i)]
	if at.Sub(a.last) > calmAfter {
		a.count = 0
	}
	a.count++
	a.last, a.under = at, true
	if j.again == nil {
		j.again = map[named]again{}
	}
	j.again[nameOf(i)] = a
}

// NobodyElse reports whether nobody of an instance's side serves while requests go there: then it is started again from
// whatever stands in the place of its build.
func (k *sight) NobodyElse(i reading.Instance) bool {
	return k.lastStanding(i.Side).Healthy == 0 && (k.state.Sends(i.Side) > 0 || k.front.reading.Sends(i.Side) > 0)
}

// Restarted takes in what came of starting an instance again. The first times are recorded, and then fewer and fewer.
func (e *Engine) Restarted(at time.Time, i reading.Instance, is Again) []crossing.Event {
	events := e.Pass(at)
	a := e.again[nameOf(i)]
	a.under, a.done = false, at
	e.again[nameOf(i)] = a
	if a.count&(a.count-1) != 0 {
		return events
	}
	last := ""
	if n := len(i.Output); n > 0 {
		last = i.Output[n-1]
	}
	return append(events, e.decide(at, Self, crossing.CameBack{
		Side: i.Side, Instance: i.Name, Count: a.count, Exit: i.Exit, Output: last, Changed: is.Changed,
		Build: is.Build, Copy: is.Copy, Failed: is.Failed,
	})...)
}

// Again is what came of starting an instance again.
type Again struct {
	Changed bool   // its environment is not what it was
	Build   string // what differs of what was delivered
	Copy    bool   // it runs from a copy of that
	Failed  string // why it could not be started
}

// Restart is how often an instance was started again, and when last.
type Restart struct {
	Instance string    `json:"instance"`
	Count    int       `json:"count"`
	Last     time.Time `json:"last"`
}

// restartsOf are those of a side.
func (j *judgement) restartsOf(side split.Side) []Restart {
	var list []Restart
	for _, c := range j.sides[side].view.Instances {
		if a, ok := j.again[nameOf(c.Instance)]; ok {
			list = append(list, Restart{c.Name, a.count, a.last})
		}
	}
	return list
}

// cameBack is how many instances of a side had to be started again since a time.
func (j *judgement) cameBack(side split.Side, since time.Time) int {
	n := 0
	for name, a := range j.again {
		if name.side == side && !since.IsZero() && !a.last.Before(since) {
			n++
		}
	}
	return n
}

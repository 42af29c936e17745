package engine

import (
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/reading"
)

// Memory is what an engine knows beside its state: all of it where one goes on for another,
// the track alone where nobody watched in between.
type Memory struct {
	At      time.Time     `json:"at,omitzero"` // when it was handed over; zero if it was not
	Left    time.Duration `json:"left,omitempty"`
	Since   time.Time     `json:"since,omitzero"`
	Homed   time.Time     `json:"homed,omitzero"`
	Seen    time.Time     `json:"seen,omitzero"`
	Settled time.Time     `json:"settled,omitzero"`
	Again   time.Time     `json:"again,omitzero"`
	Hole    Hole          `json:"hole,omitzero"`
	// by name: the target's instances that stood before it was to get more of them
	Served   map[string]bool  `json:"served,omitempty"`
	Change   Switch           `json:"change,omitzero"`
	Series   figures.Series   `json:"series"`
	Guards   guard.Memory     `json:"guards,omitzero"`
	Door     reading.Door     `json:"door"`
	Answered []reading.Ended  `json:"answered,omitempty"` // of the door log
	Seconds  []reading.Second `json:"seconds,omitempty"`
	Track    []Point          `json:"track,omitempty"`
	Hours    []hour           `json:"hours,omitempty"`
	Clumps   evidence.Clumps  `json:"clumps,omitzero"`
	Swings   evidence.Swings  `json:"swings,omitzero"`
	Gathered Gathered         `json:"gathered,omitzero"` // where it was not handed over
	Counted  crossing.Counted `json:"counted,omitzero"`
}

// Gathered is the evidence of a crossing's guards, and what was counted of it, to outlive the engine.
type Gathered struct {
	Crossing int              `json:"crossing"`
	Rules    []string         `json:"rules"` // the guards' names
	Guards   guard.Memory     `json:"guards"`
	Counted  crossing.Counted `json:"counted,omitzero"`
}

// Gathered is what the guards of the crossing that is under way have gathered. It shares memory with the engine.
func (j *judgement) Gathered() Gathered {
	if !j.state.Stage.UnderWay() {
		return Gathered{}
	}
	return Gathered{j.state.Number, j.names(), j.guards.Hand(), j.countedNow()}
}

// names are the guards'.
func (j *judgement) names() (names []string) {
	for _, g := range j.plan.Guards {
		names = append(names, g.Name)
	}
	return names
}

// Hole is a time in which nobody watched.
type Hole struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
}

// The limits of what counts as watched.
const (
	handedFor = 5 * time.Second  // what was handed over is good for so long
	holeLeast = 5 * time.Second  // in which the engine heard nothing are a hole,
	restAfter = time.Minute      // and nothing is retired for so long after one
	goneAfter = 30 * time.Second // the wheel falls vacant when nothing was heard of its holder for so long
)

// Hand is the memory for the engine that goes on for this one. One that has not taken up yet what was under way when
// it was made knows nothing that would let another one go on as if somebody had watched.
func (j *judgement) Hand(at time.Time) Memory {
	if !j.ready && !j.handed {
		return Memory{Track: j.track, Hours: j.hours, Clumps: j.clumps, Swings: j.swings}
	}
	return Memory{
		At: at, Left: j.left, Since: j.since, Homed: j.homed, Seen: j.seen, Settled: j.settled, Again: j.rested,
		Hole: j.hole, Served: j.served, Change: j.change,
		Series: j.series, Guards: j.guards.Hand(), Door: j.door, Answered: j.door.Ended, Seconds: j.door.Seconds,
		Track: j.track, Hours: j.hours, Clumps: j.clumps, Swings: j.swings, Counted: j.counted,
	}
}

// remember takes up what the one before knew.
func (j *judgement) remember(m Memory) {
	j.track, j.clumps, j.swings = m.Track, m.Clumps, m.Swings
	j.bursts = j.clumps.Bursts()
	if j.hours = m.Hours; len(j.hours) == 0 { // of a keeper that left nothing but its track
		for _, p := range j.track {
			j.hours.add(p)
		}
	}
	if m.At.IsZero() || j.now.Sub(m.At) > handedFor {
		if n := len(m.Track); n > 0 && j.state.Stage.UnderWay() {
			j.hole = Hole{From: m.Track[n-1].At, To: j.now}
			j.counted.Unwatched = j.hole.To.Sub(j.hole.From)
		}
		// Also where it has just ended: the one before may have known of a hole.
		if s := j.state; s.Stage.UnderWay() || s.Retiring() || s.Stage.Over() && j.now.Sub(s.Since) < restAfter {
			j.rested = j.now.Add(restAfter)
		}
		g := m.Gathered
		if j.state.Stage.UnderWay() && g.Crossing == j.state.Number {
			hole := j.counted.Unwatched
			j.counted = g.Counted
			j.counted.Unwatched += hole
		}
		if j.state.Stage.UnderWay() && g.Crossing == j.state.Number && slices.Equal(g.Rules, j.names()) {
			j.gathered = g.Guards
		}
		return
	}
	j.handed = true
	j.left, j.since, j.homed, j.seen, j.settled, j.rested, j.hole, j.change, j.series = m.Left, m.Since, m.Homed,
		m.Seen, m.Settled, m.Again, m.Hole, m.Change, m.Series
	j.served, j.counted = m.Served, m.Counted
	j.guards.Remember(m.Guards)
	j.before = m.Door
	j.before.Ended, j.before.Seconds = m.Answered, m.Seconds
}

// Slept takes in that the machine stood still until now, for as long as it did. What was read
// before says nothing.
func (e *Engine) Slept(at time.Time, long time.Duration) []crossing.Event {
	e.slept = at
	e.front.at = time.Time{}
	for side := range e.sides {
		e.sides[side].view.At = time.Time{}
	}
	return e.missed(at.Add(-long), at)
}

// missed takes in that nobody watched for a time: what is under way stands still until a person goes on, and nothing is
// retired just now, also if that was ordered before.
func (e *Engine) missed(from, to time.Time) []crossing.Event {
	e.heard = to // it was not they who said nothing
	if !e.state.Stage.UnderWay() && !e.state.Retiring() {
		return nil
	}
	e.hole = Hole{From: from, To: to}
	e.counted.Unwatched += to.Sub(from)
	e.rested = to.Add(restAfter)
	return e.decide(to, Self, crossing.Missed{For: to.Sub(from)})
}

// Present says which clients have been heard of just now.
func (j *judgement) Present(at time.Time, client func(id string) bool) {
	w := j.state.Wheel
	if j.silent = !w.Vacant() && !client(w.Client); !j.silent {
		j.heard = at
	}
}

// release lets the wheel of a client go that is gone.
func (e *Engine) release(at time.Time) []crossing.Event {
	w := e.state.Wheel
	if w.Vacant() || at.Sub(e.heard) < goneAfter {
		return nil
	}
	return e.decide(at, Self, crossing.LeaveWheel{Client: w.Client, Gone: true})
}

// goesOnAsWas reports whether an engine that took over found everything as it was handed to it.
func (k *sight) goesOnAsWas(found crossing.Found, order reading.Order) bool {
	return k.handed && found.Share == k.state.Share && slices.Equal(found.Apart, k.state.Apart) &&
		order.Generation <= k.state.Generation
}

package engine

import (
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/notice"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/wayback"
)

const (
	wayBackFor = 5 * time.Second  // a way back that is another for less is not worth a word
	dueBefore  = 10 * time.Minute // before a side is retired people are told,
	dueLeast   = time.Minute      // where it was kept for longer than this
)

// Expiring is something that is valid until a time.
type Expiring struct {
	What  string
	Until time.Time
}

// Expire takes in what is valid until when.
func (e *Engine) Expire(at time.Time, list []Expiring) (events []crossing.Event) {
	events = e.Pass(at)
	for _, x := range list {
		said, known := e.state.Told.Expires[x.What]
		if x.Until.Sub(at) < notice.ExpiresBefore && !(known && said.Equal(x.Until)) {
			ends := crossing.Expires{What: x.What, Until: x.Until}
			events = append(events, e.decide(at, Self, crossing.Tell{Fact: ends})...)
		}
	}
	return events
}

// Tell has it recorded that people were told something, or could not be.
func (e *Engine) Tell(at time.Time, f crossing.Fact) []crossing.Event {
	return append(e.Pass(at), e.decide(at, Self, crossing.Tell{Fact: f})...)
}

// tells says what people want to be told, where the plan has notices, and no other event says.
func (e *Engine) tells(at time.Time) (events []crossing.Event) {
	s := e.state
	if !e.plan.Notices.On() || !e.ready || !s.Stage.UnderWay() {
		return nil
	}
	is := wayback.Readiness{State: wayback.Open}
	if s.Moved && !s.Alone() && !s.GoingBack {
		is = e.wayBack(at, forecast.Traffic{})
	}
	was := s.Told.WayBack
	if was == "" {
		was = wayback.Open
	}
	switch {
	case is.State == "" || is.State == was:
		e.wayChanged = time.Time{}
	case e.wayChanged.IsZero():
		e.wayChanged = at
	case at.Sub(e.wayChanged) >= wayBackFor:
		e.wayChanged = time.Time{}
		events = e.decide(at, Self, crossing.Tell{Fact: crossing.WayBackIs{State: is.State, Worst: is.Worst}})
	}
	before := min(dueBefore, s.Whole()/2)
	if s.Stage == crossing.Keeping && s.Then == plan.ThenRetire && !s.Told.RetireDue && before >= dueLeast/2 &&
		!s.Frozen() && e.left <= before {
		events = append(events, e.decide(at, Self, crossing.Tell{Fact: crossing.RetireDue{Side: s.Target.Other(),
			In: max(e.left, 0)}})...)
	}
	return events
}

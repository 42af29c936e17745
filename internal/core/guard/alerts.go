package guard

import (
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
)

// Alerts is what one guard knows of the alerts that others raise. Its fields are there to be written and read back.
type Alerts struct {
	Read   time.Time           `json:"read,omitzero"` // when whoever tells of them last did
	Said   string              `json:"said,omitempty"`
	Firing []reading.Alert     `json:"firing,omitempty"` // as of then
	Old    map[string]bool     `json:"old,omitempty"`    // by identity: they fired before the leg began
	Leg    time.Time           `json:"leg,omitzero"`     // when that was
	Ruled  crossing.Overruling `json:"ruled,omitzero"`   // the last word of a person to go on in spite of them
}

// take takes in which alerts fire. Whatever fired when the leg began, or when a person went on in spite of it, is old.
func (a *Alerts) take(rule plan.Guard, f Facts, r reading.Figures) {
	if a.Said = r.Failed; r.Failed != "" {
		return
	}
	if len(a.Old) > 0 { // what ended and fires again is new
		for id := range a.Old {
			if !slices.ContainsFunc(r.Alerts, func(t reading.Alert) bool { return t.ID == id }) {
				delete(a.Old, id)
			}
		}
	}
	a.rule(rule, f)
	leg := f.Since
	if f.Changed.After(leg) {
		leg = f.Changed
	}
	switch {
	case f.Since.IsZero(): // nobody gets requests yet
		a.age(r.Alerts)
	case leg.After(a.Leg) && a.Read.IsZero(): // they were never asked for before the leg: by when each began
		a.age(slices.DeleteFunc(slices.Clone(r.Alerts), func(t reading.Alert) bool { return t.Since.After(leg) }))
	case leg.After(a.Leg):
		a.age(a.Firing)
	}
	a.Leg, a.Read, a.Firing = leg, f.Now, r.Alerts
}

// rule takes in that a person has gone on in spite of what fires.
func (a *Alerts) rule(rule plan.Guard, f Facts) {
	n := slices.IndexFunc(f.Overruled, func(o crossing.Overruling) bool { return o.Guard == rule.Name })
	if n >= 0 && f.Overruled[n] != a.Ruled {
		a.Ruled = f.Overruled[n]
		a.age(a.Firing)
	}
}

// age has alerts be old ones.
func (a *Alerts) age(list []reading.Alert) {
	if a.Old == nil {
		a.Old = map[string]bool{}
	}
	for _, t := range list {
		a.Old[t.ID] = true
	}
}

// alerted is how a guard on alerts stands.
func (g *Guards) alerted(n int, rule plan.Guard, s Status, f Facts) Status {
	a, limit := g.states[n].alerts, max(4*rule.Every, freshFigures)
	if a != nil && a.Said != "" { // and it is known why they were not read since
		limit = carriedFor(rule)
	}
	if a == nil || a.Read.IsZero() || f.Now.Sub(a.Read) > limit {
		s.State, s.Gap = Unknown, NotRead
		if a != nil {
			s.Said = a.Said
		}
		return s
	}
	a.rule(rule, f)
	s.Told = a.Read
	for _, t := range a.Firing {
		if a.Old[t.ID] {
			s.Alerts.Old++
			continue
		}
		if s.Trial.Bad++; s.Alerts.New == "" {
			s.Alerts.New, s.Alerts.Summary = t.Name, t.Summary
		}
	}
	s.Trial = evidence.Count{Bad: s.Trial.Bad}
	return counted(s, true)
}

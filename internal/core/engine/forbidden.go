package engine

import (
	"time"

	"vaiven/internal/core/calendar"
	"vaiven/internal/core/crossing"
	"vaiven/internal/core/split"
)

// Outside is what others say of when traffic may leave home: which days are closed, and whether there is an embargo.
type Outside struct {
	Closed      []calendar.Closed
	ClosedSaid  string // why that cannot be read, "" if it can
	Embargo     calendar.Embargo
	EmbargoSaid string // why that cannot be read
}

// outsideFor is how long what others say is good for.
const outsideFor = 20 * time.Second

// Outside takes in what others say of when traffic may leave home.
func (e *Engine) Outside(at time.Time, o Outside) []crossing.Event {
	e.outside, e.outsideAt = o, at
	return e.Pass(at)
}

// forbidden is by what traffic is not to leave home just now. Going home is always free, and so is what leaves a side
// that does not serve; neither the raise nor the keep moves anything.
func (k *sight) forbidden(at time.Time) (list []crossing.Lack) {
	s := k.state
	_, ill := crossing.FrozenBy[crossing.HomeIll](s)
	if s.Stage == crossing.Raising || s.Stage == crossing.Keeping || s.AtOnce && s.Stage.UnderWay() || s.GoingBack ||
		ill || k.standing(k.home()).Empty() {
		return nil
	}
	unread := ""
	if at.Sub(k.outsideAt) > outsideFor {
		unread = "it was not read lately"
	}
	said := func(own string) string {
		if own != "" {
			return own
		}
		return unread
	}
	if k.plan.Embargo != "" {
		switch e := k.outside.Embargo; {
		case said(k.outside.EmbargoSaid) != "":
			list = append(list, crossing.Lacking(crossing.LackEmbargo{Said: said(k.outside.EmbargoSaid)}))
		case e.At(at):
			list = append(list, crossing.Lacking(crossing.LackEmbargo{Until: e.Until, By: e.By, Why: e.Why}))
		}
	}
	if k.plan.Closed != "" && said(k.outside.ClosedSaid) != "" {
		return append(list, crossing.Lacking(crossing.LackHours{Said: said(k.outside.ClosedSaid)}))
	}
	if open, until, day := k.plan.Hours.Open(at, k.outside.Closed); !open {
		list = append(list, crossing.Lacking(crossing.LackHours{Until: until, Closed: day}))
	}
	return list
}

// home is the side that traffic is not to leave.
func (k *sight) home() split.Side {
	if k.state.Stage.UnderWay() {
		return k.state.Target.Other()
	}
	if k.state.Share > split.Whole/2 {
		return split.Green
	}
	return split.Blue
}

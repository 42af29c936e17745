package engine

import (
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/core/wayout"
)

// View is everything that is known now.
func (e *Engine) View(at time.Time) View {
	s := e.state
	r := e.front.reading
	failing, _ := e.plan.Guard(plan.Failing)
	v := View{
		At: at, Service: e.plan.Service, Ready: e.ready, Crossing: s, Left: max(e.left, 0), Planned: e.plan.Route,
		Keep: e.plan.Keep, Then: e.plan.Then,
		Live: e.live(), Typical: e.typical, Parts: parts(e.plan), Guards: e.statuses, Door: e.door,
		Track:    e.track[:len(e.track):len(e.track)],
		Guarding: e.guarding(), Sure: Sureness{Of: e.plan.Sure, Find: failing.Find}, Switch: e.change, Hole: e.hole,
		Hook: e.hook, Again: e.rested,
		Front: FrontView{At: e.front.at, Every: FrontEvery, Split: r.Split, Order: r.Order, Error: e.front.failed,
			Changes: e.front.changes, Apart: r.Apart, Unread: r.Unread, Notice: r.Notice, Blind: r.Blind,
			Own: e.series.Own(at.Add(-figureSpan)), Remembers: r.Remembers, Everywhere: e.everywhere()},
	}
	for _, side := range e.wanted(at) {
		if slices.ContainsFunc(e.sides[side].view.Instances,
			func(c reading.Condition) bool { return e.restarts(c.Instance) }) {
			v.Keeps = append(v.Keeps, side)
		}
	}
	if n := len(e.track); n > 0 {
		v.Drawn = e.track[n-1].At
	}
	if s.Timed() {
		v.Lacks = e.lacks(at)
	}
	if s.Retiring() {
		v.Held = e.withheld(s.Task)
	}
	if _, until := s.UntilSure(); until {
		v.Sure.Unsure = e.unsure()
	}
	for _, side := range split.Sides {
		v.Sides[side] = e.sides[side].view
		f := e.series.Over(side, at.Add(-figureSpan), 0)
		if lately := e.series.Count(side, at.Add(-rateSpan), 0); !lately.To.IsZero() {
			f.Rate = lately.Rate // else nothing was read lately: what was, with its age
		}
		v.Sides[side].Figures = f
		v.Sides[side].Served = e.series.Each(side, at)
		v.Sides[side].Open, v.Sides[side].Queue = r.Sides[side].Open, r.Sides[side].Queue
		v.Sides[side].Out = s.Out[side]
		if list := e.strangers(side); len(list) > 0 && e.sides[side].fresh(at) {
			v.Sides[side].Strange = list
		}
		v.Sides[side].Restarts = e.restartsOf(side)
		v.Traffic.Rate += f.Rate
		v.Traffic.Capacity[side] = v.Sides[side].Capacity
	}
	v.Traffic.Failing = v.Sides[v.Live].Figures.FailingCount().Rate()
	e.judgeSplit(at)
	v.Split = e.split
	v.WayBack = e.wayBack(at, v.Traffic)
	if v.WaysOut, v.Alike = e.waysOut(v); len(v.WaysOut) > 0 {
		// those that are lost name no side, so that the rest says nothing of it
		v.Split = SplitView{Asked: v.Split.Asked}
	}
	v.Overlap = e.overlap(at)
	if b := e.bench(v.Live); !s.Stage.UnderWay() && b.Known && b.Instances > 0 {
		v.Dead = b.Healthy == 0
		_, tripped := e.tripped()
		_, ill := e.liveIll(at)
		v.Ails = len(s.Ails) > 0 && (tripped || ill)
		if v.Dead || v.Ails {
			v.Spare = Spare{Version: v.Sides[v.Live.Other()].Version, Healthy: b.Other}
		}
	}
	return v
}

// wayBack is the judgement on a rollback now.
func (e *Engine) wayBack(at time.Time, t forecast.Traffic) wayback.Readiness {
	s := e.state
	if s.Stage == crossing.None || s.Stage == crossing.CalledOff || s.Stage == crossing.RolledBack {
		return wayback.Readiness{}
	}
	home := s.Target.Other()
	v := e.sides[home].view
	f := wayback.Facts{
		Side: home, Healthy: v.Healthy, Instances: max(len(v.Instances), v.Wanted),
		FrontRead: e.front.failed == "" &&
			!e.front.at.IsZero(), Rehearsal: e.rehearsal, Rehearsed: wayback.SpreadOf(e.rehearsed),
		Rate: t.Rate, Peak: e.peak(at), Capacity: v.Capacity, Looks: e.looks,
		Retired: s.Stage == crossing.Settled && (!e.stands(home) || s.Out[home]),
	}
	_, f.Elsewhere = e.astray(at)
	if part := e.frontPart(home); !slices.ContainsFunc(part,
		func(c reading.Condition) bool { return c.State == reading.Healthy }) {
		f.Healthy, f.Instances = 0, len(part) // other parts answer nobody
	}
	if !e.sides[home].fresh(at) {
		f.Stale = at.Sub(v.At)
	}
	return wayback.Judge(f)
}

// waysOut is what can be done where a side that gets requests is known to be ill.
func (e *Engine) waysOut(v View) (ways []wayout.Way, alike bool) {
	s := e.state
	if !s.Stage.UnderWay() || s.GoingBack || s.Alone() {
		return nil, false
	}
	f := wayout.Facts{Target: s.Target, Share: s.Share, Moved: s.Moved, Proven: s.Proven, Rate: v.Traffic.Rate}
	for _, side := range split.Sides {
		b := e.lastBench(side)
		known := v.At.Sub(e.sides[side].view.At) <= knownFor
		f.Sides[side] = wayout.Side{Known: known, Healthy: b.Healthy, Instances: b.Instances,
			Capacity: v.Sides[side].Capacity, Bad: e.bad(v.At, side, figureSpan)}
	}
	return wayout.List(f), wayout.Alike(f)
}

// overlap is since when both sides have stood, and what the spare one has cost.
func (e *Engine) overlap(at time.Time) Overlap {
	var starts [2][]time.Time
	var o Overlap
	spare := e.live().Other()
	for _, side := range split.Sides {
		for _, i := range e.sides[side].view.Instances {
			if !i.Running {
				continue
			}
			starts[side] = append(starts[side], i.Started)
			if side != spare {
				continue
			}
			for _, part := range e.plan.Parts {
				if price := part.Stacks[side].Price; part.Name == i.Part && price.Unit != "" {
					o.Cost.Unit = price.Unit
					o.Cost.Amount += raise.Cost(price.Amount, []time.Time{i.Started}, at)
				}
			}
		}
	}
	since, ok := raise.Overlap(starts[split.Blue], starts[split.Green])
	if !ok {
		return Overlap{}
	}
	o.Since = since
	return o
}

// trackLength is how many points the track keeps, one a second.
const trackLength = 3600

// draw gathers the figures of a second into a point of the track.
func (e *Engine) draw(at time.Time) {
	p := &e.point
	if !p.At.IsZero() && at.Sub(p.At) >= time.Second {
		if n := len(e.track); n >= 2*trackLength {
			e.track = append([]Point(nil), e.track[n-trackLength:]...)
		}
		e.track = append(e.track, *p)
		e.peaks.add(*p)
		e.hours.add(*p)
		*p = Point{}
	}
	if p.At.IsZero() {
		p.At = at
	}
	requests, failing := e.series.Last()
	p.Planned = e.front.reading.Split.Share
	p.Green += requests[split.Green]
	p.All += requests[split.Blue] + requests[split.Green]
	p.Failing += failing[split.Blue] + failing[split.Green]
}

// hours are what the live side answered in each hour of the last day, while it answered everything.
type hours []hour

type hour struct {
	At    time.Time      `json:"at"`
	Count evidence.Count `json:"count"`
}

// mostHours is how many are kept.
const mostHours = 24

// add takes a second in.
func (h *hours) add(of Point) {
	if of.Planned != 0 && of.Planned != split.Whole || of.All == 0 {
		return
	}
	list := *h
	if at := of.At.Truncate(time.Hour); len(list) == 0 || !list[len(list)-1].At.Equal(at) {
		list = append(list[max(0, len(list)-mostHours+1):len(list):len(list)], hour{At: at})
	}
	last := &list[len(list)-1]
	last.Count = last.Count.Plus(evidence.Count{Bad: min(of.Failing, of.All), Of: of.All})
	*h = list
}

// counts are those of the hours within a day.
func (h hours) counts(at time.Time) []evidence.Count {
	var list []evidence.Count
	for _, of := range h {
		if at.Sub(of.At) < (mostHours+1)*time.Hour {
			list = append(list, of.Count)
		}
	}
	return list
}

// peaks finds the most requests a second that there were in a minute of the day.
type peaks struct {
	minute time.Time // the present one
	all    int64     // its requests so far
	most   float64   // of the minutes that are over
}

// add takes a second in.
func (p *peaks) add(of Point) {
	minute := of.At.Truncate(time.Minute)
	if !minute.Equal(p.minute) {
		if minute.Sub(p.minute) == time.Minute { // else it was not seen to its end
			p.most = max(p.most, float64(p.all)/time.Minute.Seconds())
		}
		if minute.Day() != p.minute.Day() {
			p.most = 0
		}
		p.minute, p.all = minute, 0
	}
	p.all += of.All
}

// peak is the most requests a second that there were in a minute of the day so far, 0 before
// there was one.
func (e *Engine) peak(at time.Time) float64 {
	if e.peaks.minute.Day() != at.Day() {
		return 0
	}
	return e.peaks.most
}

// Running are a side's instances that run, as last read.
func (e *Engine) Running(side split.Side) []reading.Instance {
	var list []reading.Instance
	for _, c := range e.sides[side].view.Instances {
		if c.Running {
			list = append(list, c.Instance)
		}
	}
	return list
}

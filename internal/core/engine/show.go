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
func (j *judgement) View(at time.Time) View {
	s := j.state
	r := j.front.reading
	failing, _ := j.plan.Guard(plan.Failing)
	v := View{
		At: at, Service: j.plan.Service, Ready: j.ready, Crossing: s, Left: max(j.left, 0), Planned: j.plan.Route,
		Keep: j.plan.Keep, Then: j.plan.Then,
		Live: j.live(), Typical: j.typical,
		Limits: [2]time.Duration{j.plan.RaiseLimit(split.Blue),
			j.plan.RaiseLimit(split.Green)}, Parts: parts(j.plan), Guards: j.statuses, Door: j.door,
		Track:    j.track[:len(j.track):len(j.track)],
		Guarding: j.guarding(), Sure: Sureness{Of: j.plan.Sure, Find: failing.Find}, Switch: j.change, Hole: j.hole,
		Hook: j.hook, Again: j.rested,
		Front: FrontView{At: j.front.at, Every: FrontEvery, Split: r.Split, Order: r.Order, Error: j.front.failed,
			Changes: j.front.changes, Apart: r.Apart, Unread: r.Unread, Notice: r.Notice, Blind: r.Blind,
			Own: j.series.Own(j.sharedSince(at, figureSpan)), Remembers: r.Remembers, Everywhere: j.everywhere()},
	}
	for _, side := range j.wanted(at) {
		if slices.ContainsFunc(j.sides[side].view.Instances,
			func(c reading.Condition) bool { return j.restarts(c.Instance) }) {
			v.Keeps = append(v.Keeps, side)
		}
	}
	if n := len(j.track); n > 0 {
		v.Drawn = j.track[n-1].At
	}
	if s.Timed() {
		v.Lacks = j.lacks(at)
		if j.left <= 0 || s.Stage == crossing.Proving { // until then the leg goes on
			v.Lacks = append(v.Lacks, j.forbidden(at)...)
		}
	}
	if s.Retiring() {
		v.Held = j.withheld(s.Task)
	}
	if _, until := s.UntilSure(); until {
		v.Sure.Unsure = j.unsure()
	}
	for _, side := range split.Sides {
		v.Sides[side] = j.sides[side].view
		f := j.series.Over(side, j.sharedSince(at, figureSpan), 0)
		since := at.Add(-rateSpan)
		if r.Sends(side) == 0 {
			since = j.sharedSince(at, rateSpan)
		}
		if lately := j.series.Count(side, since, 0); !lately.To.IsZero() {
			f.Rate = lately.Rate // else nothing was read lately: what was, with its age
		}
		v.Sides[side].Figures = f
		v.Sides[side].Served = j.series.Each(side, at)
		v.Sides[side].Open, v.Sides[side].Queue = r.Sides[side].Open, r.Sides[side].Queue
		v.Sides[side].Kept = r.Sides[side].Kept
		v.Sides[side].Out = s.Out[side]
		if list := j.strangers(side); len(list) > 0 && j.sides[side].fresh(at) {
			v.Sides[side].Strange = list
		}
		v.Sides[side].Restarts = j.restartsOf(side)
		v.Traffic.Rate += f.Rate
		v.Traffic.Capacity[side] = v.Sides[side].Capacity
	}
	if j.grouped() {
		live := s.Target.Other()
		for _, i := range r.Sides[live].Instances {
			if i.Control {
				v.Beside.Instances++
			}
		}
		v.Beside.Figures = j.beside.Over(live, j.sharedSince(at, figureSpan), 0)
	}
	if j.front.reading.Tells.Clients {
		for _, side := range split.Sides {
			v.Traffic.Clients += float64(j.series.Came(side))
			if j.front.reading.Split.Share.Of(side) > 0 {
				v.Traffic.Asking += float64(j.series.Asked(side))
			}
		}
		v.Traffic.Clients = max(v.Traffic.Clients, v.Traffic.Asking)
	}
	v.Traffic.Failing = j.series.Count(v.Live, at.Add(-figureSpan), 0).FailingCount().Rate() // under whatever share
	j.judgeSplit(at)
	v.Split = j.split
	v.WayBack = j.wayBack(at, v.Traffic)
	if v.WaysOut, v.Alike = j.waysOut(v); len(v.WaysOut) > 0 {
		// those that are lost name no side, so that the rest says nothing of it
		v.Split = SplitView{Asked: v.Split.Asked}
	}
	v.Overlap = j.overlap(at)
	if b := j.standing(v.Live); !s.Stage.UnderWay() && b.Known && b.Instances > 0 {
		v.Dead = b.Healthy == 0
		_, tripped := j.tripped()
		_, ill := j.liveIll(at)
		v.Ails = len(s.Ails) > 0 && (tripped || ill)
		if v.Dead || v.Ails {
			v.Spare = Spare{Version: v.Sides[v.Live.Other()].Version, Healthy: b.Other}
		}
	}
	return v
}

// sharedSince is the beginning of the last while, or when the share was last changed, if that is later: what a side
// answered under another share is no figure of now.
func (w *world) sharedSince(at time.Time, while time.Duration) time.Time {
	since := at.Add(-while)
	for _, changed := range []time.Time{w.settled, w.front.moved} {
		if changed.After(since) && changed.Before(at) {
			since = changed
		}
	}
	return since
}

// wayBack is the judgement on a rollback now.
func (k *sight) wayBack(at time.Time, t forecast.Traffic) wayback.Readiness {
	s := k.state
	if s.Stage == crossing.None || s.Stage == crossing.CalledOff || s.Stage == crossing.RolledBack {
		return wayback.Readiness{}
	}
	home := s.Target.Other()
	v := k.sides[home].view
	f := wayback.Facts{
		Side: home, Healthy: v.Healthy, Instances: max(len(v.Instances), v.Wanted),
		FrontRead: k.front.failed == "" &&
			!k.front.at.IsZero(), Rehearsal: k.rehearsal, Rehearsed: wayback.SpreadOf(k.rehearsed),
		Rate: t.Rate, Peak: k.peak(at), Capacity: v.Capacity, Looks: k.looks,
		Retired: s.Stage == crossing.Settled && (!k.stands(home) || s.Out[home]),
	}
	if k.front.reading.Sends(home) > 0 {
		f.Bad = k.bad(at, home, figureSpan)
	}
	_, f.Elsewhere = k.astray(at)
	if part := k.frontPart(home); !slices.ContainsFunc(part,
		func(c reading.Condition) bool { return c.State == reading.Healthy }) {
		f.Healthy, f.Instances = 0, len(part) // other parts answer nobody
	}
	if !k.sides[home].fresh(at) {
		f.Stale = at.Sub(v.At)
	}
	return wayback.Judge(f)
}

// waysOut is what can be done where a side that gets requests is known to be ill.
func (k *sight) waysOut(v View) (ways []wayout.Way, alike bool) {
	s := k.state
	if !s.Stage.UnderWay() || s.GoingBack || s.Alone() {
		return nil, false
	}
	f := wayout.Facts{Target: s.Target, Share: s.Share, Moved: s.Moved, Proven: s.Proven, Rate: v.Traffic.Rate}
	for _, side := range split.Sides {
		b := k.lastStanding(side)
		known := v.At.Sub(k.sides[side].view.At) <= knownFor
		f.Sides[side] = wayout.Side{Known: known, Healthy: b.Healthy, Instances: b.Instances,
			Capacity: v.Sides[side].Capacity, Bad: k.bad(v.At, side, figureSpan)}
		if k.front.reading.Sends(side) > 0 && k.front.fresh(v.At) {
			f.Sides[side].Answers = k.series.Count(side, k.sharedSince(v.At, figureSpan), 0).FailingCount()
		}
	}
	return wayout.List(f), wayout.Alike(f)
}

// overlap is since when both sides have stood, and what the spare one has cost.
func (k *sight) overlap(at time.Time) Overlap {
	var starts [2][]time.Time
	var o Overlap
	spare := k.live().Other()
	for _, side := range split.Sides {
		for _, i := range k.sides[side].view.Instances {
			if !i.Running {
				continue
			}
			starts[side] = append(starts[side], i.Started)
			if side != spare {
				continue
			}
			for _, part := range k.plan.Parts {
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
func (j *judgement) draw(at time.Time) {
	p := &j.point
	if !p.At.IsZero() && at.Sub(p.At) >= time.Second {
		if n := len(j.track); n >= 2*trackLength {
			j.track = append([]Point(nil), j.track[n-trackLength:]...)
		}
		j.track = append(j.track, *p)
		j.peaks.add(*p)
		j.hours.add(*p)
		j.countPoint(*p)
		*p = Point{}
	}
	if p.At.IsZero() {
		p.At = at
	}
	requests, failing := j.series.Last()
	p.Planned = j.front.reading.Split.Share
	p.Green += requests[split.Green]
	p.All += requests[split.Blue] + requests[split.Green]
	p.Failing += failing[split.Blue] + failing[split.Green]
	p.GreenFailing += failing[split.Green]
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
func (w *world) peak(at time.Time) float64 {
	if w.peaks.minute.Day() != at.Day() {
		return 0
	}
	return w.peaks.most
}

// Running are a side's instances that run, as last read.
func (w *world) Running(side split.Side) []reading.Instance {
	var list []reading.Instance
	for _, c := range w.sides[side].view.Instances {
		if c.Running {
			list = append(list, c.Instance)
		}
	}
	return list
}

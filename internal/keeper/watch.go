package keeper

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"vaiven/internal/check"
	"vaiven/internal/core/crossing"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/plan"
	"vaiven/internal/versions"
)

// watchFront reads the front again and again.
func (k *Keeper) watchFront(ctx context.Context) {
	every(ctx, frontEvery, func() {
		limited, cancel := context.WithTimeout(ctx, frontLimit)
		defer cancel()
		f := frontReading{asked: time.Now()}
		f.reading, f.err = k.Front.Read(limited)
		select {
		case k.fronts <- f:
		case <-ctx.Done():
		}
	})
}

// watchStacks reads the instances of a side and their health again and again. Each
// side is read for itself: hosts that do not answer on one must not make the other
// one's readings old.
func (k *Keeper) watchStacks(ctx context.Context, side split.Side) {
	monitor := check.NewMonitor(k.Plan, k.Secrets)
	var last []reading.Instance // as listed when all could be
	every(ctx, k.Plan.HealthEvery(), func() {
		r := round{side: side, begun: time.Now()}
		var list []reading.Instance
		if list, r.err = k.Stacks.List(ctx, side); r.err == nil {
			last = list
		} else {
			list = withHidden(list, last)
		}
		r.conditions = monitor.Round(ctx, list)
		r.at = time.Now()
		select {
		case k.rounds <- r:
		case <-ctx.Done():
		}
	})
}

// withHidden adds the instances that a list lacks because their host could not be
// asked: whether they answer is asked of themselves.
func withHidden(list, last []reading.Instance) []reading.Instance {
	for _, i := range last {
		if !slices.ContainsFunc(list, func(seen reading.Instance) bool { return seen.Part == i.Part && seen.Name == i.Name }) {
			list = append(list, i)
		}
	}
	return list
}

// every calls at once and then at the interval until the context ends.
func every(ctx context.Context, interval time.Duration, do func()) {
	ticker := time.NewTicker(interval)
	defer ticker.Stop()
	for {
		do()
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// frontRead takes in a reading of the front: its figures, and whether somebody
// else changed it.
func (k *Keeper) frontRead(ctx context.Context, f frontReading) {
	k.synced = false
	v := &k.view.Front
	v.Every = frontEvery
	if f.err != nil {
		v.Error = f.err.Error()
		return
	}
	if err := k.series.Add(f.reading); err != nil {
		slog.Error("figures of the front", "err", err)
	}
	*v = FrontView{At: f.asked, Every: frontEvery, Split: f.reading.Split, Notice: f.reading.Notice}
	k.reading = f.reading
	now := time.Now()
	k.compare(ctx, now, f)
	k.draw(now)
	k.measure(now)
	k.watchGuards(ctx, now)
	k.syncInstances(ctx)
}

// compare holds the share that was read against the one that is remembered.
func (k *Keeper) compare(ctx context.Context, now time.Time, f frontReading) {
	s := f.reading.Split
	event := crossing.Event{At: now, By: self}
	switch {
	case k.state.Stage == crossing.None:
		k.resumed, k.revision = true, s.Revision
		return
	case !k.resumed && !k.stacksWereRead():
		return // the next reading is soon, and then we know what to say of them
	case !k.resumed:
		event.What = crossing.Resumed{Share: s.Share, Found: k.found(s)}
	case k.homing.Load() > 0 || f.asked.Before(k.settled) || s.Revision == k.revision || k.state.Pending.Do == crossing.ApplyShare && k.state.Pending.ID != 0:
		return // read before our own change was through, or unchanged, or about to change
	default:
		event.What = crossing.Changed{Share: s.Share}
	}
	if err := k.take(ctx, event); err != nil {
		return // the logbook; the next reading tries again
	}
	k.resumed, k.revision = true, s.Revision
}

func (k *Keeper) stacksWereRead() bool {
	for _, v := range k.view.Sides {
		if v.At.IsZero() && v.Error == "" {
			return false
		}
	}
	return true
}

// found says what was found at the start in the middle of a crossing.
func (k *Keeper) found(s reading.Split) string {
	text := fmt.Sprintf("the front sends %v to green", s.Share)
	if s.Share != k.state.Share {
		text += fmt.Sprintf(", the notes said %v", k.state.Share)
	}
	for _, side := range split.Sides {
		v := k.view.Sides[side]
		text += fmt.Sprintf(", %v runs %d of %d", side, running(v.Instances), v.Wanted)
	}
	return text
}

func running(conditions []reading.Condition) int {
	n := 0
	for _, c := range conditions {
		if c.Running {
			n++
		}
	}
	return n
}

// stacksRead takes in a round of a side's instances.
func (k *Keeper) stacksRead(ctx context.Context, r round) {
	k.sideRead(r)
	if r := k.raising; r.started {
		k.watchRaise(time.Now())
		k.work(ctx)
	}
	k.syncInstances(ctx)
}

// sideRead shows a side as it was read, unless its instances were changed since.
func (k *Keeper) sideRead(r round) {
	if r.begun.Before(k.cleared[r.side]) {
		return
	}
	v := &k.view.Sides[r.side]
	v.Every, v.Wanted, v.Error = k.Plan.HealthEvery(), k.Plan.Wanted(r.side), ""
	if r.err != nil {
		v.Error = r.err.Error()
	}
	if r.err != nil && len(r.conditions) == 0 {
		return
	}
	v.At, v.Instances, v.Healthy = r.at, r.conditions, 0
	var names, builds []string
	carrying := 0
	main := k.Plan.Main()
	for _, c := range v.Instances {
		if c.State == reading.Healthy {
			v.Healthy++
		}
		if c.Part != main.Name {
			continue
		}
		names = addOnce(names, c.Version)
		builds = addOnce(builds, versions.Short(c.Build))
		if c.State == reading.Healthy {
			carrying++
		}
	}
	v.Version, v.Build = strings.Join(names, " and "), strings.Join(builds, " and ")
	k.Prober.Sides([2]string{k.view.Sides[split.Blue].Version, k.view.Sides[split.Green].Version})
	v.Capacity = main.Stacks[r.side].Capacity * float64(carrying)
}

func addOnce(list []string, text string) []string {
	if slices.Contains(list, text) {
		return list
	}
	return append(list, text)
}

// trackLength is how many points the track keeps, one a second.
const trackLength = 3600

// draw gathers the figures of a second into a point of the track.
func (k *Keeper) draw(now time.Time) {
	p := &k.point
	if !p.At.IsZero() && now.Sub(p.At) >= time.Second {
		if n := len(k.view.Track); n >= 2*trackLength {
			k.view.Track = append([]Point(nil), k.view.Track[n-trackLength:]...)
		}
		k.view.Track = append(k.view.Track, *p)
		*p = Point{}
	}
	if p.At.IsZero() {
		p.At = now
	}
	requests, failing := k.series.Last()
	p.Planned = k.reading.Split.Share
	p.Green += requests[split.Green]
	p.All += requests[split.Blue] + requests[split.Green]
	p.Failing += failing[split.Blue] + failing[split.Green]
}

// measure takes the displayed figures from the series.
func (k *Keeper) measure(now time.Time) {
	total := 0.0
	for _, side := range split.Sides {
		v := &k.view.Sides[side]
		v.Figures = k.series.Over(side, now.Add(-figureSpan), 0)
		v.Figures.Rate = k.series.Count(side, now.Add(-rateSpan), 0).Rate
		v.Open = k.reading.Sides[side].Open
		total += v.Figures.Rate
	}
	k.view.Traffic = route.Traffic{Rate: total}
	for _, side := range split.Sides {
		k.view.Traffic.Capacity[side] = k.view.Sides[side].Capacity
	}
	k.judgeSplit(now)
	live := k.view.Sides[k.live()].Figures
	k.view.Traffic.Failing = live.FailingCount().Rate()
}

// live is the side that the service lives on: the crossing's word while there is
// one, else the front's.
func (k *Keeper) live() split.Side {
	if k.state.Stage.UnderWay() {
		return k.state.Live()
	}
	if k.view.Front.Split.Share > split.Whole/2 {
		return split.Green
	}
	return split.Blue
}

// watchGuards evaluates the guards while traffic is on the target, and sounds
// the alarm of the first that trips.
func (k *Keeper) watchGuards(ctx context.Context, now time.Time) {
	s := k.state
	moving := s.Stage == crossing.Shift || s.Stage == crossing.Keep
	switch {
	case !moving:
		k.since = time.Time{}
	case k.since.IsZero():
		k.since = now
	}
	if s.Stage.Over() {
		return // the guards' last word stays
	}
	k.view.Guards = k.guards.watch(now, k.since, s.Target, &k.series, k.view.Sides[s.Target])
	for _, g := range k.view.Guards {
		if g.State != Tripped {
			delete(k.overruled, g.Name)
		}
	}
	tripped, ok := alarm(k.view.Guards, k.overruled)
	if ok && moving && !s.GoingBack && !(tripped.Action == plan.Freeze && s.Frozen != "") {
		if err := k.take(ctx, crossing.Event{At: now, By: "guard", What: tripped}); err != nil {
			slog.Error("guard", "err", err)
		}
	}
}

// overrule takes note that a person goes on in spite of guards that froze the
// route. They watch again once they have been clear.
func (k *Keeper) overrule() {
	for _, g := range k.view.Guards {
		if g.State == Tripped {
			k.overruled[g.Name] = true
		}
	}
}

// wayBack is the judgement on a rollback now.
func (k *Keeper) wayBack(now time.Time) wayback.Readiness {
	if k.state.Stage == crossing.None || k.state.Stage == crossing.CalledOff || k.state.Stage == crossing.RolledBack {
		return wayback.Readiness{}
	}
	home := k.state.Target.Other()
	v := k.view.Sides[home]
	f := wayback.Facts{
		Side: home, Healthy: v.Healthy, Instances: max(len(v.Instances), v.Wanted),
		FrontRead: k.view.Front.Error == "" && !k.view.Front.At.IsZero(),
		Switched:  k.view.Switch.Took, SwitchedAt: k.view.Switch.At,
		Retired: k.state.Stage == crossing.Settled,
	}
	if age := now.Sub(v.At); age > 5*v.Every {
		f.Stale = age
	}
	if v.Capacity > 0 {
		f.Load = k.view.Traffic.Rate / v.Capacity
	}
	return wayback.Judge(f, now)
}

// overlap is since when both sides have stood, and what the spare one has cost.
func (k *Keeper) overlap(now time.Time) Overlap {
	var starts [2][]time.Time
	var o Overlap
	spare := k.live().Other()
	for _, side := range split.Sides {
		for _, i := range k.view.Sides[side].Instances {
			if !i.Running {
				continue
			}
			starts[side] = append(starts[side], i.Started)
			if side != spare {
				continue
			}
			for _, part := range k.Plan.Parts {
				if price := part.Stacks[side].Price; part.Name == i.Part && price.Unit != "" {
					o.Cost.Unit = price.Unit
					o.Cost.Amount += raise.Cost(price.Amount, []time.Time{i.Started}, now)
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

func (k *Keeper) parts() []Part {
	list := make([]Part, len(k.Plan.Parts))
	for n, p := range k.Plan.Parts {
		list[n] = Part{Name: p.Name, Wanted: [2]int{p.Stacks[0].Instances, p.Stacks[1].Instances}}
	}
	return list
}

// publish makes a snapshot and sends it to whoever watches.
func (k *Keeper) publish(now time.Time) {
	s := k.view
	s.At, s.Service, s.Crossing, s.Begun = now, k.Plan.Service, k.state, k.begun
	s.Ready = k.resumed
	s.Planned, s.Keep, s.Then = k.Plan.Route, k.Plan.Keep, k.Plan.Then
	failing, _ := k.Plan.Guard(plan.Failing)
	s.Bound, s.Live = failing.Bound, k.live()
	s.WayBack = k.wayBack(now)
	s.Door = k.Prober.Report(now)
	s.Overlap = k.overlap(now)
	s.Parts = k.parts()
	s.Track = k.view.Track[:len(k.view.Track):len(k.view.Track)]
	k.latest.Store(&s)
	k.hub.publish(s)
}

package engine

import (
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

const (
	// missingLeast is for how long the prober is answered, and a front has counted none of that, until what it counts
	// is not known; lateTimes is how many times as long as its counts are late at most it has to be.
	missingLeast = 5 * time.Second
	lateTimes    = 3
	// missingOf is how many answers that has to be, at least.
	missingOf = 3
	// neverOf is after how many answers to the prober a log that has told of none is said not to tell of any.
	neverOf = 100
)

// probes holds what a front has counted of the prober's requests against what the prober was answered: who counts by
// a log counts nothing when that is not written any more, and no requests are no failures.
type probes struct {
	begun   bool
	counted int64
	grew    time.Time     // when it has counted some last
	asked   time.Time     // since when the prober has been answered without that, zero if it has not
	late    time.Duration // by how much its counts have been late, at most
}

// logs holds each log of a front against the prober, and says in the reading what came of it: which is not written any
// more, or which has never told of the prober.
func (w *world) logs(at time.Time, r *reading.Front) {
	for _, l := range r.Logs {
		p := w.probes[l.Front]
		if p == nil {
			p = &probes{}
			w.probes[l.Front] = p
		}
		of := ""
		if l.Front != "" {
			of = " of " + l.Front
		}
		switch {
		case r.Blind != "":
			p.asked = time.Time{}
		case p.read(at, l.Probes, w.door):
			r.Blind = "the log" + of + " has none of the prober's requests any more: it is not written, or elsewhere"
		case l.Probes == 0 && w.door.Over(w.begun).Of() >= neverOf && r.Notice == "":
			r.Notice = "whether the log" + of + " is still written cannot be verified: it has none of the prober's " +
				"requests (vaiven front PLAN prints its format)"
		}
	}
}

// read takes in how many of the prober's requests a log has told of, and reports whether it is missing some that were
// answered. One that has never told of any cannot miss them.
func (p *probes) read(at time.Time, counted int64, d reading.Door) bool {
	if counted == 0 {
		p.asked = time.Time{}
		return false
	}
	answered := int64(0)
	for _, e := range d.Ended {
		if !p.begun || !e.At.After(p.grew) {
			continue
		}
		answered += e.Good()
		if answered > 0 && p.asked.IsZero() {
			p.asked = e.At
		}
	}
	if !p.begun || counted != p.counted {
		// all of it came: it was late
		if came := counted - p.counted; p.begun && !p.asked.IsZero() && 4*came >= 3*answered {
			p.late = max(p.late, at.Sub(p.asked))
		}
		*p = probes{begun: true, counted: counted, grew: at, late: p.late}
		return false
	}
	return !p.asked.IsZero() && answered >= missingOf && at.Sub(p.asked) > max(missingLeast, lateTimes*p.late)
}

const (
	// astrayOver is the time whose requests are held against the share, and astrayLeast how many of them there have
	// to be.
	astrayOver  = 10 * time.Second
	astrayLeast = 10
	// astrayTail is how long requests that were under way at a change may still be counted.
	astrayTail = 3 * time.Second
	// astrayPart is the part of all requests that a side with no share may still be counted to have got: slow ones of
	// before.
	astrayPart = 0.1
	// astrayNone is how many requests a side should have had that got none: by chance that is one time in a million.
	astrayNone = 14
)

// astray reports whether users get something else than the front's configuration says, so grossly that no chance and
// no tail that is known explains it: a side without a share gets requests, or one with a share gets none.
func (k *sight) astray(at time.Time) (crossing.Lack, bool) {
	r := k.front.reading
	if k.plan.Front.Sticky || r.Sessions { // clients may stay where they were
		return crossing.Lack{}, false
	}
	if !k.front.fresh(at) || !r.Tells.Counts || r.Blind != "" || len(r.Apart) > 0 || r.Sides[split.Blue].Queue != nil ||
		r.Sides[split.Green].Queue != nil {
		return crossing.Lack{}, false
	}
	from := at.Add(-astrayOver)
	for _, changed := range []time.Time{r.Split.Since, k.settled, k.front.moved, k.everywhere(), k.begun} {
		if quiet := changed.Add(astrayTail); quiet.After(from) {
			from = quiet
		}
	}
	var got [2]int64
	for _, side := range split.Sides {
		c := k.series.Count(side, from, 0)
		got[side] = c.Requests + c.Hanging
	}
	all := got[split.Blue] + got[split.Green]
	if all < astrayLeast {
		return crossing.Lack{}, false
	}
	for _, side := range split.Sides {
		share := r.Split.Share.Of(side)
		l := crossing.Lacking(crossing.LackAstray{OfSide: crossing.OfSide{Side: side}, Have: got[side], Need: all,
			Share: share})
		switch {
		case share == 0 && got[side] >= astrayLeast && float64(got[side]) >= astrayPart*float64(all):
			return l, true
		case share > 0 && got[side] == 0 && share.Fraction()*float64(all) >= astrayNone &&
			(share == split.Whole || !k.plan.Front.Together()):
			return l, true
		}
	}
	return crossing.Lack{}, false
}

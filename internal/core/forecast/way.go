package forecast

import (
	"cmp"
	"math"
	"slices"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

// Faults are the sizes that a route is weighed for: as rates of failing answers beyond the live
// side's.
var Faults = []float64{0.005, 0.01, 0.05, 0.2}

// Hit is what a fault of one size does until it is found, or until the time is over.
type Hit struct {
	Fault  float64 `json:"fault"`
	Found  float64 `json:"found"`         // chance that it is found within the time
	Middle float64 `json:"requests"`      // requests that fail because of it, in the middle
	Most   float64 `json:"requests_most"` // and in all but one case of ten
	// clients that meet one of these, in the middle; 0 if clients are not known
	Clients float64 `json:"clients,omitempty"`
	After   float64 `json:"after,omitempty"` // seconds until it is found, in the middle of the cases in which it is
	Late    float64 `json:"late,omitempty"`  // and in all but one of ten of them
}

// LegOutlook is what one leg means.
type LegOutlook struct {
	Leg      route.Leg `json:"leg"`
	Seconds  float64   `json:"seconds"`           // that it is to last, at most
	Requests float64   `json:"requests"`          // that see the new side by then
	Clients  float64   `json:"clients,omitempty"` // that do; 0 if clients are not known
	Load     float64   `json:"load,omitempty"`    // of the new side's capacity; 0 if that is not known
	Hits     []Hit     `json:"hits"`              // by [Faults]: of a fault that begins with it
	// seconds until the fault to find is excluded, of a leg until sure; 0 if that cannot be told
	Sure float64 `json:"sure_in,omitempty"`
}

// Weighed is a whole route.
type Weighed struct {
	Legs   []LegOutlook `json:"legs"`    // the last one lasts as long as the keep
	Whole  []Hit        `json:"whole"`   // by [Faults]: of a fault that is there from the first request that moves
	AtOnce []Hit        `json:"at_once"` // the same, with everything moved at once
	// Harm is how many requests a bad release is to be expected to cost: the mean over the sizes of
	// fault that the plan does not allow, each as likely as the others.
	Harm       float64 `json:"harm"`
	HarmAtOnce float64 `json:"harm_at_once"`
}

// Common is the place among [Faults] of the one that outlooks are reckoned for, or of the next larger one that the plan
// does not allow: nobody looks for what it allows.
func (q Question) Common() int {
	n := slices.IndexFunc(Faults, func(f float64) bool { return f >= Fault && f > q.Margin })
	if n < 0 {
		return len(Faults) - 1
	}
	return n
}

// Runs is how often each fault is played.
const Runs = 200

// Question is what a route is weighed by.
type Question struct {
	Traffic
	Guarding
	Asks      Clients // of an access log; the zero value is not known
	Target    split.Side
	Keep      time.Duration
	Find      float64 // the fault that a leg until sure has to exclude
	Certainty float64 // with which
}

// Weigh plays a route. It takes some tenths of a second.
func (q Question) Weigh(legs route.Route) Weighed {
	var w Weighed
	for n := range legs {
		w.Legs = append(w.Legs, q.leg(legs, n))
	}
	whole, once := stretches(legs, q.Keep), stretches(route.Route{{Part: split.Whole}}, q.Keep)
	for _, fault := range Faults {
		w.Whole = append(w.Whole, q.hit(whole, fault))
		w.AtOnce = append(w.AtOnce, q.hit(once, fault))
	}
	w.Harm, w.HarmAtOnce = q.harm(w.Whole), q.harm(w.AtOnce)
	return w
}

// harm is the mean over the faults that the plan does not allow.
func (q Question) harm(hits []Hit) float64 {
	sum, n := 0.0, 0
	for _, h := range hits {
		if h.Fault > q.Margin {
			sum += h.Middle
			n++
		}
	}
	return sum / float64(max(n, 1))
}

// Suggested are the shares and times that routes are suggested of.
var (
	suggestedShares = [][]split.Share{{}, {2500}, {500, 2500}, {100, 500, 2500}, {100, 500, 2500, 5000}}
	suggestedTimes  = []time.Duration{30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute}
)

// Suggest is the shortest of some usual routes on which a bad release costs no more requests than a bound,
// and what it costs; false if none does. It takes some seconds.
func (q Question) Suggest(most float64) (route.Route, float64, bool) {
	var list []route.Route
	for _, shares := range suggestedShares {
		for _, dwell := range suggestedTimes {
			var r route.Route
			for _, share := range shares {
				r = append(r, route.Leg{Part: share, Dwell: dwell})
			}
			list = append(list, append(r, route.Leg{Part: split.Whole}))
		}
	}
	total := func(r route.Route) time.Duration { return r.Forecast(0, 0).Total }
	slices.SortStableFunc(list, func(a, b route.Route) int {
		return cmp.Or(cmp.Compare(total(a), total(b)), cmp.Compare(len(a), len(b)))
	})
	for n, r := range list {
		if n > 0 && slices.Equal(r, list[n-1]) {
			continue
		}
		var hits []Hit
		for _, fault := range Faults {
			if fault > q.Margin {
				hits = append(hits, q.hit(stretches(r, q.Keep), fault))
			}
		}
		if harm := q.harm(hits); harm <= most {
			return r, harm, true
		}
	}
	return nil, 0, false
}

// BesideControl is how many times as long guards take with a part of the requests on the new side to be as certain,
// where they compare it with a control group that gets as much, and not with all others. The variance of a difference
// of two rates is σ²(1/n₁ + 1/n₂), and of n requests in all n·p are on the new side: σ²·2/(n·p) in place of
// σ²/(n·p·(1 − p)).
func BesideControl(part split.Share) float64 { return 2 * (1 - part.Fraction()) }

// stretch is a time at one share.
type stretch struct {
	part    float64 // of the requests, on the new side
	beside  float64 // and with those that it is compared with: the live side, or its control group
	seconds float64
}

// stretches are a route's, the last one as long as the keep. A leg that ends when one is sure is
// taken to last as long as it may.
func stretches(legs route.Route, keep time.Duration) []stretch {
	var list []stretch
	for n, l := range legs {
		s := stretch{l.Part.Fraction(), 1 - l.Part.Fraction(), l.Dwell.Seconds()}
		if l.Control {
			s.beside = s.part
		}
		if n == len(legs)-1 {
			s.seconds = keep.Seconds()
		}
		list = append(list, s)
	}
	return list
}

func (q Question) leg(legs route.Route, n int) LegOutlook {
	l := legs[n]
	s := stretches(legs, q.Keep)[n]
	o := LegOutlook{Leg: l, Seconds: s.seconds, Requests: q.Rate * s.part * s.seconds}
	if q.Capacity[q.Target] > 0 {
		o.Load = q.Rate * s.part / q.Capacity[q.Target]
	}
	for _, fault := range Faults {
		o.Hits = append(o.Hits, q.hit([]stretch{s}, fault))
	}
	o.Clients = q.Asks.meet(s.part, s.seconds, 1)
	if l.Sure && q.Find > 0 {
		f := evidence.Flow{Live: q.Rate * s.beside, Trial: q.Rate * s.part, Base: q.Failing}
		if q.by(q.Guarding) { // each client that asks is one answer, in each block
			rate := q.Asking / clientBlock
			f.Live, f.Trial = rate*(1-s.part), rate*s.part
		}
		if in := f.ToExclude(q.Find, 1-q.Certainty); !math.IsInf(in, 1) {
			o.Sure = in
		}
	}
	return o
}

// meet is how many clients meet at least one bad answer, where a part of each one's requests sees
// the new side and a rate of those is bad: C·(1 − E[(1 − d)^k]) with the requests k of each. A
// client that stays on its side meets all or none of it: the mean is the same for small rates, and
// smaller for large ones.
func (c Clients) meet(part, seconds, bad float64) float64 {
	if len(c.Asks) == 0 || seconds <= 0 {
		return 0
	}
	none := 0.0
	for _, asks := range c.Asks {
		none += math.Pow(1-min(bad*part, 1), asks*seconds)
	}
	come := float64(c.Of) * max(1, seconds/max(c.Span, 1)) // those of another time are others
	return come * (1 - none/float64(len(c.Asks)))
}

// played is what came of one time.
type played struct {
	failed  float64 // requests
	at      float64 // seconds until it was found, infinite if it was not
	clients float64
}

// hit plays a fault that is there from the start of some stretches.
func (q Question) hit(over []stretch, fault float64) Hit {
	h := Hit{Fault: fault}
	r := random()
	var runs []played
	for range Runs {
		runs = append(runs, q.play(r, over, fault))
	}
	found := 0
	var failed, after, clients []float64
	for _, p := range runs {
		failed, clients = append(failed, p.failed), append(clients, p.clients)
		if !math.IsInf(p.at, 1) {
			found++
			after = append(after, p.at)
		}
	}
	h.Found = float64(found) / Runs
	h.Middle, h.Most = at(failed, 0.5), at(failed, 0.9)
	h.Clients = at(clients, 0.5)
	if len(after) > 0 {
		h.After, h.Late = at(after, 0.5), at(after, 0.9)
	}
	return h
}

// at is the value below which such a part of a list lies.
func at(list []float64, part float64) float64 {
	s := slices.Sorted(slices.Values(list))
	return s[min(int(part*float64(len(s))), len(s)-1)]
}

// play goes along some stretches until the fault is found.
func (q Question) play(r *numbers, over []stretch, fault float64) played {
	fault = min(fault, 1-q.Failing)
	p := played{at: math.Inf(1)}
	least := Every.Seconds()
	if q.by(q.Guarding) {
		least = clientBlock
	}
	w := newWatched(q.Traffic, q.Guarding, r, least)
	passed, moved := 0.0, 0.0
	for _, s := range over {
		if s.seconds <= 0 || s.part <= 0 {
			continue
		}
		if fault <= q.Margin { // it is allowed: nobody looks for it
			p.failed += float64(poisson(r, q.Rate*s.part*s.seconds*fault))
			passed, moved = passed+s.seconds, moved+s.seconds*s.part
			continue
		}
		for spent, block := 0.0, 0.0; spent < s.seconds; spent += block {
			block = min(max(least, spent/20), s.seconds-spent) // as coarse as does not matter
			trial := w.play(s, fault, block, spent >= Grace.Seconds())
			p.failed += float64(binomial(r, trial.Bad, fault/(fault+q.Failing)))
			passed += block
			moved += block * s.part
			if w.found() {
				p.at = passed
				p.clients = q.Asks.meet(moved/passed, passed, fault)
				return p
			}
		}
	}
	if passed > 0 {
		p.clients = q.Asks.meet(moved/passed, passed, fault)
	}
	return p
}

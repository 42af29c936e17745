package forecast

import (
	"math"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/reading"
)

// clientBlock is how long clients are counted together, in seconds.
var clientBlock = reading.ClientBlock.Seconds()

// by reports whether a guard counts clients of this traffic.
func (t Traffic) by(g Guarding) bool {
	return g.Together && t.Clients >= 1 && t.Asking > 0 && t.Rate > 0
}

// Of is the traffic with the clients of an access log, where it does not know any itself.
func (t Traffic) Of(c Clients) Traffic {
	if t.Clients > 0 || c.Of == 0 || len(c.Asks) == 0 {
		return t
	}
	asking := 0.0
	for _, asks := range c.Asks {
		asking += 1 - math.Exp(-asks*clientBlock)
	}
	t.Clients = float64(c.Of)
	t.Asking = t.Clients * asking / float64(len(c.Asks))
	return t
}

// watched plays what both sides are asked, and has a guard judge it, by what it counts.
type watched struct {
	Traffic
	Guarding
	r     *numbers
	worse *evidence.Worse
	sides [2]crowd // of clients: the live side's, and the new one's
	part  float64  // of the clients on the new side
	high  float64  // what the live side's rate is held to have been, once it gets nothing; 1 if too little is known
	first bool     // clients count by their first answer in a block: with any of them too many would
	more  float64  // that the evidence has to come to, as a logarithm: it counts in two ways
}

// crowd is how many clients of a side were never bad, are at risk again, and are not at risk.
type crowd struct{ never, again, out float64 }

func newWatched(t Traffic, g Guarding, r *numbers, block float64) *watched {
	w := &watched{Traffic: t, Guarding: g, r: r, worse: evidence.NewWorse(g.Margin, g.blocks(block)), part: -1}
	w.worse.Live = base(t.Failing)
	w.high = past(t.Failing, t.Rate)
	if t.by(g) {
		w.first = w.turns(t.Failing, false) > 0.3
		w.more = math.Log(reading.Grades)
		rate := w.turns(t.Failing, w.first)
		w.worse.Live, w.worse.Again = base(rate), base(rate)
		w.high = past(rate, t.Asking/clientBlock)
	}
	return w
}

// The past that guards compare with when all requests have moved.
const (
	// Lately is how far back it reaches, and PastLeast how many answers it has to have.
	Lately    = 2 * time.Minute
	PastLeast = 20
	// PastHides is how much of it may be bad, as far as it can be told: one that could hide that every third answer
	// fails is none.
	PastHides = 0.3
)

// past is what the live side's rate is held to have been at most, by so many answers a second.
func past(failing, rate float64) float64 {
	of := rate * Lately.Seconds()
	high := evidence.Ceiling([]evidence.Count{{Bad: int64(math.Round(failing * of)), Of: int64(of)}})
	if of < PastLeast || high >= PastHides {
		return 1
	}
	return high
}

// turns is the chance that a client that asks turns bad in a block at a rate of bad answers.
func (w *watched) turns(rate float64, first bool) float64 {
	if first {
		return rate
	}
	return 1 - math.Pow(1-rate, max(w.Rate*clientBlock/w.Asking, 1))
}

// play lets some seconds pass with a part of the requests on the new side, of which so many more fail, and returns what
// that answered. What comes right after a change is played and not judged.
func (w *watched) play(s stretch, fault, seconds float64, judged bool) evidence.Count {
	part := s.part
	w.worse.Horizon = w.blocks(seconds)
	b := play(w.r, w.Failing, fault, w.Rate*s.beside*seconds, w.Rate*part*seconds)
	if w.by(w.Guarding) {
		w.clients(part, fault, seconds, judged)
		return b.Trial
	}
	switch {
	case !judged:
	case part < 1:
		w.worse.Add(b)
	case w.high < 1:
		w.worse.AddAgainst(w.high, b.Trial)
	}
	return b.Trial
}

// clients plays blocks of them.
func (w *watched) clients(part, fault, seconds float64, judged bool) {
	if part != w.part { // who goes over takes its past along
		all := crowd{w.sides[0].never + w.sides[1].never, w.sides[0].again + w.sides[1].again, w.sides[0].out +
			w.sides[1].out}
		if w.part < 0 {
			all.never = w.Clients
		}
		w.part = part
		w.sides = [2]crowd{all.times(1 - part), all.times(part)}
	}
	blocks, asks := seconds/clientBlock, min(w.Asking/w.Clients, 1)
	var strata [2]evidence.Block
	for side, rate := range []float64{w.Failing, w.Failing + fault} {
		never, again := w.sides[side].pass(w.r, asks, w.turns(rate, w.first), blocks)
		if side == 0 {
			strata[0].Live, strata[1].Live = never, again
		} else {
			strata[0].Trial, strata[1].Trial = never, again
		}
	}
	switch {
	case !judged:
	case part < 1:
		w.worse.AddStrata(strata[:])
	case w.high < 1:
		w.worse.AddAgainst(w.high, strata[0].Trial)
	}
}

func (c crowd) times(part float64) crowd { return crowd{c.never * part, c.again * part, c.out * part} }

// pass lets blocks pass in which a client asks with a chance, and turns bad with another if it is at risk. It returns
// who was at risk, and turned bad, of those that never had, and of the others.
func (c *crowd) pass(r *numbers, asks, turns, blocks float64) (never, again evidence.Count) {
	of := func(pool *float64) evidence.Count {
		risk := binomial(r, int64(math.Round(*pool)), min(asks, 1))
		left := 1 - math.Pow(1-turns, blocks) // in all of the blocks, for who asks in each
		bad := binomial(r, risk, left)
		*pool -= float64(bad)
		c.out += float64(bad)
		// Who turns bad was at risk until then.
		stood := blocks
		if turns > 0 {
			stood = left / turns
		}
		return evidence.Count{Bad: bad, Of: max(int64(math.Round(float64(risk)*stood)), bad)}
	}
	never, again = of(&c.never), of(&c.again)
	heal := min(c.out*asks*blocks/reading.ClientHeals*math.Pow(1-turns, reading.ClientHeals), c.out)
	c.out, c.again = c.out-heal, c.again+heal
	return never, again
}

// found reports whether the guard has tripped.
func (w *watched) found() bool {
	return evidence.SureOf(w.worse.Log()-w.more, 1) >= 1-w.Level
}

package embedded

import (
	"math/rand/v2"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// table is one whole setting of the front. It is replaced, never changed.
type table struct {
	split reading.Split
	order reading.Order // the last going home
	sides [2]pool
	whole split.Side // which had all requests last
	seed  string     // of the split key's hash
}

// pool is one side of a table.
type pool struct {
	instances []*instance
	out       []bool   // by instance: it gets no new requests while others can take them
	control   []bool   // by instance: it is of a control group
	beside    *float64 // the part of the requests that those get; nil where there is no group
	draining  bool
	// how often the side was released: drained, or everybody was taken home from it. Sessions of before have ended
	epoch uint64
	tally *tally // the same from table to table
}

// tally counts per side.
type tally struct {
	open  atomic.Int64
	waits atomic.Int64 // of them, those whose answer has not begun
	lost  atomic.Int64

	// The most that waited at once in the last minute or two in which one side had all requests.
	peak, peakBefore atomic.Int64
}

// waiting counts a request that waits for its answer from now on, and returns how many do.
func (t *tally) waiting() int64 { return t.waits.Add(1) }

// carry notes how many waited at once.
func (t *tally) carry(n int64) {
	for {
		most := t.peak.Load()
		if n <= most || t.peak.CompareAndSwap(most, n) {
			return
		}
	}
}

// carried is the most that waited at once lately.
func (t *tally) carried() int64 { return max(t.peak.Load(), t.peakBefore.Load()) }

// turn begins the next minute.
func (t *tally) turn() { t.peakBefore.Store(t.peak.Swap(t.waits.Load())) }

// instance is one address with what it answered. It is the same from table to
// table as long as name, address and version are.
type instance struct {
	reading.Server // but for Out and Control, which may change

	open      atomic.Int64
	requests  atomic.Int64
	status    [6]atomic.Int64
	failures  atomic.Int64
	left      atomic.Int64 // clients that gave up before an answer began
	probes    atomic.Int64 // answers to the prober, which are not in requests
	waits     waits
	downUntil atomic.Int64 // Unix nanoseconds until which it is avoided, after a failed connection

	mu      sync.Mutex // protects latency
	latency *hdrhistogram.Histogram
}

func newInstance(i reading.Server) *instance {
	i.Out, i.Control = false, false
	return &instance{Server: i, latency: reading.NewHistogram()}
}

// avoided is how long an instance is passed over after it refused a connection.
const avoided = time.Second

// answered counts an answer's status and its time to the first byte. What fails at its end is counted
// by [instance.failed].
func (i *instance) answered(status int, took time.Duration) {
	i.requests.Add(1)
	if class := status / 100; class > 0 && class < len(i.status) {
		i.status[class].Add(1)
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	reading.Record(i.latency, took)
}

// absorb adds what another process counted.
func (i *instance) absorb(c reading.Count) {
	i.requests.Add(c.Requests)
	i.failures.Add(c.Failures)
	i.left.Add(c.Left)
	i.probes.Add(c.Probes)
	for class := range c.Status {
		i.status[class].Add(c.Status[class])
	}
	if h, err := c.Histogram(); err == nil {
		i.mu.Lock()
		defer i.mu.Unlock()
		i.latency.Merge(h)
	}
}

// count is the instance's figures as of now.
func (i *instance) count() reading.Count {
	c := reading.Count{Server: i.Server, Open: i.open.Load(), Requests: i.requests.Load(), Failures: i.failures.Load(),
		Left: i.left.Load(), Probes: i.probes.Load(), Waiting: i.waits.longer(time.Now())}
	for class := range c.Status {
		c.Status[class] = i.status[class].Load()
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.latency.TotalCount() > 0 {
		c.Latency = reading.Encode(i.latency)
	}
	return c
}

// described is what an instance of the pool was made of, and how it stands.
func (p *pool) described(n int) reading.Server {
	d := p.instances[n].Server
	d.Out, d.Control = p.out[n], p.control[n]
	return d
}

// divide notes what part of the pool's requests a control group gets beside the other side's share.
func (p *pool) divide(other split.Share) {
	var list []reading.Server
	for n := range p.instances {
		list = append(list, p.described(n))
	}
	p.beside = front.Beside(list, other)
}

// pick is the instance with the fewest open requests that may take one, leaving
// out those already tried; nil if none is left. Instances that lately refused a
// connection are taken only when there is nothing better, and so are those of the
// control group, or the others, where the draw was for these.
func (p *pool) pick(tried []*instance, now time.Time) *instance {
	if len(p.instances) == 0 {
		return nil
	}
	var best *instance
	bestRank, bestOpen := 6, int64(0)
	ofControl := p.beside != nil && rand.Float64() < *p.beside
	start := rand.IntN(len(p.instances)) // so that equals take turns
	for k := range p.instances {
		n := (start + k) % len(p.instances)
		i := p.instances[n]
		if slices.Contains(tried, i) {
			continue
		}
		rank := 0
		switch {
		case i.downUntil.Load() > now.UnixNano():
			rank = 2
		case p.out[n]:
			rank = 1
		}
		if p.beside != nil && p.control[n] != ofControl {
			rank += 3
		}
		if open := i.open.Load(); rank < bestRank || rank == bestRank && open < bestOpen {
			best, bestRank, bestOpen = i, rank, open
		}
	}
	return best
}

// steady reports whether one side has all requests.
func (t *table) steady() bool { return t.split.Share == 0 || t.split.Share == split.Whole }

// withShare is the table with another share on green.
func (t *table) withShare(share split.Share, now time.Time) *table {
	next := *t
	next.split = reading.Split{Revision: t.split.Revision + 1, Share: share, Since: now}
	switch share {
	case 0:
		next.whole = split.Blue
	case split.Whole:
		next.whole = split.Green
	}
	for _, side := range split.Sides {
		if share.Of(side) > 0 {
			next.sides[side].draining = false
		}
		next.sides[side].divide(share.Of(side.Other()))
	}
	return &next
}

// home is the table with all requests on a side by an order. It ends the sessions on the
// other one.
func (t *table) home(o reading.Order) *table {
	next := t.withShare(split.Toward(o.Side, split.Whole), o.At)
	next.order = o
	next.sides[o.Side.Other()].epoch++
	return next
}

// withInstances is the table with other instances on a side. Those it has
// already keep their figures.
func (t *table) withInstances(side split.Side, wanted []reading.Server) *table {
	next := *t
	list, out, control := make([]*instance, len(wanted)), make([]bool, len(wanted)), make([]bool, len(wanted))
	for n, w := range wanted {
		for _, i := range t.sides[side].instances {
			if i.Name == w.Name && i.Address == w.Address && i.Version == w.Version {
				list[n] = i
			}
		}
		if list[n] == nil {
			list[n] = newInstance(w)
		}
		out[n], control[n] = w.Out, w.Control
	}
	next.sides[side].instances, next.sides[side].out, next.sides[side].control = list, out, control
	next.sides[side].draining = false
	next.sides[side].divide(t.split.Share.Of(side.Other()))
	return &next
}

// withDraining is the table with a side that is being given up.
func (t *table) withDraining(side split.Side) *table {
	next := *t
	next.sides[side].draining = true
	next.sides[side].epoch++
	return &next
}

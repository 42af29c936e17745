package figures

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"sort"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Figures are what one side did over a time.
type Figures struct {
	Requests int64 `json:"requests"` // answered, or lost
	Failing  int64 `json:"failing"`  // of them, lost or answered with status 500 and above
	Slow     int64 `json:"slow"`     // of them, over the bound asked for
	Lost     int64 `json:"lost"`     // of them, got no instance's answer, or not all of it
	Left     int64 `json:"left"`     // of them, given up by their clients: they count as failing
	// of them, ended before the length that they named: they do not count as failing
	Cut     int64   `json:"cut"`
	Timed   int64   `json:"timed"`   // of them, with a time: none where the front measures none
	Hanging int64   `json:"hanging"` // beside them, still without an answer after [Hangs]
	Late    int64   `json:"late"`    // beside them, still without an answer after the bound asked for
	Rate    float64 `json:"rate"`    // requests a second
	Probes  int64   `json:"probes"`  // the prober's answers, beside the requests, where the front knows them
	// what those that were answered took in all, where the front tells no times but means
	Took time.Duration `json:"took"`
	P50  time.Duration `json:"p50"`
	P99  time.Duration `json:"p99"`
	Span time.Duration `json:"span"` // the time that was really looked at
	To   time.Time     `json:"to"`   // when it ends; zero if there was no reading
}

// Hangs is for how long a request may be without an answer until it counts as failing, for as
// long as it is.
const Hangs = 2 * time.Second

// FailingCount is the failing answers of all answers. A request that hangs is a bad answer.
func (f Figures) FailingCount() evidence.Count {
	return evidence.Count{Bad: f.Failing + f.Hanging, Of: f.Requests + f.Hanging}
}

// Mean is what an answer took on average, 0 where that is not known.
func (f Figures) Mean() time.Duration {
	if f.Requests <= f.Lost {
		return 0
	}
	return f.Took / time.Duration(f.Requests-f.Lost)
}

// Compared is what guards compare: the failing answers, and those that were cut, of all answers. What
// is cut is no failure by itself: an application may have its reasons, on both sides alike.
func (f Figures) Compared() evidence.Count {
	c := f.FailingCount()
	c.Bad = min(c.Bad+f.Cut, c.Of)
	return c
}

// SlowCount is the slow answers of all answers. A request that will be slow, if it is ever
// answered, is so already.
func (f Figures) SlowCount() evidence.Count {
	return evidence.Count{Bad: f.Slow + f.Late, Of: f.Requests + f.Late}
}

// longest is how far back a series reaches.
const longest = 10 * time.Minute

// Series is a front's readings as steps from one to the next. The zero value has
// none. It is not safe for concurrent use.
type Series struct {
	steps   []step
	last    map[counter]reading.Count
	lost    [2]int64
	own     int64        // that the front answered itself, assigned to nobody
	stood   [2]time.Time // by side: when the front was first read to have instances of it
	clients [2]reading.Clients
	came    [2]int64 // by side: clients since the share was changed last
	asked   [2]int64 // by side: clients that asked in the last block
	tells   reading.Capabilities
	begun   bool
	share   split.Share // on green, as last read
	beside  bool        // of a side with a control group only that counts
	grouped [2]bool     // by side: it did, as last read

	queues [2]*reading.Queue // by side: that its instances take messages from, as last read; nil if there is none
	usual  [2]peak           // by side: how long its instances have had messages at the most
	waited [2]peak           // by side: how long its queue has had messages at the most

	block struct { // that is under way
		began time.Time
		of    map[counter]evidence.Count
	}
	each  map[counter][]answered     // what instances answered, in the last seconds
	whole map[counter]evidence.Count // and since they were first seen here
}

// answered is what one instance answered between two readings.
type answered struct {
	from, to          time.Time
	requests, failing int64
}

// counter is what a count belongs to.
type counter struct {
	side    split.Side
	name    string
	address string
}

// step is what was counted between two readings.
type step struct {
	from, to time.Time
	share    split.Share // on green, at its end
	mixed    bool        // the share or a side's instances changed within
	sides    [2]sideStep
	own      int64 // answered by the front itself, and assigned to no side, or to one that never had instances
}

// sums are what can be added up.
type sums struct {
	requests, failing, lost, left, cut, probes int64
	led                                        int64 // messages to its queue, but those that were carried there
	took                                       time.Duration
}

// minus is what came since.
func (s sums) minus(before sums) sums {
	return sums{s.requests - before.requests, s.failing - before.failing, s.lost - before.lost, s.left - before.left,
		s.cut - before.cut, s.probes - before.probes, s.led - before.led, s.took - before.took}
}

// plus is both together.
func (s sums) plus(t sums) sums { return t.minus(sums{}.minus(s)) }

type sideStep struct {
	sums
	until   sums  // of all steps up to this one
	open    int64 // requests being answered, at its end
	hanging int64 // of them, that hang
	// of them, that have waited for longer than each of [reading.Waits]; none where the front does not tell
	waiting   []int64
	clients   met
	blocks    []InstanceBlock    // that ended with it
	latencies []hdrhistogram.Bar // that are not empty
}

// met is what was counted of a side's clients, as of [reading.Clients].
type met struct {
	came, asked, good int64
	turned            *reading.Turned // nil where there is nothing
}

// Beside is a series of its own that goes on from this one, and in which only its control group counts of a side that
// has one.
func (s *Series) Beside() *Series {
	b := *s
	b.beside = true
	b.steps, b.last = slices.Clone(s.steps), maps.Clone(s.last)
	b.block.of, b.whole, b.each = maps.Clone(s.block.of), maps.Clone(s.whole), map[counter][]answered{}
	for k, list := range s.each {
		b.each[k] = slices.Clone(list)
	}
	return &b
}

// Add takes a reading in. The first one only sets the start. It fails, and
// changes nothing, if latencies cannot be read.
func (s *Series) Add(r reading.Front) error {
	next := map[counter]reading.Count{}
	var lost [2]int64
	var grouped [2]bool
	st := step{to: r.At, share: r.Split.Share, mixed: r.Split.Share != s.share || r.Forgot, own: grown(s.own, r.Own)}
	stood := s.stood
	for _, side := range split.Sides {
		if stood[side].IsZero() && len(r.Sides[side].Instances) > 0 {
			stood[side] = r.At
		}
		d, untold := &st.sides[side], false
		group := s.beside && r.Sides[side].Grouped()
		st.mixed = st.mixed || group != s.grouped[side]
		grouped[side] = group
		var failed [2]int64 // transport: of all, and of those that count
		d.led = s.led(r, side)
		for _, c := range r.Sides[side].Instances {
			k := counter{side, c.Name, c.Address}
			before, seen := s.last[k]
			if c.Untold {
				if seen {
					next[k] = before // what it answers meanwhile is told later
				}
				untold = true
				continue
			}
			if !r.Tells.Times && len(c.Latency) == 0 { // it was not told, and has not begun anew
				c.Latency = before.Latency
			}
			next[k] = c
			failed[0] += grown(before.Failures, c.Failures)
			if group && !c.Control {
				continue
			}
			failed[1] += grown(before.Failures, c.Failures)
			d.open += c.Open
			d.wait(c)
			if !seen {
				st.mixed = true
				continue // what it counted before it was seen belongs to nobody
			}
			if err := d.add(before, c); err != nil {
				return err
			}
			s.note(k, before, c, r.At)
			if s.block.of != nil {
				s.block.of[k] = s.block.of[k].Plus(evidence.Count{Of: grown(before.Requests, c.Requests) +
					grown(before.Left, c.Left), Bad: grown(before.Status[5], c.Status[5]) + grown(before.Left, c.Left) +
					grown(before.Cut, c.Cut)})
			}
		}
		if lost[side] = r.Sides[side].Lost; untold {
			lost[side] = max(lost[side], s.lost[side])
		}
		if d.lost = grown(s.lost[side], lost[side]); s.stood[side].IsZero() { // nobody has ever been there
			st.own, d.lost = st.own+d.lost, 0
		}
		// who else's
		if assigned, all := st.share.Alone(); all && assigned == side && !st.mixed && !s.stood[side].IsZero() {
			st.own, d.lost = 0, d.lost+st.own
		}
		if failed[0] > 0 { // who lost them
			d.lost = (d.lost*failed[1] + failed[0] - 1) / failed[0]
		}
		d.requests += d.lost
		d.failing += d.lost
		if tellsClients(r, side) {
			if err := d.meet(s.clients[side], r.Sides[side].Clients); err != nil {
				return err
			}
		}
	}
	for k := range s.last {
		if _, ok := next[k]; !ok {
			st.mixed = true
		}
	}
	s.endBlock(&st)
	if s.begun {
		st.from = r.At
		if n := len(s.steps); n > 0 {
			st.from = s.steps[n-1].to
		}
		s.push(st)
	} else {
		s.push(step{from: r.At, to: r.At, share: st.share, mixed: true,
			sides: [2]sideStep{{open: st.sides[0].open, waiting: st.sides[0].waiting},
				{open: st.sides[1].open, waiting: st.sides[1].waiting}}})
	}
	s.tells, s.grouped = r.Tells, grouped
	for _, side := range split.Sides {
		q := r.Sides[side].Queue
		if s.queues[side] = q; q == nil {
			continue
		}
		var out time.Duration
		for _, c := range r.Sides[side].Instances {
			out = max(out, c.Oldest)
		}
		if st.sides[side].requests > 0 || out > 0 { // one that is asked for nothing says nothing of what is usual
			s.usual[side].remember(r.At, out)
			s.waited[side].remember(r.At, q.Oldest)
		}
	}
	for _, side := range split.Sides {
		s.steps[len(s.steps)-1].sides[side].hanging = s.hangs(side, next)
	}
	for len(s.steps) > 1 && r.At.Sub(s.steps[0].to) > longest {
		s.steps = s.steps[1:]
	}
	for k := range s.each {
		if _, ok := next[k]; !ok {
			delete(s.each, k)
			delete(s.whole, k)
		}
	}
	for side, d := range s.steps[len(s.steps)-1].sides {
		if r.Split.Share != s.share {
			s.came[side] = 0
		}
		s.came[side] += d.clients.came
		if d.clients.asked > 0 {
			s.asked[side] = d.clients.asked
		}
	}
	s.begun, s.share, s.own, s.stood = true, r.Split.Share, r.Own, stood
	s.last = next
	for _, side := range split.Sides {
		s.lost[side] = lost[side]
		if tellsClients(r, side) {
			s.clients[side] = r.Sides[side].Clients
		}
	}
	return nil
}

// InstanceBlock is what one instance answered in a block of [InstanceBlocks].
type InstanceBlock struct {
	Address string
	evidence.Count
}

// InstanceBlocks is how long what single instances answer is counted together.
const InstanceBlocks = 5 * time.Second

// endBlock gives a step the blocks that end with it. One in which the share or the instances changed is none.
func (s *Series) endBlock(st *step) {
	switch {
	case s.block.of == nil || st.mixed:
	case st.to.Sub(s.block.began) < InstanceBlocks:
		return
	default:
		for k, c := range s.block.of {
			st.sides[k.side].blocks = append(st.sides[k.side].blocks, InstanceBlock{k.address, c})
		}
		for side := range st.sides {
			slices.SortFunc(st.sides[side].blocks, func(a, b InstanceBlock) int {
				return cmp.Compare(a.Address, b.Address)
			})
		}
	}
	s.block.began, s.block.of = st.to, map[counter]evidence.Count{}
}

// push puts a step behind the others.
func (s *Series) push(st step) {
	for side := range st.sides {
		d := &st.sides[side]
		if d.until = d.sums; len(s.steps) > 0 {
			d.until = s.steps[len(s.steps)-1].sides[side].until.plus(d.sums)
		}
	}
	s.steps = append(s.steps, st)
}

// tellsClients reports whether a reading says which clients a side had: one that does not is not one of none.
func tellsClients(r reading.Front, side split.Side) bool {
	return r.Tells.Clients || r.Sides[side].Clients.Seen > 0
}

// grown is by how much a counter went up. One that went down began anew, and what it
// counts now is its zero.
func grown(before, now int64) int64 { return max(now-before, 0) }

func (d *sideStep) add(before, now reading.Count) error {
	if now.Requests < before.Requests || now.Status[5] < before.Status[5] || now.Left < before.Left {
		return nil // it began anew
	}
	answered, left := now.Requests-before.Requests, now.Left-before.Left
	d.requests += answered + left
	d.failing += now.Status[5] - before.Status[5] + left
	d.left += left
	d.cut += grown(before.Cut, now.Cut)
	d.probes += grown(before.Probes, now.Probes)
	d.took += max(now.Took-before.Took, 0)
	if answered == 0 {
		return nil
	}
	more, err := added(before.Latency, now.Latency, now.Name)
	d.latencies = append(d.latencies, more...)
	return err
}

// meet takes in which clients turned bad.
func (d *sideStep) meet(before, now reading.Clients) error {
	m := met{came: now.Seen - before.Seen, asked: now.Asked - before.Asked, good: now.Good - before.Good}
	if m.came < 0 || m.asked < 0 || m.good < 0 {
		return nil // it began anew
	}
	if m.asked > 0 {
		turned, err := reading.TurnedOf(now.Turns)
		if err != nil {
			return err
		}
		was, err := reading.TurnedOf(before.Turns)
		if err != nil {
			return err
		}
		if m.turned = turned.Minus(was); m.turned == nil {
			return nil
		}
	}
	d.clients = m
	return nil
}

// wait adds up how many requests have waited for how long.
func (d *sideStep) wait(c reading.Count) {
	for n, waiting := range c.Waiting {
		if n >= len(d.waiting) {
			d.waiting = append(d.waiting, 0)
		}
		d.waiting[n] += waiting
	}
}

// added is what a histogram has that the one before has not.
func added(before, now []byte, whose string) ([]hdrhistogram.Bar, error) {
	if len(now) == 0 {
		return nil, nil
	}
	h, err := reading.Decode(now, whose)
	if err != nil {
		return nil, err
	}
	was, err := reading.Decode(before, whose)
	if err != nil {
		return nil, err
	}
	old := map[int64]int64{}
	for _, b := range was.Distribution() {
		if b.Count > 0 {
			old[b.From] = b.Count
		}
	}
	var list []hdrhistogram.Bar
	for _, b := range h.Distribution() {
		if b.Count -= old[b.From]; b.Count > 0 {
			list = append(list, b)
		}
	}
	return list, nil
}

// Over is what a side did since a time, as far as the series reaches. Answers
// that took longer than slow count as slow.
func (s *Series) Over(side split.Side, since time.Time, slow time.Duration) Figures {
	h := reading.NewHistogram()
	f := s.gather(side, since, slow, h)
	if h.TotalCount() > 0 {
		f.P50 = time.Duration(h.ValueAtQuantile(50)) * time.Microsecond
		f.P99 = time.Duration(h.ValueAtQuantile(99)) * time.Microsecond
	}
	return f
}

// Count is what Over is but for the latencies, which cost most.
func (s *Series) Count(side split.Side, since time.Time, slow time.Duration) Figures {
	return s.gather(side, since, slow, nil)
}

// gather adds up a side's steps since a time, and records their latencies unless h
// is nil.
func (s *Series) gather(side split.Side, since time.Time, slow time.Duration, h *hdrhistogram.Histogram) Figures {
	n, last := s.first(since), len(s.steps)-1
	if n <= last && s.steps[n].from.Equal(s.steps[n].to) { // the first reading, from which on is counted
		n++
	}
	if n > last {
		return Figures{}
	}
	end := &s.steps[last].sides[side]
	sum := end.until.minus(s.steps[n].sides[side].until).plus(s.steps[n].sides[side].sums)
	f := Figures{Requests: sum.requests, Failing: sum.failing, Lost: sum.lost, Left: sum.left, Cut: sum.cut,
		Probes: sum.probes, Took: sum.took, To: s.steps[last].to, Hanging: end.hanging, Late: longer(end.waiting, slow)}
	for k := n; k <= last; k++ {
		for _, b := range s.steps[k].sides[side].latencies {
			f.Timed += b.Count
			if b.From > slow.Microseconds() {
				f.Slow += b.Count
			}
			if h != nil {
				_ = h.RecordValues(b.To, b.Count) // the values come from such a histogram
			}
		}
	}
	f.Span = f.To.Sub(s.steps[n].from)
	f.Rate = float64(f.Requests) / f.Span.Seconds()
	return f
}

// Own is how many requests the front has answered itself since a time, that belong to no side.
func (s *Series) Own(since time.Time) (sum int64) {
	for n := s.first(since); n < len(s.steps); n++ {
		if st := &s.steps[n]; !st.from.Equal(st.to) {
			sum += st.own
		}
	}
	return sum
}

// Led is how many messages were led to a side's queue since a time, and whether it has one. Those that were carried
// there from the other side's are none of them.
func (s *Series) Led(side split.Side, since time.Time) (sum int64, queued bool) {
	for n := s.first(since); n < len(s.steps); n++ {
		sum += s.steps[n].sides[side].led
	}
	return sum, s.queues[side] != nil
}

// led is how many messages were led to a side's queue since the last reading.
func (s *Series) led(r reading.Front, side split.Side) int64 {
	was, from := s.queues[side], s.queues[side.Other()]
	now, other := r.Sides[side].Queue, r.Sides[side.Other()].Queue
	if was == nil || from == nil || now == nil || other == nil {
		return 0
	}
	return max(grown(was.Published, now.Published)-grown(from.Carried, other.Carried), 0)
}

// Came is how many different clients a side had since the share was changed last, as far as the series knows.
func (s *Series) Came(side split.Side) int64 { return s.came[side] }

// Asked is how many different clients of a side asked in the last block of [reading.ClientBlock] in which any did.
func (s *Series) Asked(side split.Side) int64 { return s.asked[side] }

// Stood is when the front was first read to have instances of a side, zero if it never was: what it answered itself
// before was nobody's.
func (s *Series) Stood(side split.Side) time.Time { return s.stood[side] }

// first is the first step that began no earlier than a time.
func (s *Series) first(since time.Time) int {
	return sort.Search(len(s.steps), func(n int) bool { return !s.steps[n].from.Before(since) })
}

// hangs is how many requests hang on a side, by what was read just now.
func (s *Series) hangs(side split.Side, now map[counter]reading.Count) int64 {
	if s.queues[side] != nil {
		return s.stuck(side, now)
	}
	if !s.tells.Waits {
		return s.hanging(side)
	}
	var n int64
	for k, c := range now {
		if k.side == side && (c.Control || !s.grouped[side]) {
			n += c.Longer(Hangs)
		}
	}
	return n
}

const (
	// stuckLeast is how long a message may be out at the least: what a broker tells is late by as much.
	stuckLeast = 10 * time.Second
	// stuckTimes is how many times as long as on the other side it may be.
	stuckTimes = 3
	// stuckOver is how long what was usual is remembered.
	stuckOver = 2 * time.Hour
)

// peak is the longest that a message was out of late, where any was done.
type peak struct {
	At      time.Time     `json:"at"`
	Longest time.Duration `json:"longest"`
}

// remember takes in how long the oldest messages of a side are out.
func (p *peak) remember(at time.Time, out time.Duration) {
	if p.At.IsZero() || out >= p.Longest || at.Sub(p.At) > stuckOver {
		*p = peak{at, out}
	}
}

// stuck is how many messages instances have taken and hang with: those of an instance that has had its oldest one for
// much longer than is usual on the other side. Where that side was never seen to do any, nobody knows what is usual.
func (s *Series) stuck(side split.Side, now map[counter]reading.Count) (n int64) {
	other := s.usual[side.Other()]
	if other.At.IsZero() {
		return 0
	}
	long := max(stuckLeast, stuckTimes*other.Longest)
	for k, c := range now {
		if k.side == side && (c.Control || !s.grouped[side]) && c.Oldest > long {
			n += c.Open
		}
	}
	return n
}

// Waited is how long a side's queue has had a message at the most in the last hours, and whether that is known.
func (s *Series) Waited(side split.Side) (time.Duration, bool) {
	return s.waited[side].Longest, !s.waited[side].At.IsZero()
}

// longer is how many of those that wait have waited for longer than a time. See [reading.Count.Longer].
func longer(waiting []int64, than time.Duration) int64 {
	return reading.Count{Waiting: waiting}.Longer(than)
}

// hanging is how many requests hang at least, at a front that does not tell how long its
// open requests have waited: as many as are open beyond those that there would be if answers
// took [Hangs] on average, which is as long as any should (Little, "A proof for the queuing
// formula L = λW", Operations Research 9, 1961). It takes the fewest that were open in the
// last seconds, so that a moment is none.
func (s *Series) hanging(side split.Side) int64 {
	const over = 3 * time.Second
	var answered, open int64
	var span time.Duration
	n := 0
	for _, st := range slices.Backward(s.steps) {
		took := st.to.Sub(st.from)
		if n > 0 && span+took > over {
			break
		}
		span += took
		d := st.sides[side]
		if answered += d.requests; n == 0 || d.open < open {
			open = d.open
		}
		n++
	}
	if n < 3 || span < over/2 {
		return 0
	}
	return max(open-int64(math.Ceil(float64(answered)/span.Seconds()*Hangs.Seconds())), 0)
}

// Last is the newest step: how many requests each side answered, and how many of
// them failed.
func (s *Series) Last() (requests, failing [2]int64) {
	if len(s.steps) == 0 {
		return requests, failing
	}
	for side, d := range s.steps[len(s.steps)-1].sides {
		requests[side], failing[side] = d.requests, d.failing
	}
	return requests, failing
}

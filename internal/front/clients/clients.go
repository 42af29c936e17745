package clients

import (
	"encoding/binary"
	"maps"
	"slices"
	"sync"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

const (
	// most is how many clients are remembered. Beyond that those who have not asked for long are forgotten, and then a
	// part stands for all, chosen by their numbers alone: on both sides the same.
	most  = 1 << 17
	heals = reading.ClientHeals
	// again is after how many blocks of more room than is needed twice as many clients are counted.
	again = 120
)

// gone is after how many blocks without asking clients are forgotten where there is no room: at first those who have
// not asked for long.
var gone = []uint32{120, 12}

// Counts are the clients of both sides. Make it with [New]. It is safe for concurrent use.
type Counts struct {
	most int
	now  func() time.Time

	mu      sync.Mutex // protects what follows
	share   split.Share
	changes uint32 // of the share, and one
	level   uint   // only clients whose number ends in so many zero bits are counted
	block   uint32 // the number of the block that is under way, from 1
	began   time.Time
	all     map[uint64]*client
	seen    [2]int64
	open    [2]tally  // with the block that is under way
	closed  [2]tally  // without it
	told    [2][]byte // the turns of that as they are told; nil if they were not since
}

// client is what is remembered of one, on whichever side it is.
type client struct {
	block   uint32 // the last one in which it asked
	change  uint32 // the last change of the share after which it was seen
	good    bool   // it had a good answer in that block
	failing [reading.Grades]past
	slow    [reading.Grades]levels
}

// past is when and how often a client turned bad.
type past struct {
	lately uint8 // by block in which it asked, the last one as the lowest bit: whether it was bad
	turned uint8 // how often it has turned bad
	risk   bool  // it is at risk in this block
}

// levels are the same for times, by level.
type levels struct {
	lately [heals]uint8              // by block in which it asked before, the last one first: the highest level
	now    uint8                     // the highest in this one
	turned [reading.Levels + 1]uint8 // by level, how often it has turned slower than that
}

// tally is what was counted of a side's clients.
type tally struct {
	asked, good int64
	turned      reading.Turned
}

// New has counted nobody. The share is that on green.
func New(share split.Share, now func() time.Time) *Counts {
	return &Counts{most: most, now: now, share: share, changes: 1, block: 1, began: now(), all: map[uint64]*client{}}
}

// Changed takes in the share on green that is in force. What the block under way has is of two shares, and is not
// counted.
func (c *Counts) Changed(share split.Share) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if share == c.share {
		return
	}
	c.share, c.open = share, c.closed
	c.changes++
	c.next()
}

// next begins a block.
func (c *Counts) next() {
	c.block, c.began = c.block+1, c.now()
	if c.level == 0 || c.block%again != 0 {
		return
	}
	if c.forget(gone[0]); len(c.all) < c.most/4 {
		c.level--
	}
}

// forget forgets clients that have not asked for more than so many blocks.
func (c *Counts) forget(blocks uint32) {
	maps.DeleteFunc(c.all, func(_ uint64, k *client) bool { return c.block-k.block > blocks })
}

// roll ends the block that is under way if its time is over.
func (c *Counts) roll() {
	if c.now().Sub(c.began) >= reading.ClientBlock {
		c.closed, c.told = c.open, [2][]byte{}
		c.next()
	}
}

// Answered takes in an answer, or what came in place of one, by the side and the number of the client,
// which is a hash of its key. The time counts where there was an answer.
func (c *Counts) Answered(at split.Side, number uint64, bad bool, took time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.roll()
	k := c.all[number]
	if k == nil {
		if len(c.all) >= c.most {
			c.makeRoom()
		}
		if number&(1<<c.level-1) != 0 {
			return
		}
		k = &client{}
		c.all[number] = k
	}
	if k.change != c.changes {
		k.change = c.changes
		c.seen[at]++
	}
	t := &c.open[at]
	first := k.block != c.block
	if first {
		k.block, k.good = c.block, false
		t.asked++
		for grade := range reading.Grades {
			k.failing[grade].begin(&t.turned[grade][0])
			k.slow[grade].begin(&t.turned[grade])
		}
	}
	if !bad && !k.good {
		k.good = true
		t.good++
	}
	level := uint8(reading.Level(took))
	for grade := range reading.Grades {
		if grade == reading.FirstAnswer && !first {
			continue
		}
		if bad {
			k.failing[grade].turn(&t.turned[grade][0])
		}
		if level > k.slow[grade].now {
			k.slow[grade].turn(level, &t.turned[grade])
		}
	}
}

// begin has a client ask in another block.
func (p *past) begin(t *reading.Turns) {
	p.risk = p.lately&(1<<heals-1) == 0 && p.turned < reading.Strata
	if p.lately <<= 1; p.risk {
		t[p.turned].Of++
	}
}

// turn has it answered badly.
func (p *past) turn(t *reading.Turns) {
	if p.lately&1 == 0 && p.risk {
		t[p.turned].Bad++
		p.turned++
	}
	p.lately |= 1
}

func (l *levels) begin(t *[reading.Levels + 1]reading.Turns) {
	copy(l.lately[1:], l.lately[:heals-1])
	l.lately[0], l.now = l.now, 0
	for level := slices.Max(l.lately[:]) + 1; level <= reading.Levels; level++ {
		if n := l.turned[level]; n < reading.Strata {
			t[level][n].Of++
		}
	}
}

// turn has an answer take longer than the bounds up to a level, which is above all of this block so far.
func (l *levels) turn(to uint8, t *[reading.Levels + 1]reading.Turns) {
	for level := max(l.now, slices.Max(l.lately[:])) + 1; level <= to; level++ {
		if n := l.turned[level]; n < reading.Strata {
			t[level][n].Bad++
			l.turned[level]++
		}
	}
	l.now = to
}

// makeRoom forgets clients where there are too many.
func (c *Counts) makeRoom() {
	for _, blocks := range gone {
		if len(c.all) > c.most*3/4 {
			c.forget(blocks)
		}
	}
	for len(c.all) > c.most*3/4 {
		c.level++
		maps.DeleteFunc(c.all, func(number uint64, _ *client) bool { return number&(1<<c.level-1) != 0 })
	}
}

// Export is who was bad lately and how often, for a process that goes on; not what was counted, nor how long answers
// took.
func (c *Counts) Export() []byte {
	c.mu.Lock()
	defer c.mu.Unlock()
	data := []byte{byte(c.level)}
	for number, k := range c.all {
		data = binary.LittleEndian.AppendUint64(data, number)
		for _, p := range k.failing {
			data = append(data, p.lately, p.turned)
		}
	}
	return data
}

// Import takes in who is known to the process before. What it cannot read it leaves out.
func (c *Counts) Import(data []byte) {
	const each = 8 + 2*reading.Grades
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(data)%each != 1 {
		return
	}
	c.level = max(c.level, uint(data[0]))
	for data = data[1:]; len(data) > 0; data = data[each:] {
		k := &client{}
		for n := range k.failing {
			k.failing[n] = past{lately: data[8+2*n], turned: data[9+2*n]}
		}
		c.all[binary.LittleEndian.Uint64(data)] = k
	}
}

// Absorb adds what another process counted on a side.
func (c *Counts) Absorb(at split.Side, r reading.Clients) {
	turned, err := reading.TurnedOf(r.Turns)
	if err != nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.seen[at] += r.Seen
	c.told[at] = nil
	for _, t := range []*tally{&c.open[at], &c.closed[at]} {
		t.asked, t.good = t.asked+r.Asked, t.good+r.Good
		t.turned.Add(turned)
	}
}

// Read is what was counted on a side, in blocks that are over.
func (c *Counts) Read(at split.Side) reading.Clients {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.roll()
	t := &c.closed[at]
	if t.asked > 0 && c.told[at] == nil {
		c.told[at] = t.turned.Bytes()
	}
	return reading.Clients{Seen: c.seen[at], Asked: t.asked, Good: t.good, Turns: c.told[at]}
}

package clients

import (
	"encoding/binary"
	"maps"
	"sync"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// most is how many clients of a side are remembered. Beyond that a part of them stands for all, chosen
// by their numbers alone: on both sides the same.
const most = 1 << 17

// Counts are the clients of both sides. Make it with [New]. It is safe for concurrent use.
type Counts struct {
	most int

	mu    sync.Mutex // protects what follows
	share split.Share
	level uint // only clients whose number ends in so many zero bits are counted
	sides [2]side
}

type side struct {
	seen  map[uint64]struct{} // since the share was changed
	known map[uint64]struct{} // before, as long as the side has only gained
	count reading.Clients
	times *hdrhistogram.Histogram
}

// New has counted nobody. The share is that on green.
func New(share split.Share) *Counts {
	c := &Counts{most: most, share: share}
	for n := range c.sides {
		c.sides[n] = side{seen: map[uint64]struct{}{}, known: map[uint64]struct{}{}, times: reading.NewHistogram()}
	}
	return c
}

// Changed takes in the share on green that is in force.
func (c *Counts) Changed(share split.Share) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if share == c.share {
		return
	}
	for n := range c.sides {
		s := &c.sides[n]
		if share.Of(split.Side(n)) < c.share.Of(split.Side(n)) {
			clear(s.known) // who stays counts anew, beside those who have left
		} else {
			maps.Copy(s.known, s.seen)
		}
		clear(s.seen)
	}
	c.share = share
}

// Answered takes in an answer, or what came in place of one, by the side and the number of the client,
// which is a hash of its key. The time counts where there was an answer.
func (c *Counts) Answered(at split.Side, client uint64, bad bool, took time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if client&(1<<c.level-1) != 0 {
		return
	}
	s := &c.sides[at]
	if _, again := s.seen[client]; again {
		return
	}
	s.seen[client] = struct{}{}
	s.count.Seen++
	if _, again := s.known[client]; !again {
		s.count.Of++
		if bad {
			s.count.Bad++
		}
		if took > 0 {
			reading.Record(s.times, took)
		}
	}
	for len(s.seen) > c.most || len(s.known) > c.most {
		c.level++
		for n := range c.sides {
			out := func(client uint64, _ struct{}) bool { return client&(1<<c.level-1) != 0 }
			maps.DeleteFunc(c.sides[n].seen, out)
			maps.DeleteFunc(c.sides[n].known, out)
		}
	}
}

// Export is who is known on each side, for a process that goes on; not what was counted.
func (c *Counts) Export() (sides [2][]byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for n := range c.sides {
		s := &c.sides[n]
		list := binary.LittleEndian.AppendUint64(nil, uint64(c.level))
		list = binary.LittleEndian.AppendUint64(list, uint64(len(s.seen)))
		for _, set := range []map[uint64]struct{}{s.seen, s.known} {
			for client := range set {
				list = binary.LittleEndian.AppendUint64(list, client)
			}
		}
		sides[n] = list
	}
	return sides
}

// Import takes in who is known to the process before. What it cannot read it leaves out.
func (c *Counts) Import(sides [2][]byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for n, data := range sides {
		if len(data) < 16 || len(data)%8 != 0 {
			continue
		}
		c.level = max(c.level, uint(binary.LittleEndian.Uint64(data)))
		seen := binary.LittleEndian.Uint64(data[8:])
		for data = data[16:]; len(data) > 0; data = data[8:] {
			set := c.sides[n].known
			if seen > 0 {
				set = c.sides[n].seen
				seen--
			}
			set[binary.LittleEndian.Uint64(data)] = struct{}{}
		}
	}
}

// Absorb adds what another process counted on a side.
func (c *Counts) Absorb(at split.Side, r reading.Clients) {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := &c.sides[at]
	s.count.Seen += r.Seen
	s.count.Of += r.Of
	s.count.Bad += r.Bad
	if h, err := reading.Decode(r.Latency, "the process before"); err == nil {
		s.times.Merge(h)
	}
}

// Read is what was counted on a side.
func (c *Counts) Read(at split.Side) reading.Clients {
	c.mu.Lock()
	defer c.mu.Unlock()
	r := c.sides[at].count
	if c.sides[at].times.TotalCount() > 0 {
		r.Latency = reading.Encode(c.sides[at].times)
	}
	return r
}

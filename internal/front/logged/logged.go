package logged

import (
	"bytes"
	"context"
	"fmt"
	"strconv"
	"sync"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"vaiven/internal/accesslog"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/place"
)

// Tally is the counts of one log. It is safe for concurrent use, and a log on a disk that hangs
// holds up nobody for longer than the limit.
type Tally struct {
	name    string
	tail    *accesslog.Tail // nil if there is no log
	reading chan struct{}   // held by who reads

	mu     sync.Mutex // protects what follows
	parser accesslog.Parser
	counts map[string]*count // by address
	lost   [2]int64
	lines  int64
	failed string // why the log cannot be read, "" if it can
}

type count struct {
	requests, failures, left int64
	status                   [6]int64
	latency                  *hdrhistogram.Histogram
}

// limit is how long a log is waited for.
const limit = 500 * time.Millisecond

// New begins at the end of a log of a machine; without a name nothing is counted. It waits
// for nothing.
func New(on place.Machine, name string) *Tally {
	t := &Tally{name: name, reading: make(chan struct{}, 1), counts: map[string]*count{}}
	if name != "" {
		t.tail = accesslog.NewTail(on, name)
		t.reading <- struct{}{}
		go func() {
			defer func() { <-t.reading }()
			t.readOn(context.Background())
		}()
	}
	return t
}

// Count reads what was added to the log, and writes a reading's figures. The notice is
// what to know of them, "" if nothing.
func (t *Tally) Count(ctx context.Context, r *reading.Front, sides [2][]reading.Server) (notice string) {
	t.read(ctx)
	t.mu.Lock()
	defer t.mu.Unlock()
	r.Tells.Counts, r.Tells.Times = t.tail != nil, t.tail != nil
	for _, side := range split.Sides {
		s := reading.Side{Lost: t.lost[side], Instances: []reading.Count{}}
		for _, i := range sides[side] {
			c := reading.Count{Server: i}
			if n := t.counts[i.Address]; n != nil {
				c.Requests, c.Failures, c.Left, c.Status = n.requests, n.failures, n.left, n.status
				c.Latency = reading.Encode(n.latency)
			}
			s.Instances = append(s.Instances, c)
		}
		r.Sides[side] = s
	}
	switch {
	case t.tail == nil:
		return "nothing counts the requests: name an access log in the plan (log)"
	case t.failed != "":
		r.Blind = t.failed
		return "requests are not counted: " + t.failed
	}
	return ""
}

// read reads what was added, unless somebody does already and does not come to an end.
func (t *Tally) read(ctx context.Context) {
	if t.tail == nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	select {
	case t.reading <- struct{}{}:
		defer func() { <-t.reading }()
		t.readOn(ctx)
	case <-ctx.Done():
		t.mu.Lock()
		defer t.mu.Unlock()
		t.failed = fmt.Sprintf("%s: %v", t.name, place.ErrHangs)
	}
}

// readOn reads what was added. The caller holds the turn.
func (t *Tally) readOn(ctx context.Context) {
	var e accesslog.Entry
	good, bad := 0, 0
	err := t.tail.Read(ctx, func(line []byte) {
		t.mu.Lock()
		defer t.mu.Unlock()
		if t.parser.Parse(line, &e) && t.add(&e) {
			good++
		} else {
			bad++
		}
	})
	t.mu.Lock()
	defer t.mu.Unlock()
	t.lines += int64(good)
	t.failed = ""
	switch {
	case err != nil:
		t.failed = err.Error()
	case bad > 0 && t.lines == 0:
		t.failed = fmt.Sprintf("the lines of %s do not name upstream servers: write it in the format that the include file defines", t.name)
	}
}

// clientLeft is nginx's status of a request that its client gave up.
const clientLeft = 499

// add counts a line. Lists of several servers are separated by commas, and by colons
// where a request was passed on within the proxy.
func (t *Tally) add(e *accesslog.Entry) bool {
	upstream := e.Field("upstream")
	if upstream == nil {
		return false
	}
	name := e.Field("side")
	if name == nil { // the worker's name begins with it
		name, _, _ = bytes.Cut(e.Field("route"), []byte{'-'})
	}
	side, errSide := split.ParseSide(string(name))
	servers := list(bytes.ReplaceAll(upstream, []byte("http://"), nil))
	statuses, times := list(e.Field("statuses")), list(e.Field("times"))
	if us, err := strconv.Atoi(string(e.Field("us"))); err == nil {
		times = [][]byte{strconv.AppendFloat(nil, float64(us)/1e6, 'f', 6, 64)}
	}
	if string(upstream) == "-" { // nobody was asked
		if e.Status >= 500 {
			t.lost[split.Blue]++
			t.lost[split.Green]++
		}
		return true
	}
	at := func(values [][]byte, n int) string {
		if n >= len(values) {
			return ""
		}
		return string(values[n])
	}
	for n, server := range servers {
		c := t.counts[string(server)]
		if c == nil {
			if len(t.counts) > 10_000 {
				break // addresses without end: not ours
			}
			c = &count{latency: reading.NewHistogram()}
			t.counts[string(server)] = c
		}
		last := n == len(servers)-1
		took, err := strconv.ParseFloat(at(times, n), 64)
		status, errStatus := strconv.Atoi(at(statuses, n))
		answered := err == nil && errStatus == nil && 100 <= status && status <= 599
		if last && !answered && e.Status == clientLeft {
			c.left++
			continue
		}
		if !last || err != nil {
			c.failures++ // tried and passed over, or without an answer
		}
		if last && !answered && errSide == nil {
			t.lost[side]++
		}
		if !last || !answered {
			continue
		}
		c.requests++
		c.status[status/100]++
		reading.Record(c.latency, time.Duration(took*float64(time.Second)))
	}
	return true
}

func list(text []byte) [][]byte {
	if len(text) == 0 {
		return nil
	}
	parts := bytes.Split(bytes.ReplaceAll(text, []byte(" : "), []byte(", ")), []byte(", "))
	return parts
}

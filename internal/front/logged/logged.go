package logged

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"net"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/clients"
	"vaiven/internal/world/accesslog"
	"vaiven/internal/world/place"
)

// Tally is the counts of one log. It is safe for concurrent use, and a log on a disk that hangs
// holds up nobody for longer than the limit.
type Tally struct {
	name    string
	limit   time.Duration // how long it is waited for
	tail    source        // nil if there is no log
	side    func(*accesslog.Entry) (split.Side, bool)
	reading chan struct{} // held by who reads

	clients *clients.Counts // nil where no client is known
	kept    clients.Kept
	prefix  int    // bits of the address that count
	named   string // the field of a line that has the key, "" where that is "key" or the address

	mu     sync.Mutex // protects what follows
	parser accesslog.Parser
	counts map[string]*count // by address
	lost   [2]int64
	own    int64 // answered by the proxy itself, and assigned to nobody
	probes int64 // the prober's
	lines  int64
	blind  bool  // the last line has no field with the key
	told   int64 // answers of instances
	none   *hdrhistogram.Histogram
	failed string // why the log cannot be read, "" if it can
}

// source is where lines come from.
type source interface {
	Read(ctx context.Context, each func(line []byte)) error
}

type count struct {
	requests, failures, left, cut, probes int64
	status                                [6]int64
	latency                               *hdrhistogram.Histogram
}

// limit is how long a log is waited for on this machine, and farLimit on another.
const (
	limit    = 500 * time.Millisecond
	farLimit = 2 * time.Second
)

// New begins at the end of a log of a machine: a file, or an address of this machine that lines are sent to; without
// a name nothing is counted. Where the key keeps clients together and a line tells them apart, clients are counted as
// well. side is whose a line is; a line of neither side counts for nothing. Where it is nil, what the line says
// counts. It waits for nothing.
func New(on place.Machine, name string, key plan.Key, side func(*accesslog.Entry) (split.Side, bool)) *Tally {
	t := &Tally{name: name, limit: limit, reading: make(chan struct{}, 1), counts: map[string]*count{}, side: side,
		none: reading.NewHistogram()}
	if !place.Here(on) {
		t.limit = farLimit
	}
	if name == "" {
		return t
	}
	if key.From != plan.KeyRandom {
		t.clients, t.prefix = clients.New(0, time.Now), key.Prefix
	}
	if side == nil {
		t.named = Field(key)
	}
	if Sent(name) {
		t.tail = accesslog.NewDatagrams(name)
	} else {
		t.tail = accesslog.NewTail(on, name)
	}
	t.reading <- struct{}{}
	go func() {
		defer func() { <-t.reading }()
		t.readOn(context.Background())
	}()
	return t
}

// Sent reports whether a log's name is an address that its lines are sent to, and no file.
func Sent(name string) bool {
	_, _, err := net.SplitHostPort(name)
	return err == nil && !filepath.IsAbs(name)
}

// Times reads what was added, and adds to a reading what the log alone knows: how long answers took, and which clients
// there were. It returns how many answers the log has told of in all.
func (t *Tally) Times(ctx context.Context, r *reading.Front) (told int64, failed string) {
	t.read(ctx)
	t.mu.Lock()
	defer t.mu.Unlock()
	r.Tells.Times, r.Tells.Clients = t.failed == "", t.failed == "" && t.clients != nil && !t.blind
	for _, side := range split.Sides {
		for n := range r.Sides[side].Instances {
			c := &r.Sides[side].Instances[n]
			h := t.none
			if of := t.counts[c.Address]; of != nil {
				h = of.latency
			}
			if r.Tells.Times {
				c.Latency = reading.Encode(h)
			}
		}
		if r.Tells.Clients {
			r.Sides[side].Clients = t.clients.Read(side)
		}
	}
	if t.clients != nil {
		t.clients.Changed(r.Split.Share)
	}
	return t.told, t.failed
}

// Count reads what was added to the log, and writes a reading's figures. The notice is
// what to know of them, "" if nothing.
func (t *Tally) Count(ctx context.Context, r *reading.Front, sides [2][]reading.Server) (notice string) {
	t.read(ctx)
	t.mu.Lock()
	defer t.mu.Unlock()
	r.Tells.Counts, r.Tells.Times, r.Tells.Clients, r.Own = t.tail != nil, t.tail != nil, t.clients != nil && !t.blind,
		t.own
	if t.tail != nil {
		r.Logs = []reading.Log{{Probes: t.probes}}
	}
	for _, side := range split.Sides {
		s := reading.Side{Lost: t.lost[side], Instances: []reading.Count{}}
		for _, i := range sides[side] {
			c := reading.Count{Server: i}
			if n := t.counts[i.Address]; n != nil {
				c.Requests, c.Failures, c.Left, c.Cut, c.Probes, c.Status = n.requests, n.failures, n.left, n.cut,
					n.probes, n.status
				c.Latency = reading.Encode(n.latency)
			}
			s.Instances = append(s.Instances, c)
		}
		if t.clients != nil {
			s.Clients = t.clients.Read(side)
		}
		r.Sides[side] = s
	}
	if t.clients != nil {
		t.clients.Changed(r.Split.Share) // what was read until now was placed by the one before
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

// Kept is how many sessions have lately kept somebody on a side, as far as lines name them.
func (t *Tally) Kept(side split.Side) int64 { return t.kept.Count(side, time.Now()) }

// Release forgets the sessions on a side.
func (t *Tally) Release(side split.Side) { t.kept.Release(side) }

// read reads what was added, unless somebody does already and does not come to an end.
func (t *Tally) read(ctx context.Context) {
	if t.tail == nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, t.limit)
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
		if open := bytes.IndexByte(line, '{'); open > 0 && t.side != nil { // syslog writes its own before it
			line = line[open:]
		}
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
		t.failed = fmt.Sprintf("the lines of %s do not name upstream servers: write it in the format that the "+
			"include file defines", t.name)
	}
}

// clientLeft is nginx's status of a request that its client gave up.
const clientLeft = 499

// add counts a line. Lists of several servers are separated by commas, and by colons
// where a request was passed on within the proxy.
func (t *Tally) add(e *accesslog.Entry) bool {
	if aside := e.Field("aside"); len(aside) > 0 && string(aside) != "-" {
		return true // it came by the spare side's own door, and counts for nothing
	}
	upstream := e.Field("upstream")
	if upstream == nil {
		return false
	}
	probe := string(e.Agent) == front.ProbeAgent
	if probe {
		t.probes++
	}
	name := e.Field("side")
	if name == nil { // the worker's name begins with it
		name, _, _ = bytes.Cut(e.Field("route"), []byte{'-'})
	}
	side, errSide := split.ParseSide(string(name))
	if t.side != nil {
		var ours bool
		if side, ours = t.side(e); !ours {
			return true
		}
		errSide = nil
	}
	if id := e.Field("session"); len(id) > 0 && string(id) != "-" && errSide == nil {
		t.kept.Came(side, uint64(split.PlaceOf(string(id))), time.Now())
	}
	servers := list(bytes.ReplaceAll(upstream, []byte("http://"), nil))
	statuses, times := list(e.Field("statuses")), list(e.Field("times"))
	if us, err := strconv.Atoi(string(e.Field("us"))); err == nil {
		times = [][]byte{strconv.AppendFloat(nil, float64(us)/1e6, 'f', 6, 64)}
	}
	if whole, err := strconv.Atoi(string(e.Field("ms"))); err == nil && whole >= 0 {
		head, _ := strconv.Atoi(string(e.Field("head"))) // until the request was there
		times = [][]byte{strconv.AppendFloat(nil, float64(max(whole-max(head, 0), 0))/1e3, 'f', 3, 64)}
	}
	if string(upstream) == "-" { // nobody was asked
		switch {
		case e.Status < 500:
		case errSide == nil:
			t.lost[side]++
		default:
			t.own++
		}
		return true
	}
	at := func(values [][]byte, n int) string {
		if n >= len(values) {
			return ""
		}
		return string(values[n])
	}
	if client, known := t.identity(e); known && errSide == nil && !probe {
		took, err := strconv.ParseFloat(at(times, len(servers)-1), 64)
		if err != nil {
			took = 0
		}
		t.clients.Answered(side, client, e.Status >= 500 || e.Status == clientLeft ||
			cut(e), time.Duration(took*float64(time.Second)))
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
		t.told++
		if probe { // what users get is counted without it
			c.probes++
			continue
		}
		c.requests++
		c.status[status/100]++
		if cut(e) {
			c.cut++
		}
		reading.Record(c.latency, time.Duration(took*float64(time.Second)))
	}
	return true
}

// cut reports whether an answer ended before the length that it named, and its client was there to the end: nginx says
// then that the request is complete ("OK"), httpd how the connection goes on ("+" or "-", and "X" where the client has
// left). Answers without a length, and without a body, say nothing.
func cut(e *accesslog.Entry) bool {
	if done := string(e.Field("done")); done != "OK" && done != "+" && done != "-" || string(e.Method) == "HEAD" ||
		e.Status < 200 || e.Status == 204 || e.Status == 304 || e.Status >= 500 {
		return false
	}
	sent := list(e.Field("sent"))
	if len(sent) == 0 {
		return false
	}
	length, errLength := strconv.ParseInt(string(e.Field("length")), 10, 64)
	n, err := strconv.ParseInt(string(sent[len(sent)-1]), 10, 64)
	return errLength == nil && err == nil && n < length
}

// Field is the name of the field in which a line has a cookie or header that is the split key, as nginx names it; ""
// for other keys.
func Field(key plan.Key) string {
	switch key.From {
	case plan.KeyCookie:
		return "cookie_" + key.Name
	case plan.KeyHeader:
		return "http_" + strings.ToLower(strings.ReplaceAll(key.Name, "-", "_"))
	}
	return ""
}

// identity tells clients apart: by what the key goes by, and those without it by the address. It is false where clients
// are not counted, or the line does not say it.
func (t *Tally) identity(e *accesslog.Entry) (client uint64, known bool) {
	key := e.Field(cmp.Or(t.named, "key"))
	if t.blind = t.named != "" && key == nil; t.blind || t.clients == nil {
		return 0, false
	}
	if len(key) > 0 && string(key) != "-" {
		return uint64(split.PlaceOf(string(key))), true
	}
	return uint64(split.PlaceOf(split.Network(string(e.Client), t.prefix))), true
}

func list(text []byte) [][]byte {
	if len(text) == 0 {
		return nil
	}
	parts := bytes.Split(bytes.ReplaceAll(text, []byte(" : "), []byte(", ")), []byte(", "))
	return parts
}

// Lines counts the lines that are added to a log of a machine: how many there were since it was first asked.
func Lines(on place.Machine, name string) func(context.Context) (int64, error) {
	tail, sum := accesslog.NewTail(on, name), int64(0)
	return func(ctx context.Context) (int64, error) {
		err := tail.Read(ctx, func([]byte) { sum++ })
		return sum, err
	}
}

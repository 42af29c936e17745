package recording

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/engine"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/past"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/parts"
)

// Frame is what was seen at a moment.
type Frame struct {
	keeper.Snapshot                     // with the track until then
	Situation       situation.Situation `json:"situation"` // as it was shown
}

// Recording is what was seen of one crossing. It may be used by many at the same time.
type Recording struct {
	lines  []line // oldest first
	stands []map[string]json.RawMessage
	points []engine.Point
	Lost   int // members of which something could not be read
}

// standEvery is after how many lines all parts are kept, so that a moment is found without going through all before it.
const standEvery = 300

// Read reads a file's content, as far as it can be read: what is damaged or cut off costs its member, and is counted.
// The error wraps [keeper.ErrNotRecorded] if there is nothing.
func Read(data []byte) (*Recording, error) {
	r := &Recording{}
	now := map[string]json.RawMessage{}
	for len(data) > 0 {
		lines, rest, err := member(data)
		if err != nil && len(rest) > 0 {
			r.Lost++
		}
		data = rest
		for _, l := range lines {
			if l.Anew {
				now = map[string]json.RawMessage{}
			}
			if !l.Anew && len(r.lines) == 0 {
				continue // what it says of is not known
			}
			if n := len(r.lines); n > 0 && l.At.Before(r.lines[n-1].At) {
				l.At = r.lines[n-1].At.Add(time.Millisecond) // a clock was set: it is still what came next
			}
			apply(now, l)
			if len(r.lines)%standEvery == 0 {
				r.stands = append(r.stands, maps.Clone(now))
			}
			r.lines = append(r.lines, l)
			r.points = append(r.points, l.Points...)
		}
	}
	if len(r.lines) == 0 {
		return nil, keeper.ErrNotRecorded
	}
	r.points = inOrder(r.points)
	return r, nil
}

// magic is how a member of ours begins: gzip's, with the flag of an extra field, which is behind six bytes of time,
// level and system (RFC 1952).
var magic = []byte{0x1f, 0x8b, 8, 4}

var ours = []byte{4, 0, 'V', 'N', 0, 0} // the extra field: its length, and one field of our own with nothing in it

// next is where the next member of ours begins, from a place on; the end if there is none.
func next(data []byte, from int) int {
	for from < len(data) {
		at := bytes.Index(data[from:], magic)
		if at < 0 {
			return len(data)
		}
		if at += from; bytes.HasPrefix(data[min(at+10, len(data)):], ours) {
			return at
		}
		from = at + 1
	}
	return len(data)
}

// member reads the first member as far as it can be read, and says what is behind it.
func member(data []byte) (lines []line, rest []byte, err error) {
	in := bytes.NewReader(data)
	unpacked, err := gzip.NewReader(in)
	if err != nil {
		return nil, data[next(data, 1):], err
	}
	unpacked.Multistream(false)
	text := bufio.NewReader(unpacked)
	for {
		one, errLine := text.ReadBytes('\n')
		if errLine != nil {
			if errors.Is(errLine, io.EOF) && len(one) == 0 {
				return lines, data[len(data)-in.Len():], nil
			}
			return lines, data[next(data, 1):], errLine
		}
		var l line
		if errLine := json.Unmarshal(one, &l); errLine != nil {
			return lines, data[next(data, 1):], errLine
		}
		lines = append(lines, l)
	}
}

func apply(now map[string]json.RawMessage, l line) {
	for name, part := range l.Parts {
		if string(part) == "null" && strings.Count(name, ".") >= 3 { // a row that is gone
			delete(now, name)
		} else {
			now[name] = part
		}
	}
}

// From and To are the first and the last moment.
func (r *Recording) From() time.Time { return r.lines[0].At }

// To is the last moment.
func (r *Recording) To() time.Time { return r.lines[len(r.lines)-1].At }

// Points are the track of it, oldest first.
func (r *Recording) Points() []engine.Point { return r.points }

// index is the last line that is not after a time, the first line if all are.
func (r *Recording) index(t time.Time) int {
	n, found := slices.BinarySearchFunc(r.lines, t, func(l line, t time.Time) int { return l.At.Compare(t) })
	if !found {
		n--
	}
	return max(n, 0)
}

// Step is the moment so many moments after or, below zero, before the one of a time.
func (r *Recording) Step(t time.Time, by int) time.Time {
	return r.lines[min(max(r.index(t)+by, 0), len(r.lines)-1)].At
}

// holeLeast is from which time on between two moments there is a hole: more than is left out of an hour that has had
// its share.
const holeLeast = sparsely + 2*Every

// Hole is the time around another of which nothing is recorded, and false if it was recorded.
func (r *Recording) Hole(t time.Time) (engine.Hole, bool) {
	n := r.index(t)
	if n+1 >= len(r.lines) || t.Before(r.lines[n].At) {
		return engine.Hole{}, false
	}
	h, least := engine.Hole{From: r.lines[n].At, To: r.lines[n+1].At}, holeLeast
	if r.lines[n+1].Thin {
		least += thinTo
	}
	return h, h.To.Sub(h.From) >= least && t.After(h.From.Add(Every))
}

// At is what was seen at a time: the last moment until then, or the first one.
func (r *Recording) At(t time.Time) (Frame, error) {
	n := r.index(t)
	now := maps.Clone(r.stands[n/standEvery])
	for _, l := range r.lines[n/standEvery*standEvery+1 : n+1] {
		if l.Anew {
			clear(now)
		}
		apply(now, l)
	}
	at := r.lines[n].At
	if err := gather(now); err != nil {
		return Frame{}, fmt.Errorf("the recording at %s: %w", at.Format(time.RFC3339), err)
	}
	f := Frame{Snapshot: keeper.Snapshot{}}
	if err := parts.Put(&f.Snapshot, now); err != nil {
		return Frame{}, fmt.Errorf("the recording at %s: %w", at.Format(time.RFC3339), err)
	}
	if text, ok := now[situationIn]; ok {
		if err := json.Unmarshal(text, &f.Situation); err != nil {
			return Frame{}, fmt.Errorf("the recording at %s: %w", at.Format(time.RFC3339), err)
		}
	}
	f.View.At = at
	for side := range f.Sides {
		v := &f.Sides[side]
		for n := range v.Instances {
			if c := &v.Instances[n]; c.At.IsZero() {
				c.At = v.At
			}
		}
	}
	end, _ := slices.BinarySearchFunc(r.points, at, func(p engine.Point, t time.Time) int {
		return cmp.Or(p.At.Compare(t), -1)
	})
	f.Track = r.points[:end:end]
	return f, nil
}

// gather makes lists of their rows.
func gather(now map[string]json.RawMessage) error {
	for _, side := range split.Sides {
		for _, list := range []string{"instances", "served"} {
			list = "sides." + side.String() + "." + list
			order, ok := now[list]
			if !ok {
				continue
			}
			var names []string
			if err := json.Unmarshal(order, &names); err != nil {
				return err
			}
			rows := []json.RawMessage{}
			for _, name := range names {
				if row, ok := now[list+"."+name]; ok {
					rows = append(rows, row)
				}
			}
			text, err := json.Marshal(rows)
			if err != nil {
				return err
			}
			now[list] = text
		}
	}
	return nil
}

// Strongest is each guard at the moment at which there was most evidence that the new side is worse, in the order in
// which the last moment has them.
func (r *Recording) Strongest() []past.Strong {
	best := map[string]past.Strong{}
	var order []string
	for _, l := range r.lines {
		text, ok := l.Parts["guards"]
		var list []guard.Status
		if !ok || json.Unmarshal(text, &list) != nil {
			continue
		}
		order = order[:0]
		for _, s := range list {
			order = append(order, s.Name)
			if was, seen := best[s.Name]; !seen || stronger(s, was.Status) {
				best[s.Name] = past.Strong{At: l.At, Status: s}
			}
		}
	}
	var strongest []past.Strong
	for _, name := range order {
		strongest = append(strongest, best[name])
	}
	return strongest
}

// stronger reports whether there is as much evidence in one as in another that was before it, or more.
func stronger(a, b guard.Status) bool {
	rank := map[guard.State]int{guard.Tripped: 3, guard.Watching: 2, guard.Clear: 2, guard.Unknown: 1}
	return cmp.Or(cmp.Compare(rank[a.State], rank[b.State]), cmp.Compare(a.Evidence, b.Evidence),
		cmp.Compare(a.Sure, b.Sure), cmp.Compare(a.Trial.Of, b.Trial.Of)) >= 0
}

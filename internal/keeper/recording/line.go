package recording

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"reflect"
	"slices"
	"strconv"
	"time"

	"vaiven/internal/core/engine"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/situation"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/parts"
)

// Every is how often a moment is recorded.
const Every = time.Second

// line is one moment.
type line struct {
	At     time.Time                  `json:"at"`
	Anew   bool                       `json:"anew,omitempty"` // it has all parts, and what was before is no more
	Thin   bool                       `json:"thin,omitempty"` // moments between it and the one before were left out
	Points []engine.Point             `json:"points,omitempty"`
	Parts  map[string]json.RawMessage `json:"parts,omitempty"` // those that have changed; null for a row that is gone
}

// situationIn is the part with the situation, beside those of a snapshot.
const situationIn = "situation"

// What a line may cost. A service of a few instances is recorded in full every second; of one with hundreds, what
// changes all the time is recorded of some at a time.
const (
	anewEvery = 5 * time.Minute // all is written again
	few       = 16              // rows up to which each is written every second
	some      = 1               // of more rows, so many a second though nothing about them has changed but figures,
	most      = 50              // and so many that have changed; the others follow
	rate      = 400             // bytes a second of a part that grows while it is made
)

// growing are the parts that are large, and change all the time while they are made.
var growing = map[string]bool{"proof": true, "about": true}

// taker makes lines of snapshots. It belongs to one goroutine.
type taker struct {
	last map[string]taken
	turn map[string]int // of rows, which is written next
	anew time.Time      // when all was written last
}

// taken is a part as it was written last.
type taken struct {
	value any
	data  []byte
	at    time.Time
}

// forget has the next line have all parts.
func (k *taker) forget() { k.last = nil }

// line is a snapshot as a line, with the newline, and whether it has all parts.
func (k *taker) line(s keeper.Snapshot, points []engine.Point) (text []byte, anew bool, err error) {
	l := line{At: s.At.Round(0), Points: points, Parts: map[string]json.RawMessage{}}
	if l.Anew = k.last == nil || s.At.Sub(k.anew) >= anewEvery; l.Anew {
		k.last, k.turn, k.anew = map[string]taken{}, map[string]int{}, s.At
	}
	put := func(name string, value any) {
		was, known := k.last[name]
		if known && (growing[name] && s.Proving && s.At.Sub(was.at) < time.Duration(len(was.data)/rate)*time.Second ||
			reflect.DeepEqual(was.value, value)) {
			return
		}
		data, errPart := json.Marshal(value)
		if errPart != nil {
			err = fmt.Errorf("part %s: %w", name, errPart)
			return
		}
		if data = short(data); !bytes.Equal(data, was.data) || !known {
			l.Parts[name] = data
			was.data, was.at = data, s.At
		}
		was.value = value
		k.last[name] = was
	}
	parts.Each(&s, func(name string, part reflect.Value) {
		switch value := part.Interface().(type) {
		case []reading.Condition:
			rows(k, &l, name, value, func(c reading.Condition) (string, reading.Condition, any) {
				row, quiet := rowOf(c, s.Sides[c.Side], len(value) <= few), c
				quiet.At, quiet.Took, quiet.History = time.Time{}, 0, nil
				return c.Name, row, quiet
			}, put)
		case []figures.Served:
			rows(k, &l, name, value, func(v figures.Served) (string, figures.Served, any) {
				return v.Address, v, v.Bad()
			}, put)
		case time.Time:
			if name != "at" { // the line has it
				put(name, value)
			}
		default:
			put(name, value)
		}
	})
	put(situationIn, situation.Of(s.View, situation.Seen{Trouble: s.Trouble, Heard: s.At}, s.At))
	if err != nil {
		return nil, false, err
	}
	text, err = json.Marshal(l)
	return append(text, '\n'), l.Anew, err
}

// rowOf is an instance as it is written. The time of a reading that was fresh goes without saying; of many, the times
// of the last readings are written of those alone with which something is wrong.
func rowOf(c reading.Condition, v engine.SideView, full bool) reading.Condition {
	if v.At.Sub(c.At) <= 2*v.Every {
		c.At = time.Time{}
	}
	if !full && c.State == reading.Healthy {
		c.History = nil
		return c
	}
	history := slices.Clone(c.History)
	for n, ms := range history {
		history[n] = math.Round(ms*10) / 10
	}
	c.History = history
	return c
}

// rows puts the rows of a list: those about which something has changed, and of the others as many as there is room
// for, in turn. What is beside the figures of a row is compared.
func rows[R any](k *taker, l *line, list string, all []R, of func(R) (name string, row R, beside any),
	put func(string, any)) {
	names, room, changed := make([]string, len(all)), len(all), 0
	if room > few {
		room = some
	}
	turn := k.turn[list]
	for n, r := range all {
		name, row, beside := of(r)
		names[n] = name
		key, mark := list+"."+name, list+"."+name+" beside"
		was, known := k.last[mark]
		moved := !known || !reflect.DeepEqual(was.value, beside)
		due := (n-turn+len(all))%max(len(all), 1) < room
		switch {
		case moved && (changed < most || l.Anew):
			changed++
		case !due:
			continue
		}
		k.last[mark] = taken{value: beside}
		put(key, row)
	}
	if len(all) > 0 {
		k.turn[list] = (turn + room) % len(all)
	}
	if before, ok := k.last[list].value.([]string); ok && !slices.Equal(before, names) {
		for _, name := range before {
			if key := list + "." + name; !slices.Contains(names, name) {
				l.Parts[key] = json.RawMessage("null")
				delete(k.last, key)
				delete(k.last, key+" beside")
			}
		}
	}
	put(list, names)
}

// digits is how many digits of a fraction are written: more are no figures, and cannot be packed.
const digits = 5

// short is JSON with its fractions cut to so many digits. Whole numbers are left alone.
func short(data []byte) []byte {
	out, quoted := data[:0:0], false
	for n := 0; n < len(data); n++ {
		c := data[n]
		switch {
		case c == '\\' && quoted:
			out = append(out, c)
			n++
			c = data[n]
		case c == '"':
			quoted = !quoted
		case !quoted && (c == '-' || c >= '0' && c <= '9'):
			end := n + 1
			for end < len(data) && bytes.IndexByte([]byte("0123456789.eE+-"), data[end]) >= 0 {
				end++
			}
			number := data[n:end]
			if v, err := strconv.ParseFloat(string(number), 64); err == nil && bytes.ContainsAny(number, ".e") {
				number = strconv.AppendFloat(nil, v, 'g', digits, 64)
			}
			out = append(out, number...)
			n = end - 1
			continue
		}
		out = append(out, c)
	}
	return out
}

package api

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"sync"

	"vaiven/internal/core/engine"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
)

// A snapshot travels as its parts: those of the types below, and of an array of sides, are told
// one by one, and only when they have changed.
var parted = map[reflect.Type]bool{
	reflect.TypeFor[keeper.Snapshot]():    true,
	reflect.TypeFor[engine.View]():        true,
	reflect.TypeFor[engine.SideView]():    true,
	reflect.TypeFor[[2]engine.SideView](): true,
}

// leaves calls with each part of a snapshot and its name, such as "front" and
// "sides.green.instances".
func leaves(v reflect.Value, name string, do func(name string, part reflect.Value)) {
	t := v.Type()
	switch {
	case !parted[t]:
		do(name, v)
	case t.Kind() == reflect.Array:
		for n := range v.Len() {
			leaves(v.Index(n), join(name, split.Side(n).String()), do)
		}
	default:
		for n := range v.NumField() {
			f := t.Field(n)
			tag, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			switch {
			case f.Anonymous:
				leaves(v.Field(n), name, do)
			case tag != "-":
				leaves(v.Field(n), join(name, tag), do)
			}
		}
	}
}

func join(name, more string) string {
	if name == "" {
		return more
	}
	return name + "." + more
}

// update is one line of a stream of views.
type update struct {
	Cursor string                     `json:"cursor"` // of the view that this leads to
	Parts  map[string]json.RawMessage `json:"parts"`  // those that have changed since the cursor that was asked for
}

// views are the parts of the newest snapshot, encoded once for all who watch. Make it with
// newViews. It is safe for concurrent use.
type views struct {
	epoch string // another for every keeper: cursors of one say nothing to the next

	mu      sync.Mutex // protects what follows
	number  uint64     // of the newest view, from 1
	parts   map[string]part
	changed chan struct{} // closed when there is a newer one
	ended   bool
}

type part struct {
	value   any
	data    []byte
	changed uint64 // number of the view with which it changed last
}

func newViews(epoch string) *views {
	return &views{epoch: epoch, parts: map[string]part{}, changed: make(chan struct{})}
}

// take takes a snapshot in.
func (v *views) take(s keeper.Snapshot) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	next, changes := v.number+1, false
	var failed error
	leaves(reflect.ValueOf(s), "", func(name string, value reflect.Value) {
		p, known := v.parts[name]
		now := value.Interface()
		if known && reflect.DeepEqual(p.value, now) {
			return
		}
		data, err := json.Marshal(now)
		if err != nil {
			failed = fmt.Errorf("view's part %s: %w", name, err)
			return
		}
		if !bytes.Equal(data, p.data) {
			p.data, p.changed = data, next
			changes = true
		}
		p.value = now
		v.parts[name] = p
	})
	if changes {
		v.number = next
		close(v.changed)
		v.changed = make(chan struct{})
	}
	return failed
}

// end says that there will be no other.
func (v *views) end() {
	v.mu.Lock()
	defer v.mu.Unlock()
	if !v.ended {
		v.ended = true
		close(v.changed)
	}
}

// after is what has changed since a view, and when there will be more: nil if there will not.
func (v *views) after(seen uint64) (u update, number uint64, more <-chan struct{}) {
	v.mu.Lock()
	defer v.mu.Unlock()
	u = update{Cursor: v.epoch + "-" + strconv.FormatUint(v.number, 10), Parts: map[string]json.RawMessage{}}
	for name, p := range v.parts {
		if p.changed > seen {
			u.Parts[name] = p.data
		}
	}
	if !v.ended {
		more = v.changed
	}
	return u, v.number, more
}

// seen is the number of a cursor, 0 if it is of another keeper.
func (v *views) seen(cursor string) (uint64, error) {
	if cursor == "" {
		return 0, nil
	}
	epoch, text, ok := strings.Cut(cursor, "-")
	n, err := strconv.ParseUint(text, 10, 64)
	if !ok || err != nil {
		return 0, wrong("since=%q is no cursor: take it from a line that was sent, or leave it out", cursor)
	}
	if epoch != v.epoch {
		return 0, nil
	}
	return n, nil
}

// put puts parts in their places in a snapshot. Those that this version does not know are
// passed over.
func put(s *keeper.Snapshot, parts map[string]json.RawMessage) error {
	var failed error
	leaves(reflect.ValueOf(s).Elem(), "", func(name string, place reflect.Value) {
		data, ok := parts[name]
		if !ok || failed != nil {
			return
		}
		fresh := reflect.New(place.Type()) // snapshots share what has not changed
		if err := json.Unmarshal(data, fresh.Interface()); err != nil {
			failed = fmt.Errorf("view's part %s: %w", name, err)
			return
		}
		place.Set(fresh.Elem())
	})
	return failed
}

package api

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"sync"

	"vaiven/internal/keeper"
	"vaiven/internal/keeper/parts"
)

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
	parts.Each(&s, func(name string, value reflect.Value) {
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

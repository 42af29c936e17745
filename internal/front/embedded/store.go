package embedded

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"os"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/world/durable"
)

// store keeps the table over a restart, in two files: one with everything, which is
// replaced, and beside it one with the last order of going home alone. That has a fixed
// size and is written over in its place, so that a full disk has room for it.
type store struct {
	file string

	mu     sync.Mutex // protects what follows
	next   *table     // to be written, nil if nothing is
	asked  uint64     // tables asked for so far
	done   uint64     // the last that is on disk, or was overtaken by one that is
	failed error      // of the last try
	since  time.Time  // when the first of those that are not done was asked for
	order  error      // why the last order could not be kept, nil if it was
	ready  chan struct{}
	wake   chan struct{}
	paused bool // another process writes
}

// kept is the state file.
type kept struct {
	Split    reading.Split       `json:"split"`
	Order    reading.Order       `json:"order,omitzero"`
	Sides    [2][]reading.Server `json:"sides"`
	Epochs   [2]uint64           `json:"epochs,omitzero"`   // how often each side was released
	Draining [2]bool             `json:"draining,omitzero"` // sides that are being given up
	Whole    split.Side          `json:"whole"`             // which had all requests last
	Seed     string              `json:"seed,omitempty"`    // of the split key's hash
}

// keep is a table as it is kept, and handed on.
func keep(t *table) kept {
	k := kept{Split: t.split, Order: t.order, Whole: t.whole, Seed: t.seed}
	for _, side := range split.Sides {
		p := &t.sides[side]
		k.Epochs[side], k.Draining[side] = p.epoch, p.draining
		for n := range p.instances {
			k.Sides[side] = append(k.Sides[side], p.described(n))
		}
	}
	return k
}

// table is what was kept, with the counts of the table before.
func (k kept) table(before *table) *table {
	t := before
	for _, side := range split.Sides {
		t = t.withInstances(side, k.Sides[side])
		t.sides[side].epoch, t.sides[side].draining = k.Epochs[side], k.Draining[side]
	}
	t.split, t.order, t.whole, t.seed = k.Split, k.Order, k.Whole, k.Seed
	if t.split.Share == split.Whole {
		t.whole = split.Green
	}
	return t
}

func newStore(file string) *store {
	return &store{file: file, ready: make(chan struct{}), wake: make(chan struct{}, 1)}
}

// orderFile is where the last order stands alone.
func (s *store) orderFile() string { return s.file + ".home" }

// orderSize is how large that file is. It is written in one piece.
const orderSize = 1024

// load is the table that was kept, with everything where the last order sent it.
func (s *store) load() (*table, error) {
	t := &table{split: reading.Split{Revision: 1, Since: time.Now()}}
	for _, side := range split.Sides {
		t.sides[side].tally = &tally{}
	}
	data, err := os.ReadFile(s.file)
	switch {
	case errors.Is(err, fs.ErrNotExist): // all requests on blue
	case err != nil:
		return nil, fmt.Errorf("read the front's state: %w", err)
	default:
		var k kept
		if err := json.Unmarshal(data, &k); err != nil || !k.Split.Share.Valid() {
			return nil, fmt.Errorf("the front's state in %s is damaged (%v): move it away to start with all requests "+
				"on blue", s.file, err)
		}
		t = k.table(t)
	}
	if o, ok := s.loadOrder(); ok && o.Generation > t.order.Generation {
		t = t.home(o)
	}
	s.makeRoom(t.order)
	return t, nil
}

// loadOrder is the order that stands alone, and false if there is none, or one that was
// written in part.
func (s *store) loadOrder() (reading.Order, bool) {
	var o reading.Order
	data, err := os.ReadFile(s.orderFile())
	if err != nil {
		return o, false
	}
	sum, text, ok := strings.Cut(strings.TrimRight(string(data), " \n"), " ")
	if !ok || sum != fmt.Sprintf("%08x", crc32.ChecksumIEEE([]byte(text))) {
		return o, false
	}
	return o, json.Unmarshal([]byte(text), &o) == nil
}

// makeRoom makes the order's file as large as it will ever be, while there is room.
func (s *store) makeRoom(o reading.Order) {
	if info, err := os.Stat(s.orderFile()); err == nil && info.Size() == orderSize {
		return
	}
	_ = durable.WriteFile(s.orderFile(), orderText(o)) // without it, a full disk is said when it comes to it
}

// orderText is an order as its file has it: a checksum, the order, and spaces to the end.
func orderText(o reading.Order) []byte {
	const most = 200 // of a person's words
	o.Why = strings.ToValidUTF8(o.Why[:min(len(o.Why), most)], "")
	o.By = strings.ToValidUTF8(o.By[:min(len(o.By), most)], "")
	text, err := json.Marshal(o)
	if err != nil {
		panic(err) // numbers, texts and a time of this century
	}
	line := fmt.Sprintf("%08x %s", crc32.ChecksumIEEE(text), text)
	return []byte(line + strings.Repeat(" ", max(orderSize-len(line)-1, 0)) + "\n")
}

// pause leaves the files to another process.
func (s *store) pause() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.paused, s.next, s.done = true, nil, s.asked
}

// resume writes again, the table in force first.
func (s *store) resume(t *table) {
	s.mu.Lock()
	s.paused = false
	s.mu.Unlock()
	s.wentHome(t)
}

// writes reports whether this process does.
func (s *store) writes() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return !s.paused
}

// wentHome keeps a going home, which is in force already. It waits for no disk.
func (s *store) wentHome(t *table) {
	if !s.writes() {
		return
	}
	s.later(t)
	go func() {
		err := durable.Overwrite(s.orderFile(), orderText(t.order))
		if err == nil {
			err = durable.Sync(s.orderFile())
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		s.order = err
	}()
}

// keep has a table written, and waits until it is on disk.
func (s *store) keep(ctx context.Context, t *table) error {
	n := s.later(t)
	for {
		s.mu.Lock()
		done, failed, ready := s.done, s.failed, s.ready
		s.mu.Unlock()
		if done >= n {
			return failed
		}
		select {
		case <-ready:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// later has a table written after those before it. One that has not been begun is left out.
func (s *store) later(t *table) (number uint64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.asked == s.done {
		s.since = time.Now()
	}
	if s.paused {
		return s.done
	}
	s.asked++
	s.next = t
	select {
	case s.wake <- struct{}{}:
	default:
	}
	return s.asked
}

// run writes until the context ends, and then what is left to write, unless the disk hangs.
func (s *store) run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			s.flush()
			return
		case <-s.wake:
			s.flush()
		}
	}
}

// flush writes what waits.
func (s *store) flush() {
	s.mu.Lock()
	t, n := s.next, s.asked
	s.next = nil
	s.mu.Unlock()
	if t == nil {
		return
	}
	err := s.write(t)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.done, s.failed, s.since = n, err, time.Now()
	close(s.ready)
	s.ready = make(chan struct{})
}

func (s *store) write(t *table) error {
	k := keep(t)
	data, err := json.MarshalIndent(k, "", "\t")
	if err != nil {
		return err
	}
	return durable.WriteFile(s.file, append(data, '\n'))
}

// late is how long writing may take before it is worth a word.
const late = 2 * time.Second

// trouble is what would not survive a restart of the front, "" if everything would.
func (s *store) trouble() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.failed != nil && s.order != nil:
		return fmt.Sprintf("the split is in force but would not survive a restart of the front: %v", s.failed)
	case s.failed != nil:
		return fmt.Sprintf("the front cannot write its state: changes are refused, going home works: %v", s.failed)
	case s.done < s.asked && time.Since(s.since) > late:
		return "the front's state has not been written yet: a restart of the front could undo the last change"
	}
	return ""
}

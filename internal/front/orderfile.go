package front

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/world/place"
)

// OrderFile is the order of going home of a front that cannot hold it itself: a small file that
// all processes which steer the front share, and beside it a lock, and a file of the term alone, so that
// who begins one writes over nobody's going home. It is not written
// through to the disk, and nobody waits for a disk that hangs. Make it with NewMark. It is
// safe for concurrent use.
type OrderFile struct {
	on   place.Machine
	path string

	mu   sync.Mutex // protects last
	last reading.Order

	writing sync.Mutex // held by who writes the file
}

// NewOrderFile is the one in a file of a machine, which need not be there yet. Without a name it
// is one of this process alone.
func NewOrderFile(on place.Machine, path string) *OrderFile { return &OrderFile{on: on, path: path} }

// markLimit is how long the file is waited for on this machine by who goes home, and farLimit on another, and by who
// does not.
const (
	markLimit = 100 * time.Millisecond
	farLimit  = 5 * time.Second
)

// limit is how long the file is waited for.
func (m *OrderFile) limit() time.Duration {
	if place.Here(m.on) {
		return markLimit
	}
	return farLimit
}

// Known is the last order, as far as the file says so at once: else the last that this process knows of.
func (m *OrderFile) Known() reading.Order {
	ctx, cancel := context.WithTimeout(context.Background(), m.limit())
	defer cancel()
	o, _ := m.Read(ctx)
	return o
}

// Read is the last order, as the file says it: a change waits for that, and going home does not. Beside an error it is
// the last that this process knows of.
func (m *OrderFile) Read(ctx context.Context) (reading.Order, error) {
	ctx, cancel := context.WithTimeout(ctx, farLimit)
	defer cancel()
	termed := make(chan error, 1)
	var term uint64
	go func() (err error) {
		defer func() { termed <- err }()
		term, err = m.loadTerm(ctx)
		return err
	}()
	o, err := m.loadOrder(ctx)
	if err = errors.Join(err, <-termed); err != nil {
		return o, fmt.Errorf("read the order of going home: %w", err)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.last.Term = max(m.last.Term, term)
	return m.last, nil
}

// loadOrder is the last order, and the last term that this process knows of. If it cannot be read in time, it is the
// last that this process knows of.
func (m *OrderFile) loadOrder(ctx context.Context) (reading.Order, error) {
	o, err := m.load(ctx)
	m.mu.Lock()
	defer m.mu.Unlock()
	if err == nil && o.Generation >= m.last.Generation {
		o.Term = m.last.Term
		m.last = o
	}
	return m.last, err
}

func (m *OrderFile) load(ctx context.Context) (reading.Order, error) {
	var o reading.Order
	if m.path == "" {
		return o, nil
	}
	data, err := m.on.ReadFile(ctx, m.path)
	if errors.Is(err, fs.ErrNotExist) {
		return o, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &o)
	}
	return o, err
}

func (m *OrderFile) loadTerm(ctx context.Context) (uint64, error) {
	if m.path == "" {
		return 0, nil
	}
	data, err := m.on.ReadFile(ctx, m.termFile())
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	return strconv.ParseUint(strings.TrimSpace(string(data)), 10, 64)
}

func (m *OrderFile) termFile() string { return m.path + ".term" }

// NewTerm begins a term after another. Whoever asks has the lock.
func (m *OrderFile) NewTerm(ctx context.Context, after uint64) (uint64, error) {
	before, err := m.Read(ctx)
	if err != nil {
		return 0, err
	}
	term := max(before.Term, after) + 1
	if m.path != "" {
		if err := m.putFile(ctx, m.termFile(), fmt.Appendln(nil, term)); err != nil {
			return 0, fmt.Errorf("write the term: %w", err)
		}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.last.Term = max(m.last.Term, term)
	return term, nil
}

// Ahead begins to read the order, beside what else is read. The function that it returns waits for that, but no longer
// than for a time: a disk that hangs holds nobody up who goes home.
func (m *OrderFile) Ahead(ctx context.Context) (wait func(time.Duration)) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		_, _ = m.loadOrder(ctx) // what this process knows will do
	}()
	return func(most time.Duration) {
		select {
		case <-done:
		case <-time.After(max(most, markLimit)):
		}
	}
}

// Held is the last order that this process knows of.
func (m *OrderFile) Held() reading.Order {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.last
}

// Raise makes a going home the last order, and writes it down. The order holds in this
// process even if it could not be written.
func (m *OrderFile) Raise(h Homing, at time.Time) (reading.Order, error) {
	ctx, cancel := context.WithTimeout(context.Background(), m.limit())
	before, _ := m.loadOrder(ctx) // what this process knows will do
	cancel()
	o, err := h.Next(before, at)
	if err != nil {
		return o, err
	}
	m.mu.Lock()
	m.last = o
	m.mu.Unlock()
	done := make(chan error, 1)
	go func() { done <- m.write() }() // as long as it takes, for the others
	timer := time.NewTimer(m.limit())
	defer timer.Stop()
	select {
	case err = <-done:
	case <-timer.C:
		err = place.ErrHangs
	}
	if err != nil {
		err = fmt.Errorf("write the order of going home: %w", err)
	}
	return o, err
}

// write writes the last order down. Of several that a disk held up none comes after a later
// one.
func (m *OrderFile) write() error {
	if m.path == "" {
		return nil
	}
	m.writing.Lock()
	defer m.writing.Unlock()
	m.mu.Lock()
	o := m.last
	m.mu.Unlock()
	data, err := json.Marshal(o)
	if err != nil {
		return err
	}
	return m.putFile(context.Background(), m.path, append(data, '\n'))
}

// putFile gives a file another content.
func (m *OrderFile) putFile(ctx context.Context, path string, data []byte) error {
	slot := place.Slot{On: m.on, Path: path, Mode: 0o664}
	c, err := slot.Candidate(ctx, data)
	if err != nil && m.folder(ctx) == nil {
		c, err = slot.Candidate(ctx, data)
	}
	if err == nil {
		err = c.Put(ctx)
	}
	if err != nil {
		c.Discard(ctx)
		return m.on.Overwrite(ctx, path, data)
	}
	return nil
}

// Lock keeps other processes from changing the front. It waits until the context ends.
func (m *OrderFile) Lock(ctx context.Context) (unlock func(), err error) {
	if m.path == "" {
		return func() {}, nil
	}
	unlock, err = m.on.Lock(ctx, m.path+".lock")
	if errors.Is(err, fs.ErrNotExist) && m.folder(ctx) == nil {
		unlock, err = m.on.Lock(ctx, m.path+".lock")
	}
	switch {
	case err != nil && ctx.Err() != nil:
		err = fmt.Errorf("take the front's lock: somebody else changes it: %w", err)
	case err != nil:
		err = fmt.Errorf("take the front's lock: %w", err)
	}
	return unlock, err
}

// folder makes the folder that the file is to be in.
func (m *OrderFile) folder(ctx context.Context) error {
	out, err := m.on.Run(ctx, place.Command{Words: []string{"mkdir", "-p", filepath.Dir(m.path)}})
	if err == nil && out.Status != 0 {
		err = fmt.Errorf("make its folder: %s", out.Output)
	}
	return err
}

package front

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"sync"
	"syscall"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/durable"
)

// Mark is the order of going home of a front that cannot hold it itself: a small file that
// all processes which steer the front share, and a lock beside it. It is not written
// through to the disk, and nobody waits for a disk that hangs. Make it with NewMark. It is
// safe for concurrent use.
type Mark struct {
	path string

	mu      sync.Mutex // protects what follows
	last    reading.Order
	reading bool // somebody reads, and may hang
}

// NewMark is the mark in a file, which need not be there yet. Without a name it is one of
// this process alone.
func NewMark(path string) *Mark { return &Mark{path: path} }

// markLimit is how long the file is waited for.
const markLimit = 100 * time.Millisecond

// limited does something with a disk that may hang, and does not wait for it longer than
// the limit. What hangs goes on beside.
func limited(limit time.Duration, do func() error) error {
	done := make(chan error, 1)
	go func() { done <- do() }()
	timer := time.NewTimer(limit)
	defer timer.Stop()
	select {
	case err := <-done:
		return err
	case <-timer.C:
		return errLate
	}
}

var errLate = fmt.Errorf("the disk has not answered within %v", markLimit)

// Read is the last order. If the file cannot be read, it is the last that this process
// knows of.
func (m *Mark) Read() (reading.Order, error) {
	m.mu.Lock()
	if m.reading {
		defer m.mu.Unlock()
		return m.last, errLate // one that hangs is enough
	}
	m.reading = true
	m.mu.Unlock()
	err := limited(markLimit, func() error {
		o, err := m.load()
		m.mu.Lock()
		defer m.mu.Unlock()
		m.reading = false
		if err == nil && o.Generation >= m.last.Generation {
			m.last = o
		}
		return err
	})
	m.mu.Lock()
	defer m.mu.Unlock()
	if err != nil {
		err = fmt.Errorf("read the order of going home: %w", err)
	}
	return m.last, err
}

func (m *Mark) load() (reading.Order, error) {
	var o reading.Order
	if m.path == "" {
		return o, nil
	}
	data, err := os.ReadFile(m.path)
	if errors.Is(err, fs.ErrNotExist) {
		return o, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &o)
	}
	return o, err
}

// Raise makes a going home the last order, and writes it down. The order holds in this
// process even if it could not be written.
func (m *Mark) Raise(h Homing, at time.Time) (reading.Order, error) {
	before, _ := m.Read() // what this process knows will do
	o := reading.Order{Generation: before.Generation + 1, Side: h.Side, At: at.UTC(), By: h.By, Why: h.Why}
	m.mu.Lock()
	m.last = o
	m.mu.Unlock()
	err := limited(markLimit, func() error { return m.write(o) })
	if err != nil {
		err = fmt.Errorf("write the order of going home: %w", err)
	}
	return o, err
}

func (m *Mark) write(o reading.Order) error {
	if m.path == "" {
		return nil
	}
	data, err := json.Marshal(o)
	if err != nil {
		return err
	}
	slot := durable.Slot{Path: m.path, Mode: 0o664}
	c, err := slot.Candidate(append(data, '\n'))
	if err == nil {
		err = c.Put()
	}
	if err != nil {
		return durable.Overwrite(m.path, append(data, '\n'))
	}
	return nil
}

// Lock keeps other processes from changing the front. It waits until the context ends.
func (m *Mark) Lock(ctx context.Context) (unlock func(), err error) {
	if m.path == "" {
		return func() {}, nil
	}
	got := make(chan *os.File)
	failed := make(chan error, 1)
	gone := make(chan struct{})
	go func() {
		l, err := os.OpenFile(m.path+".lock", os.O_CREATE|os.O_RDWR, 0o664)
		if err != nil {
			failed <- err
			return
		}
		for {
			err := syscall.Flock(int(l.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
			if err == nil {
				break
			}
			select {
			case <-gone:
				failed <- l.Close()
				return
			case <-time.After(5 * time.Millisecond):
			}
		}
		select {
		case got <- l:
		case <-gone: // nobody waits for it any more
			_ = l.Close()
		}
	}()
	select {
	case l := <-got:
		return func() { _ = l.Close() }, nil
	case err := <-failed:
		return nil, fmt.Errorf("take the front's lock: %w", err)
	case <-ctx.Done():
		close(gone)
		return nil, fmt.Errorf("take the front's lock: somebody else changes it: %w", context.Cause(ctx))
	}
}

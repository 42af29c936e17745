package place

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"time"
)

// ErrHangs is wrapped when a disk has not answered before the context ended. What was
// begun goes on beside, and may still be done.
var ErrHangs = errors.New("the disk does not answer")

// act does something with a file of this machine, for as long as the context lasts: the
// kernel knows of no context, and a disk that hangs holds up whoever asks for it. In a folder
// where something of the same kind hangs nothing else is begun, so that what hangs does not
// pile up; a disk that takes nothing may still be read.
func act[T any](ctx context.Context, does kind, path string, do func() (T, error)) (T, error) {
	var none T
	switch {
	case ctx.Err() != nil:
		return none, context.Cause(ctx)
	case ctx.Done() == nil:
		return do()
	}
	in := folder{filepath.Dir(path), does}
	if err := hanging.wait(ctx, in); err != nil {
		return none, err
	}
	type outcome struct {
		value T
		err   error
	}
	done := make(chan outcome, 1)
	go func() {
		v, err := do()
		done <- outcome{v, err}
	}()
	select {
	case o := <-done:
		return o.value, o.err
	case <-ctx.Done():
	}
	select {
	case o := <-done: // it was in time
		return o.value, o.err
	default:
	}
	back := hanging.add(in)
	go func() {
		<-done
		back()
	}()
	return none, hangs(ctx, in)
}

func hangs(ctx context.Context, f folder) error {
	return fmt.Errorf("%s: %w: %w", f.path, ErrHangs, context.Cause(ctx))
}

// Read reads something of a file or folder of this machine, for as long as the context
// lasts; see [ErrHangs].
func Read[T any](ctx context.Context, path string, do func() (T, error)) (T, error) {
	return act(ctx, reads, path, do)
}

// kind is what is done with a file.
type kind int

const (
	reads kind = iota
	writes
)

type folder struct {
	path string
	kind kind
}

// folders are those in which something hangs, and how much.
type folders struct {
	mu    sync.Mutex // protects count
	count map[folder]int
}

var hanging = folders{count: map[folder]int{}}

// add says that something hangs in a folder, until back is called.
func (f *folders) add(in folder) (back func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.count[in]++
	return func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		if f.count[in]--; f.count[in] == 0 {
			delete(f.count, in)
		}
	}
}

// wait waits until nothing hangs in a folder.
func (f *folders) wait(ctx context.Context, in folder) error {
	for {
		f.mu.Lock()
		n := f.count[in]
		f.mu.Unlock()
		if n == 0 {
			return nil
		}
		select {
		case <-ctx.Done():
			return hangs(ctx, in)
		case <-time.After(lockEvery):
		}
	}
}

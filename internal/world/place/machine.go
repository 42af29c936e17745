package place

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"vaiven/internal/world/durable"
)

// Here reports whether a machine is this one.
func Here(m Machine) bool {
	_, here := m.(Local)
	return here
}

// Machine is a place that a front stands on: its files are changed, too. Every method is one act, and takes no longer
// than its context lasts (see [ErrHangs]); what takes several, such as replacing a file, is the same everywhere (see
// [Slot]). Errors about files wrap those of package io/fs.
type Machine interface {
	Place
	// Glob is the names that match a pattern, in order.
	Glob(ctx context.Context, pattern string) ([]string, error)
	// Stat is what a file is.
	Stat(ctx context.Context, path string) (fs.FileInfo, error)
	// Create writes a new file, whose name begins with a text, and says its name.
	Create(ctx context.Context, begin string, mode fs.FileMode, data []byte) (name string, err error)
	// Overwrite gives a file that is there other content in its place.
	Overwrite(ctx context.Context, path string, data []byte) error
	// Rename gives a file another name, in one step, in place of what bears it.
	Rename(ctx context.Context, from, to string) error
	// Remove removes a file.
	Remove(ctx context.Context, path string) error
	// Sync writes files, or the names in folders, through to the disk.
	Sync(ctx context.Context, paths ...string) error
	// Family is a process with those that it has started and that have not ended. Its error
	// wraps [fs.ErrNotExist] if there is no such process.
	Family(ctx context.Context, pid string) (Family, error)
	// Follow reads what is added to a file. Nothing is opened yet.
	Follow(path string) Added
	// Lock keeps all others who ask for the same file's lock out until it is given back.
	// It waits until the context ends; its error is then the context's cause.
	Lock(ctx context.Context, path string) (unlock func(), err error)
}

// do is an act that writes, and comes to nothing but an error.
func do(ctx context.Context, path string, try func() error) error {
	_, err := act(ctx, writes, path, func() (struct{}, error) { return struct{}{}, try() })
	return err
}

// Glob is the names that match a pattern.
func (Local) Glob(ctx context.Context, pattern string) ([]string, error) {
	return act(ctx, reads, pattern, func() ([]string, error) { return filepath.Glob(pattern) })
}

// Stat is what a file of this machine is.
func (Local) Stat(ctx context.Context, path string) (fs.FileInfo, error) {
	return act(ctx, reads, path, func() (fs.FileInfo, error) { return os.Stat(path) })
}

// Create writes a new file.
func (Local) Create(ctx context.Context, begin string, mode fs.FileMode, data []byte) (string, error) {
	return act(ctx, writes, begin, func() (string, error) { return create(begin, mode, data) })
}

func create(begin string, mode fs.FileMode, data []byte) (string, error) {
	f, err := os.CreateTemp(filepath.Dir(begin), filepath.Base(begin)+"*")
	if err != nil {
		return "", err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Chmod(mode), f.Close()); err != nil {
		_ = os.Remove(f.Name())
		return "", err
	}
	return f.Name(), nil
}

// Overwrite gives a file other content; see [durable.Overwrite].
func (Local) Overwrite(ctx context.Context, path string, data []byte) error {
	return do(ctx, path, func() error { return durable.Overwrite(path, data) })
}

// Rename gives a file another name. If one of that name is there, it is replaced, and its owner stays the owner where
// we may say so: a proxy that reads its file as a user of its own goes on reading it.
func (Local) Rename(ctx context.Context, from, to string) error {
	return do(ctx, to, func() error {
		if info, err := os.Lstat(to); err == nil && info.Mode().IsRegular() {
			if owner, ok := info.Sys().(*syscall.Stat_t); ok {
				_ = os.Lchown(from, int(owner.Uid), int(owner.Gid)) // without the right to, it is ours
			}
		}
		return os.Rename(from, to)
	})
}

// Remove removes a file.
func (Local) Remove(ctx context.Context, path string) error {
	return do(ctx, path, func() error { return os.Remove(path) })
}

// Sync writes files through to the disk.
func (Local) Sync(ctx context.Context, paths ...string) error {
	var failed []error
	for _, path := range paths {
		failed = append(failed, do(ctx, path, func() error { return durable.Sync(path) }))
	}
	return errors.Join(failed...)
}

// lockEvery is how often somebody who waits for a lock asks for it.
const lockEvery = 5 * time.Millisecond

// Lock takes the lock of a file, which is made if it is not there. The kernel gives it back
// when the process ends. A disk that hangs does not outlast the context.
func (Local) Lock(ctx context.Context, path string) (unlock func(), err error) {
	got := make(chan *os.File)
	failed := make(chan error, 1)
	gone := make(chan struct{})
	go func() {
		l, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0o664)
		if errors.Is(err, fs.ErrPermission) { // another user made it: a lock needs no right to write
			l, err = os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
		}
		if err != nil {
			failed <- err
			return
		}
		for syscall.Flock(int(l.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
			select {
			case <-gone:
				_ = l.Close()
				return
			case <-time.After(lockEvery):
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
		return nil, err
	case <-ctx.Done():
		close(gone)
		return nil, context.Cause(ctx)
	}
}

// Slot is a file that several processes replace, each by a candidate beside it that is
// then renamed. Whoever has the last word sweeps the others' candidates away: a process
// that has decided on a change and not renamed it yet cannot do so any more, however long
// it was held up.
type Slot struct {
	On   Machine
	Path string
	Mode fs.FileMode // of the file
}

// Candidate is what may take the file's place.
type Candidate struct {
	slot Slot
	name string
}

// ErrSwept is wrapped when a candidate was swept away before it took its place.
var ErrSwept = errors.New("swept away")

// begin begins the names of candidates. Patterns such as *.conf do not match them.
func (s Slot) begin() string {
	return filepath.Join(filepath.Dir(s.Path), "."+filepath.Base(s.Path)+".next-")
}

// Candidate writes a candidate. It is not on the disk before Sync was called with its name.
func (s Slot) Candidate(ctx context.Context, data []byte) (Candidate, error) {
	name, err := s.On.Create(ctx, s.begin(), s.Mode, data)
	return Candidate{slot: s, name: name}, err
}

// Name is the candidate's file.
func (c Candidate) Name() string { return c.name }

// Put gives the candidate its place.
func (c Candidate) Put(ctx context.Context) error {
	err := c.slot.On.Rename(ctx, c.name, c.slot.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w: %s", ErrSwept, c.name)
	}
	return err
}

// Discard removes the candidate, if it has not taken its place, also when the context has
// ended. A disk that hangs holds it up for a second.
func (c Candidate) Discard(ctx context.Context) {
	if c.name == "" {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer cancel()
	_ = c.slot.On.Remove(ctx, c.name)
}

// Slot is the place that the candidate may take.
func (c Candidate) Slot() Slot { return c.slot }

// Sweep removes all candidates that have not taken their place.
func (s Slot) Sweep(ctx context.Context) error {
	names, err := s.On.Glob(ctx, literal(s.begin())+"*")
	failed := []error{err}
	for _, name := range names {
		if err := s.On.Remove(ctx, name); !errors.Is(err, fs.ErrNotExist) {
			failed = append(failed, err)
		}
	}
	return errors.Join(failed...)
}

// literal is a name as a pattern that matches it alone.
func literal(name string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(name)
}

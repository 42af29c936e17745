package durable

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Slot is a file that several processes replace, each by a candidate beside it that is
// then renamed. Whoever has the last word sweeps the others' candidates away: a process
// that has decided on a change and not renamed it yet cannot do so any more, however long
// it was held up.
type Slot struct {
	Path string
	Mode os.FileMode // of the file
}

// Candidate is what may take the file's place.
type Candidate struct {
	slot Slot
	name string
}

// ErrSwept is wrapped when a candidate was swept away before it took its place.
var ErrSwept = errors.New("swept away")

// prefix begins the names of candidates. Patterns such as *.conf do not match them.
func (s Slot) prefix() string { return "." + filepath.Base(s.Path) + ".next-" }

// Candidate writes a candidate. It is not on the disk before [Sync] was called with its name.
func (s Slot) Candidate(data []byte) (Candidate, error) {
	f, err := os.CreateTemp(filepath.Dir(s.Path), s.prefix())
	if err != nil {
		return Candidate{}, err
	}
	c := Candidate{slot: s, name: f.Name()}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Chmod(s.Mode), f.Close()); err != nil {
		c.Discard()
	}
	return c, err
}

// Name is the candidate's file.
func (c Candidate) Name() string { return c.name }

// Put gives the candidate its place.
func (c Candidate) Put() error {
	err := os.Rename(c.name, c.slot.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w: %s", ErrSwept, c.name)
	}
	return err
}

// Discard removes the candidate, if it has not taken its place.
func (c Candidate) Discard() { _ = os.Remove(c.name) }

// Sweep removes all other candidates for the same place.
func (c Candidate) Sweep() error { return c.slot.Sweep() }

// Sweep removes all candidates that have not taken their place.
func (s Slot) Sweep() error {
	names, err := os.ReadDir(filepath.Dir(s.Path))
	if err != nil {
		return err
	}
	var failed []error
	for _, e := range names {
		if !strings.HasPrefix(e.Name(), s.prefix()) {
			continue
		}
		if err := os.Remove(filepath.Join(filepath.Dir(s.Path), e.Name())); err != nil && !errors.Is(err, fs.ErrNotExist) {
			failed = append(failed, err)
		}
	}
	return errors.Join(failed...)
}

package placetest

import (
	"context"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"vaiven/internal/world/place"
)

// Elsewhere is a machine whose names of files all begin at a folder of this one. Commands
// get such names, too.
type Elsewhere struct {
	place.Local
	Root string
	// Before is asked before each act on files, by the name of the method in lower case;
	// an error of its own is the act's, which does nothing then. nil lets everything pass.
	// It is called concurrently.
	Before func(act, path string) error
}

var _ place.Machine = (*Elsewhere)(nil)

// Here is the name on this machine of a file there.
func (e *Elsewhere) Here(path string) string { return filepath.Join(e.Root, path) }

// there is the name there of a file on this machine.
func (e *Elsewhere) there(path string) string { return strings.TrimPrefix(path, e.Root) }

func (e *Elsewhere) before(act, path string) error {
	if e.Before == nil {
		return nil
	}
	return e.Before(act, path)
}

// Run runs a command with the names among its words.
func (e *Elsewhere) Run(ctx context.Context, c place.Command) (place.Outcome, error) {
	own := slices.Clone(c.Words)
	for n, w := range c.Words {
		if n > 0 && strings.HasPrefix(w, "/") {
			own[n] = e.Here(w)
		}
	}
	if err := e.before("run", c.Words[0]); err != nil {
		return place.Outcome{}, err
	}
	return e.Local.Run(ctx, place.Command{Words: own, Environment: c.Environment})
}

// Follow reads what is added to a file.
func (e *Elsewhere) Follow(path string) place.Added {
	return &follow{e, path, e.Local.Follow(e.Here(path))}
}

type follow struct {
	on   *Elsewhere
	path string
	place.Added
}

func (f *follow) Next(ctx context.Context) ([]byte, bool, error) {
	if err := f.on.before("follow", f.path); err != nil {
		return nil, false, err
	}
	return f.Added.Next(ctx)
}

// ReadFile reads a file.
func (e *Elsewhere) ReadFile(ctx context.Context, path string) ([]byte, error) {
	if err := e.before("readfile", path); err != nil {
		return nil, err
	}
	return e.Local.ReadFile(ctx, e.Here(path))
}

// Glob is the names that match a pattern.
func (e *Elsewhere) Glob(ctx context.Context, pattern string) ([]string, error) {
	if err := e.before("glob", pattern); err != nil {
		return nil, err
	}
	names, err := e.Local.Glob(ctx, e.Here(pattern))
	for n := range names {
		names[n] = e.there(names[n])
	}
	return names, err
}

// Stat is what a file is.
func (e *Elsewhere) Stat(ctx context.Context, path string) (fs.FileInfo, error) {
	if err := e.before("stat", path); err != nil {
		return nil, err
	}
	return e.Local.Stat(ctx, e.Here(path))
}

// Create writes a new file.
func (e *Elsewhere) Create(ctx context.Context, begin string, mode fs.FileMode, data []byte) (string, error) {
	if err := e.before("create", begin); err != nil {
		return "", err
	}
	name, err := e.Local.Create(ctx, e.Here(begin), mode, data)
	return e.there(name), err
}

// Overwrite gives a file other content.
func (e *Elsewhere) Overwrite(ctx context.Context, path string, data []byte) error {
	if err := e.before("overwrite", path); err != nil {
		return err
	}
	return e.Local.Overwrite(ctx, e.Here(path), data)
}

// Rename gives a file another name.
func (e *Elsewhere) Rename(ctx context.Context, from, to string) error {
	if err := e.before("rename", to); err != nil {
		return err
	}
	return e.Local.Rename(ctx, e.Here(from), e.Here(to))
}

// Remove removes a file.
func (e *Elsewhere) Remove(ctx context.Context, path string) error {
	if err := e.before("remove", path); err != nil {
		return err
	}
	return e.Local.Remove(ctx, e.Here(path))
}

// Sync writes files through to the disk.
func (e *Elsewhere) Sync(ctx context.Context, paths ...string) error {
	own := make([]string, len(paths))
	for n, path := range paths {
		if err := e.before("sync", path); err != nil {
			return err
		}
		own[n] = e.Here(path)
	}
	return e.Local.Sync(ctx, own...)
}

// Lock takes the lock of a file.
func (e *Elsewhere) Lock(ctx context.Context, path string) (func(), error) {
	if err := e.before("lock", path); err != nil {
		return nil, err
	}
	return e.Local.Lock(ctx, e.Here(path))
}

package versions

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"vaiven/internal/core/raise"
	"vaiven/internal/world/delivered"
	"vaiven/internal/world/place"
)

// folder has a version in each file or folder below it.
type folder struct {
	path string

	mu    sync.Mutex // protects known
	known map[string]seen
}

// seen is a digest with what the build looked like when it was taken.
type seen struct {
	looks string
	id    string
}

func (f *folder) List(ctx context.Context) ([]raise.Version, error) {
	entries, err := place.Read(ctx, filepath.Join(f.path, "."),
		func() ([]fs.DirEntry, error) { return os.ReadDir(f.path) })
	if err != nil {
		return nil, fmt.Errorf("list versions: %w", err)
	}
	var names []string
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), ".") {
			names = append(names, e.Name())
		}
	}
	found := make([]raise.Version, len(names))
	failed := make([]error, len(names))
	var looked errgroup.Group
	looked.SetLimit(buildsAtOnce)
	for n, name := range names {
		looked.Go(func() error {
			found[n], failed[n] = f.version(ctx, name)
			return nil
		})
	}
	_ = looked.Wait()
	if errors.Is(ctx.Err(), context.Canceled) {
		return nil, fmt.Errorf("list versions: %w", ctx.Err())
	}
	var list []raise.Version
	for n, v := range found {
		if !errors.Is(failed[n], fs.ErrNotExist) { // removed meanwhile
			list = append(list, v)
		}
	}
	return sorted(list), nil
}

// How many builds are read at the same time, and for how long one is waited for: a disk that
// hangs under it, or its size, holds up none of the others. What is read goes on, so that the
// next list may know it.
const (
	buildsAtOnce = 4
	buildLimit   = 20 * time.Second
)

// Find looks at one build alone, if it is one's name.
func (f *folder) Find(ctx context.Context, name string) (raise.Version, error) {
	if name != "" && !strings.HasPrefix(name, ".") && !strings.ContainsAny(name, "/\x00") {
		v, err := f.version(ctx, name)
		if !errors.Is(err, fs.ErrNotExist) {
			return v, errors.Join(err, ctx.Err())
		}
	}
	list, err := f.List(ctx)
	if err != nil {
		return raise.Version{}, err
	}
	return pick(list, name)
}

// version looks at a build. An error that is of the build itself is in the version alone.
func (f *folder) version(ctx context.Context, name string) (raise.Version, error) {
	ctx, cancel := context.WithTimeout(ctx, buildLimit)
	defer cancel()
	path := filepath.Join(f.path, name)
	// Each build is a folder of its own to whoever keeps account of disks that hang.
	v, err := place.Read(ctx, filepath.Join(path, "content"), func() (raise.Version, error) {
		v := raise.Version{Name: name}
		if _, err := os.Lstat(path); err != nil {
			return v, err
		}
		id, at, err := f.identify(path)
		if err != nil {
			v.Wrong = err.Error()
			return v, nil
		}
		v.ID, v.At = id, at
		return v, nil
	})
	if errors.Is(err, place.ErrHangs) || errors.Is(err, context.DeadlineExceeded) {
		v = raise.Version{Name: name, Wrong: fmt.Sprintf("it could not be read in time (%v)", err)}
		err = nil
	}
	return v, err
}

// identify is a build's digest, and when it was last changed. The digest is taken
// anew only when something of it has changed.
func (f *folder) identify(path string) (id string, at time.Time, err error) {
	now, at, err := delivered.Looks(path)
	if err != nil {
		return "", time.Time{}, err
	}
	f.mu.Lock()
	before := f.known[path]
	f.mu.Unlock()
	if before.looks == now {
		return before.id, at, nil
	}
	if id, err = delivered.Digest(path); err != nil {
		return "", time.Time{}, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.known == nil {
		f.known = map[string]seen{}
	}
	f.known[path] = seen{now, id}
	return id, at, nil
}

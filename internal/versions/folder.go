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

	"vaiven/internal/core/raise"
	"vaiven/internal/place"
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
	entries, err := place.Read(ctx, filepath.Join(f.path, "."), func() ([]fs.DirEntry, error) { return os.ReadDir(f.path) })
	if err != nil {
		return nil, fmt.Errorf("list versions: %w", err)
	}
	var list []raise.Version
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), ".") {
			continue
		}
		v, err := f.version(ctx, e.Name())
		switch {
		case ctx.Err() != nil:
			return nil, fmt.Errorf("list versions: %w", errors.Join(err, ctx.Err()))
		case errors.Is(err, fs.ErrNotExist):
			continue // removed meanwhile
		}
		list = append(list, v)
	}
	return sorted(list), nil
}

// Find looks at one build alone, if it is one's name.
func (f *folder) Find(ctx context.Context, name string) (raise.Version, error) {
	if name != "" && !strings.HasPrefix(name, ".") && !strings.ContainsAny(name, "/\x00") {
		v, err := f.version(ctx, name)
		if !errors.Is(err, fs.ErrNotExist) {
			return v, ctx.Err()
		}
	}
	list, err := f.List(ctx)
	if err != nil {
		return raise.Version{}, err
	}
	return pick(list, name)
}

// version looks at a build. An error that is of the build itself is in the version as well.
func (f *folder) version(ctx context.Context, name string) (raise.Version, error) {
	path := filepath.Join(f.path, name)
	if _, err := place.Read(ctx, path, func() (fs.FileInfo, error) { return os.Lstat(path) }); err != nil {
		return raise.Version{Name: name, Wrong: err.Error()}, err
	}
	v, err := place.Read(ctx, path, func() (raise.Version, error) {
		v := raise.Version{Name: name}
		var err error
		v.ID, v.At, err = f.identify(path)
		return v, err
	})
	if err != nil {
		return raise.Version{Name: name, Wrong: err.Error()}, nil
	}
	return v, nil
}

// identify is a build's digest, and when it was last changed. The digest is taken
// anew only when something of it has changed.
func (f *folder) identify(path string) (id string, at time.Time, err error) {
	now, at, err := looks(path)
	if err != nil {
		return "", time.Time{}, err
	}
	f.mu.Lock()
	before := f.known[path]
	f.mu.Unlock()
	if before.looks == now {
		return before.id, at, nil
	}
	if id, err = Digest(path); err != nil {
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

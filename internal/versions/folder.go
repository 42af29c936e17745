package versions

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/raise"
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
	entries, err := os.ReadDir(f.path)
	if err != nil {
		return nil, fmt.Errorf("list versions: %w", err)
	}
	var list []raise.Version
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), ".") {
			continue
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		v := raise.Version{Name: e.Name()}
		if v.ID, v.At, err = f.identify(filepath.Join(f.path, e.Name())); err != nil {
			return nil, fmt.Errorf("version %s: %w", e.Name(), err)
		}
		list = append(list, v)
	}
	return sorted(list), nil
}

// identify is a build's digest, and when it was last changed. The digest is taken
// anew only when a name, size or time has changed.
func (f *folder) identify(path string) (id string, at time.Time, err error) {
	var looks strings.Builder
	err = filepath.WalkDir(path, func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		info, err := os.Stat(name) // a link's target counts
		if err != nil {
			return err
		}
		fmt.Fprintf(&looks, "%q %d %d\n", name, info.Size(), info.ModTime().UnixNano())
		if info.ModTime().After(at) {
			at = info.ModTime()
		}
		return nil
	})
	if err != nil {
		return "", time.Time{}, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if s := f.known[path]; s.looks == looks.String() {
		return s.id, at, nil
	}
	if id, err = Digest(path); err != nil {
		return "", time.Time{}, err
	}
	if f.known == nil {
		f.known = map[string]seen{}
	}
	f.known[path] = seen{looks.String(), id}
	return id, at, nil
}

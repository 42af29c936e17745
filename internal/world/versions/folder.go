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
	"vaiven/internal/world/state"
)

// folder has a version in each file or folder below it. What was delivered of one is noted when somebody wants it, and
// so before anything is started of it: what is written into it later makes no other build.
type folder struct {
	path  string
	state string // the state folder, where there is one

	mu    sync.Mutex // protects known
	known map[string]seen
}

// seen is what a build is known to be, with what it looked like then.
type seen struct {
	looks  string
	id     string
	at     time.Time
	note   string
	wanted bool // what was delivered of it is noted
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
			found[n], failed[n] = f.version(ctx, name, false)
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
		v, err := f.version(ctx, name, true)
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
func (f *folder) version(ctx context.Context, name string, wanted bool) (raise.Version, error) {
	ctx, cancel := context.WithTimeout(ctx, buildLimit)
	defer cancel()
	path := filepath.Join(f.path, name)
	// Each build is a folder of its own to whoever keeps account of disks that hang.
	v, err := place.Read(ctx, filepath.Join(path, "content"), func() (raise.Version, error) {
		v := raise.Version{Name: name}
		if _, err := os.Lstat(path); err != nil {
			return v, err
		}
		is, err := f.identify(path, wanted)
		if err != nil {
			v.Wrong = err.Error()
			return v, nil
		}
		v.ID, v.At, v.Note = is.id, is.at, is.note
		return v, nil
	})
	if errors.Is(err, place.ErrHangs) || errors.Is(err, context.DeadlineExceeded) {
		v = raise.Version{Name: name, Wrong: fmt.Sprintf("it could not be read in time (%v)", err)}
		err = nil
	}
	return v, err
}

// identify is what a build is: what was delivered of it, if that is noted and there as it was, and else what stands
// there now. That is read anew only when something of it has changed.
func (f *folder) identify(path string, wanted bool) (seen, error) {
	looks, at, err := delivered.Looks(path)
	if err != nil {
		return seen{}, err
	}
	f.mu.Lock()
	is := f.known[path]
	f.mu.Unlock()
	if is.looks == looks && (is.wanted || !wanted) {
		return is, nil
	}
	is = seen{looks: looks, at: at, wanted: wanted}
	in, errState := state.Look(f.state)
	if errState == nil {
		defer in.Close()
	}
	var r delivered.Record
	if errState == nil {
		r, errState = delivered.Recorded(in, path)
	}
	if errState == nil && r.Stands() {
		is.id, is.at, is.wanted = r.ID, r.At, true
		if is.note, err = since(r); err != nil {
			return seen{}, err
		}
	} else if is.id, err = delivered.Digest(path); err != nil {
		return seen{}, err
	} else if wanted && in != nil {
		all, err := delivered.Take(path)
		if err != nil {
			return seen{}, err
		}
		// Without a note its identity is what stands there, whenever it is looked at.
		_ = delivered.Record{Path: path, ID: is.id, At: at, All: all}.Keep(in)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.known == nil {
		f.known = map[string]seen{}
	}
	f.known[path] = is
	return is, nil
}

// since says what was written into a build since it was delivered, "" for nothing.
func since(r delivered.Record) (string, error) {
	list, err := r.Since()
	if err != nil || len(list) == 0 {
		return "", err
	}
	name, err := filepath.Rel(r.Path, list[0])
	if err != nil || len(list) == 1 {
		return name + " was written since it was delivered", err
	}
	return fmt.Sprintf("%s and %d more were written since it was delivered", name, len(list)-1), nil
}

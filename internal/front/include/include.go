package include

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/aymanbagabas/go-udiff"

	"vaiven/internal/front"
	"vaiven/internal/world/permit"
	"vaiven/internal/world/place"
)

// Server is what a kind of proxy has to know of itself.
type Server interface {
	// Main is the main file of the configuration, and the folder that relative names in
	// it begin at; "" if only Files knows that.
	Main() (file, base string)
	// Files are the files of the configuration that is in place, the main one first,
	// and the folder that relative names in it begin at.
	Files(ctx context.Context) (files []string, base string, err error)
	// Check tests a main configuration.
	Check(ctx context.Context, config string) error
	// Begin notes what there is just before a reload, for Fresh and Leaving.
	Begin(ctx context.Context)
	// Reload has the server load its configuration. It may return before that is in
	// force.
	Reload(ctx context.Context) error
	// Running is what serves now; the texts are those of workers, which come and go
	// with each reload. It wraps [front.ErrUnreachable] if nothing does.
	Running(ctx context.Context) (Running, error)
	// Fresh reports whether those that serve now show that a reload is in force.
	Fresh(before, now Running) bool
	// Leaving are the workers that only finish what they have, as far as that is known.
	Leaving(ctx context.Context) ([]place.Process, error)
	// Directive finds what includes files within a line of the configuration: what stands before it, and their name.
	Directive() *regexp.Regexp
	// Include is a line that includes a file.
	Include(file string) string
}

// File is a file of ours in the configuration of a server.
type File struct {
	On     place.Machine // where the file is, and the server
	Path   string
	Server Server
	mode   fs.FileMode // 0 for one that everybody may read
}

// The limits of what a server is waited for.
const (
	checkLimit   = 10 * time.Second
	confirmLimit = 10 * time.Second
	diskLimit    = 2 * time.Second // for going home, before it says that the disk is in the way
)

// Read is what stands in the file, and none if it is not there.
func (f File) Read(ctx context.Context) ([]byte, error) {
	data, err := f.On.ReadFile(ctx, f.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, nil
	case err != nil:
		return nil, fmt.Errorf("%w: %w", front.ErrUnreachable, err)
	}
	return data, nil
}

// Before is where the content before the last change stays.
func (f File) Before() string { return f.hidden("before") }

// hidden is a file beside ours that patterns such as *.conf do not match.
func (f File) hidden(what string) string {
	return filepath.Join(filepath.Dir(f.Path), "."+filepath.Base(f.Path)+"."+what)
}

// slot is the file's place, which candidates take.
func (f File) slot() place.Slot {
	return place.Slot{On: f.On, Path: f.Path, Mode: cmp.Or(f.mode, 0o644)}
}

// before is the place of what was there before.
func (f File) before() place.Slot {
	return place.Slot{On: f.On, Path: f.Before(), Mode: cmp.Or(f.mode, 0o644)}
}

// Replace puts other content in place of what was read and has the server load it. If it
// fails, the file is what it was, and so is what is in force, or the error says that it is
// not. Somebody else's change since was read is not overwritten; and a going home that came
// meanwhile has swept the candidate away, so that it cannot take its place any more, and
// nothing is put back over it.
func (f File) Replace(ctx context.Context, was, next []byte) error {
	unlock, err := f.lock(ctx)
	if err != nil {
		return refused("the file %s cannot be changed, nothing was changed: %w", f.Path, err)
	}
	defer unlock()
	_ = f.slot().Sweep(ctx) // what processes left that were ended in the middle
	if _, err := f.Server.Running(ctx); err != nil {
		return err
	}
	if err := f.putChecked(ctx, was, next); err != nil {
		return err
	}
	if err = f.load(ctx, 1); err == nil {
		err = f.settle(ctx) // here, because nobody should wait for the disk before the server loads
	}
	if err == nil {
		return nil
	}
	return f.undo(ctx, was, next, err)
}

// undo puts back what was there before a change that the server did not take, unless
// somebody has changed the file since. A context that has ended must not leave half a
// change.
func (f File) undo(ctx context.Context, was, next []byte, err error) error {
	back, cancel := context.WithTimeout(context.WithoutCancel(ctx), confirmLimit)
	defer cancel()
	c, errPut := f.slot().Candidate(back, was)
	if errPut == nil {
		defer c.Discard(back)
		var now []byte
		if now, errPut = f.Read(back); errPut == nil && !bytes.Equal(now, next) {
			return front.Because(ctx, err) // theirs now
		}
	}
	if errPut == nil {
		errPut = errors.Join(c.Put(back), f.settle(back))
	}
	if errors.Is(errPut, place.ErrSwept) {
		return front.Because(ctx, err)
	}
	if errBack := errors.Join(errPut, f.load(back, 1)); errBack != nil {
		return fmt.Errorf("%w: the change was not taken (%w), and what was there before could not be loaded again: %w",
			front.ErrRefused, err, errBack)
	}
	return refused("the change was not taken and everything is as before: %w", front.Because(ctx, err))
}

// putChecked puts a file in place that has passed the check.
func (f File) putChecked(ctx context.Context, was, next []byte) error {
	c, err := f.slot().Candidate(ctx, next)
	var b place.Candidate
	if err == nil {
		defer c.Discard(ctx)
		if b, err = f.before().Candidate(ctx, was); err == nil {
			defer b.Discard(ctx)
		}
	}
	if err != nil {
		return refused("%s cannot be written, nothing was changed: %w", f.Path, err)
	}
	// The disk works while the configuration is checked.
	synced := make(chan error, 1)
	go func() { synced <- f.On.Sync(ctx, c.Name(), b.Name()) }()
	errCheck := f.check(ctx, c.Name())
	select {
	case err = <-synced:
	case <-ctx.Done():
		err = context.Cause(ctx)
	}
	switch {
	case errCheck != nil:
		return front.Because(ctx, errCheck)
	case errors.Is(err, fs.ErrNotExist):
		return f.swept()
	case err != nil:
		return refused("%s cannot be put in place, nothing was changed: %w", f.Path, err)
	}
	// The candidate is there: whoever goes home from here on sweeps it away.
	now, err := f.Read(ctx)
	switch {
	case err != nil:
		return err
	case !bytes.Equal(now, was):
		return fmt.Errorf("%w: %s is not what it was when it was read", front.ErrChanged, f.Path)
	}
	if err := permit.Ask(ctx); err != nil {
		return refused("nothing was changed: %w", err)
	}
	if err := b.Put(ctx); err != nil {
		return refused("%s cannot be put in place, nothing was changed: %w", f.Before(), err)
	}
	if err := c.Put(ctx); errors.Is(err, place.ErrSwept) {
		return f.swept()
	} else if err != nil {
		return refused("%s cannot be put in place, nothing was changed: %w", f.Path, err)
	}
	return nil
}

// rehearse writes a candidate and has the configuration tested with it. It takes nobody's place:
// where somebody changes the file just now, that is what is being tested.
func (f File) rehearse(ctx context.Context, steps *front.Steps, next []byte) error {
	quiet, cancel := context.WithTimeout(ctx, front.QuietLimit)
	defer cancel()
	var unlock func()
	if err := steps.Do("take the lock", func() (err error) {
		unlock, err = f.lock(quiet)
		return err
	}); err != nil {
		if quiet.Err() != nil {
			return ctx.Err() // home would not wait for it either
		}
		return err
	}
	defer unlock()
	var c place.Candidate
	if err := steps.Do("write the file beside", func() (err error) {
		c, err = f.slot().Candidate(ctx, next)
		return err
	}); err != nil {
		return refused("%s cannot be written: %w", f.Path, err)
	}
	defer c.Discard(ctx)
	err := steps.Do("test the configuration with it", func() error { return f.check(ctx, c.Name()) })
	if now, errGone := f.On.ReadFile(ctx, c.Name()); err != nil && (errGone != nil || !bytes.Equal(now, next)) {
		return ctx.Err() // somebody has gone home meanwhile, which is better than a rehearsal
	}
	return err
}

// swept is that somebody went home before a candidate was in its place.
func (f File) swept() error {
	return fmt.Errorf("%w, and %s was not touched after that", front.ErrNewer, f.Path)
}

// settle makes the names in our folder last.
func (f File) settle(ctx context.Context) error { return f.On.Sync(ctx, filepath.Dir(f.Path)) }

// lastWord is how often a going home is put in place again over a change that took its
// place at the same moment.
const lastWord = 5

// PutHome puts the content of a going home in place, by whatever works: on a full disk there
// may be no room for another file, but for the same one with other content. What others have
// not put in place yet is swept away. It checks nothing and waits for nobody.
func (f File) PutHome(ctx context.Context, was, next []byte) error {
	ctx, cancel := context.WithTimeout(ctx, diskLimit)
	defer cancel()
	for range lastWord {
		c, err := f.slot().Candidate(ctx, next)
		if err == nil {
			err = c.Put(ctx)
		}
		if err != nil {
			c.Discard(ctx)
			if err = f.On.Overwrite(ctx, f.Path, next); err != nil {
				return refused("%s cannot be written: write it by hand, what it was is in %s: %w", f.Path, f.Before(),
					err)
			}
		}
		_ = f.slot().Sweep(ctx) // what cannot be removed cannot be renamed either
		if now, err := f.Read(ctx); err != nil || bytes.Equal(now, next) {
			break
		}
	}
	lasting.Go(func() { // beside: a disk that hangs holds nobody up
		ctx := context.WithoutCancel(ctx)
		if was != nil && !bytes.Equal(was, next) {
			if b, err := f.before().Candidate(ctx, was); err == nil && b.Put(ctx) != nil {
				b.Discard(ctx)
			}
		}
		_ = f.On.Sync(ctx, f.Path, filepath.Dir(f.Path))
	})
	return nil
}

// lasting is what is being made to last after a going home. Only tests wait for it, before
// they remove their folders.
var lasting sync.WaitGroup

// refused is a refusal, unless the cause is of a kind of its own.
func refused(format string, args ...any) error {
	err := fmt.Errorf(format, args...)
	for _, kind := range []error{front.ErrUnreachable, front.ErrRefused, front.ErrChanged, front.ErrNewer,
		front.ErrNobody, front.ErrNotLoaded} {
		if errors.Is(err, kind) {
			return err
		}
	}
	return fmt.Errorf("%w: %w", front.ErrRefused, err)
}

// Put writes the file, unchecked: where the server does not run yet, so that it can
// start.
func (f File) Put(ctx context.Context, data []byte) error {
	c, err := f.slot().Candidate(ctx, data)
	if err != nil {
		return err
	}
	defer c.Discard(ctx)
	if err = f.On.Sync(ctx, c.Name()); err == nil {
		err = c.Put(ctx)
	}
	return err
}

// homeLoads is how often a server is told to load a going home that it refuses: it may have met files that somebody was
// just writing.
const homeLoads = 2

// load has the server load what is in place, in so many tries, and waits until that is in force.
func (f File) load(ctx context.Context, tries int) error {
	ctx, cancel := context.WithTimeout(ctx, confirmLimit)
	defer cancel()
	err := f.reload(ctx)
	for n := 1; n < tries && err != nil && ctx.Err() == nil; n++ {
		err = f.reload(ctx)
	}
	return err
}

// lock keeps two of us from changing the file at once. It waits until the context ends.
func (f File) lock(ctx context.Context) (unlock func(), err error) {
	return front.NewOrderFile(f.On, f.hidden("file")).Lock(ctx)
}

// check tests the configuration with a candidate in the place of our file.
func (f File) check(ctx context.Context, candidate string) error {
	ctx, cancel := context.WithTimeout(ctx, checkLimit)
	defer cancel()
	// Most often the main file includes ours itself. Only if it does not, the server is
	// asked what else it loads, which takes it as long as a check.
	main, base := f.Server.Main()
	files, listed := []string{main}, false
	for {
		c := copies{on: f.On, server: f.Server, files: files, base: base, label: filepath.Base(f.Path),
			instead: map[string]string{f.Path: candidate}}
		defer c.discard(ctx)
		var copied string
		var err error
		if files[0] != "" {
			copied, err = c.of(ctx, files[0])
		}
		switch {
		case err == nil && copied != files[0]:
			if err := f.Server.Check(ctx, copied); err != nil {
				return refused("the configuration would not pass its check, nothing was changed: %w", err)
			}
			return nil
		case listed && err != nil:
			return refused("test the change: %w", err)
		case listed:
			return refused("the configuration %s does not include %s, nothing was changed", files[0], f.Path)
		}
		if files, base, err = f.Server.Files(ctx); err != nil {
			return refused("the configuration that is in place does not pass its check, nothing was changed: %w", err)
		}
		listed = true
	}
}

// Command runs a server's command and returns what it said. If it fails, the error is
// its own words.
func Command(ctx context.Context, on place.Machine, words ...string) (string, error) {
	out, err := on.Run(ctx, place.Command{Words: words})
	text := strings.TrimSpace(string(out.Output))
	switch {
	case err == nil && len(out.Output) == place.OutputLimit:
		err = fmt.Errorf("%s says more than %d bytes", strings.Join(words, " "), place.OutputLimit)
	case err != nil:
		err = fmt.Errorf("%s: %w", strings.Join(words, " "), err)
	case out.Status != 0 && text != "":
		err = fmt.Errorf("%s says: %s", filepath.Base(words[0]), lastOf(text))
	case out.Status != 0:
		err = fmt.Errorf("%s: exit status %d", strings.Join(words, " "), out.Status)
	}
	return text, err
}

// lastOf are the last lines of a long text, on one line.
func lastOf(text string) string {
	lines := strings.Split(text, "\n")
	return strings.Join(lines[max(0, len(lines)-3):], "; ")
}

// difference are the lines in which two texts differ, without those around them, seals
// and orders of going home.
func difference(was, next []byte) []string {
	var lines []string
	for line := range strings.Lines(udiff.Unified("", "", string(was), string(next))) {
		line = strings.TrimRight(line, "\n")
		if strings.HasPrefix(line, "---") || strings.HasPrefix(line, "+++") || line == "" ||
			line[0] != '+' && line[0] != '-' || strings.HasPrefix(line[1:], sealed) ||
			strings.HasPrefix(line[1:], wentHome) {
			continue
		}
		lines = append(lines, line)
	}
	return lines
}

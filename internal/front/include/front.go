package include

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/logged"
)

// Setting is what a file says.
type Setting struct {
	Share split.Share // on green
	Sides [2][]reading.Server
}

// Form is how a kind of proxy has a setting in a file.
type Form interface {
	// Render is the file for a setting.
	Render(Setting) []byte
	// Parse reads such a file, also if somebody changed a share or an instance in it by
	// hand.
	Parse([]byte) (Setting, error)
	// Nearest is the share that the proxy would really do for a setting, and what else
	// there is to know of it.
	Nearest(Setting) (reached split.Share, notes []string, err error)
}

// Config is what a front is made of.
type Config struct {
	File        File
	Form        Form
	Log         string        // access log to count requests in, "" if there is none
	Usually     time.Duration // until a reload is in force
	Connections string        // what becomes of open ones
	Commands    []string      // that follow when the file has changed, in words
}

// Front steers a proxy by its file. It is safe for concurrent use.
type Front struct {
	Config

	mu        sync.Mutex // held from reading to confirming, and protects what follows
	revisions front.Revisions
	tally     *logged.Tally
}

// New makes a driver. Requests are counted from now on.
func New(c Config) *Front { return &Front{Config: c, tally: logged.New(c.Log)} }

// read is the setting that is in place, and the file's content.
func (f *Front) read() (Setting, []byte, error) {
	data, err := f.File.Read()
	if err != nil {
		return Setting{}, nil, err
	}
	if data == nil {
		return Setting{}, nil, fmt.Errorf("%w: there is no file %s (vaiven front PLAN makes it)", front.ErrUnreachable, f.File.Path)
	}
	s, err := f.Form.Parse(data)
	if err != nil {
		return s, data, fmt.Errorf("%w: %s: %w; what it was before Vaiven last changed it is in %s", front.ErrChanged, f.File.Path, err, f.File.Before())
	}
	return s, data, nil
}

func (f *Front) render(s Setting) []byte { return seal(f.Form.Render(s)) }

func (f *Front) split(share split.Share, data []byte) reading.Split {
	return f.revisions.Split(share, string(data))
}

// Read is the split in force and what was counted.
func (f *Front) Read(ctx context.Context) (reading.Front, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	s, data, err := f.read()
	if err != nil {
		return reading.Front{}, err
	}
	workers, err := f.File.Server.Running()
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return reading.Front{}, err
	}
	r := reading.Front{At: time.Now(), Split: f.split(s.Share, data)}
	r.Notice = f.tally.Count(&r, s.Sides)
	if strange := f.strange(data, s); strange != nil {
		r.Notice = f.errStrange(strange).Error()
	}
	if f.stale(workers) {
		r.Notice = fmt.Sprintf("%s was changed and not loaded: what is in force is what it was before", f.File.Path)
	}
	return r, nil
}

// stale reports whether the file is younger than all workers that serve, by more than
// clocks differ.
func (f *Front) stale(workers []string) bool {
	info, err := os.Stat(f.File.Path)
	if err != nil {
		return false
	}
	started, err := youngest(workers)
	return err == nil && info.ModTime().Sub(started) > 2*time.Second
}

// complete reports whether every side with a share has somebody to take it.
func (s Setting) complete() error {
	if !s.Share.Valid() {
		return fmt.Errorf("%w: %v is not between 0 %% and 100 %%", front.ErrRefused, s.Share)
	}
	for _, side := range split.Sides {
		if s.Share.Of(side) > 0 && len(s.Sides[side]) == 0 {
			return fmt.Errorf("%w: %v has no instances to send requests to", front.ErrRefused, side)
		}
	}
	return nil
}

// Plan is what Set would do.
func (f *Front) Plan(ctx context.Context, share split.Share) (front.Change, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	s, data, err := f.read()
	if err != nil {
		return front.Change{}, err
	}
	c := front.Change{From: s.Share, Wanted: share, Usually: f.Usually, Connections: f.Connections}
	strange := f.strange(data, s)
	s.Share = share
	if err := s.complete(); err != nil {
		return c, err
	}
	if c.Reached, c.Notes, err = f.Form.Nearest(s); err != nil {
		return c, err
	}
	if strange != nil {
		c.Notes = append(c.Notes, f.errStrange(strange).Error())
	}
	c.Steps = f.steps(data, f.render(s))
	return c, ctx.Err()
}

// steps are the lines in which the file would differ, and the commands.
func (f *Front) steps(was, next []byte) []string {
	steps := difference(was, next)
	if len(steps) == 0 {
		return []string{"nothing: it is in force"}
	}
	return append(steps, f.Commands...)
}

// Set puts a share on green in force if the split still has the revision.
func (f *Front) Set(ctx context.Context, share split.Share, revision uint64) (reading.Split, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	s, data, err := f.read()
	if err != nil {
		return reading.Split{}, err
	}
	if now := f.split(s.Share, data); now.Revision != revision {
		return now, fmt.Errorf("%w: it has %v on green", front.ErrChanged, now.Share)
	}
	if strange := f.strange(data, s); strange != nil {
		return reading.Split{}, f.errStrange(strange)
	}
	s.Share = share
	return f.put(ctx, data, s, false)
}

// Home puts a share on green in force whatever the file says. If it is not in our form,
// what it was before is taken.
func (f *Front) Home(ctx context.Context, share split.Share) (reading.Split, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	s, data, err := f.read()
	if err != nil && data != nil {
		var before []byte
		if before, err = os.ReadFile(f.File.Before()); err == nil {
			s, err = f.Form.Parse(before)
		}
		if err != nil {
			return reading.Split{}, fmt.Errorf("%w: neither %s nor what it was before can be read: write it by hand, and reload", front.ErrRefused, f.File.Path)
		}
	}
	if err != nil {
		return reading.Split{}, err
	}
	s.Share = share
	return f.put(ctx, data, s, true)
}

func (f *Front) put(ctx context.Context, was []byte, s Setting, home bool) (reading.Split, error) {
	if err := s.complete(); err != nil {
		return reading.Split{}, err
	}
	reached, _, err := f.Form.Nearest(s)
	if err != nil {
		return reading.Split{}, err
	}
	next := f.render(s)
	steps := f.steps(was, next)
	change := string(next) != string(was)
	if !change {
		workers, err := f.File.Server.Running()
		switch {
		case err != nil && home:
			return reading.Split{}, f.File.waits(err)
		case err != nil:
			return reading.Split{}, err
		}
		change = home && f.stale(workers)
	}
	if change {
		if err := f.File.Replace(ctx, was, next, home); err != nil {
			return reading.Split{}, err
		}
	}
	now := f.split(reached, next)
	now.Did = steps
	return now, nil
}

// SetInstances gives a side other instances. The share stays.
func (f *Front) SetInstances(ctx context.Context, side split.Side, wanted []reading.Server) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	s, data, err := f.read()
	if err != nil {
		return err
	}
	if of := s.Share.Of(side); of > 0 && len(wanted) == 0 {
		if len(s.Sides[side]) == 0 {
			return nil // nobody yet
		}
		return fmt.Errorf("%w: %v gets %v of the requests and would have no instance", front.ErrRefused, side, of)
	}
	if strange := f.strange(data, s); strange != nil {
		return f.errStrange(strange)
	}
	f.split(s.Share, data)
	s.Sides[side] = wanted
	next := f.render(s)
	if string(next) == string(data) {
		return nil
	}
	if err := f.File.Replace(ctx, data, next, false); err != nil {
		return err
	}
	f.revisions.Keep(string(next))
	return nil
}

// Drain says how many requests a side without a share is still answering, as far as
// can be known: workers from before the last reload that still finish requests count as
// one each.
func (f *Front) Drain(ctx context.Context, side split.Side) (int64, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	s, _, err := f.read()
	if err != nil {
		return 0, err
	}
	if of := s.Share.Of(side); of > 0 {
		return 0, fmt.Errorf("%w: %v gets %v of the requests", front.ErrRefused, side, of)
	}
	leaving, err := f.File.Server.Leaving()
	if err == nil {
		err = ctx.Err()
	}
	return int64(len(leaving)), err
}

// Prepare writes the file, with all requests on blue, if there is none yet, so that the
// proxy can be started with a configuration that includes it. made is false if it was
// there.
func (f *Front) Prepare() (made bool, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if data, err := f.File.Read(); err != nil || data != nil {
		return false, err
	}
	if err = os.MkdirAll(filepath.Dir(f.File.Path), 0o755); err == nil {
		err = f.File.Put(f.render(Setting{}))
	}
	return err == nil, err
}

package include

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/front/logged"
	"vaiven/internal/world/place"
)

// Setting is what a file says.
type Setting struct {
	Share split.Share // on green
	Sides [2][]reading.Server
	Spare front.Spare   // the spare side's own door
	Kept  [2]string     // by side, the secret by which sessions stay there; "" where none does
	Order reading.Order // the last going home; it stands in a line that forms know nothing of
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
	Key         plan.Key       // that requests are placed by
	Log         string         // access log to count requests in, "" if there is none
	Usually     time.Duration  // until a reload is in force
	Connections string         // what becomes of open ones
	Spare       plan.SpareDoor // that the plan wants
	Sticky      bool           // who has a session stays on its side
	// the prober meets both sides: each of its requests is placed anew
	Both bool
	// what the configuration should have; nil if nothing can be missing
	Lack     func(context.Context) ([]string, error)
	Commands []string // that follow when the file has changed, in words
}

// Front steers a proxy by its file. It is safe for concurrent use.
type Front struct {
	Config

	gate front.Gate

	mu        sync.Mutex // protects what follows, and is not held while the server is asked
	revisions front.Revisions
	tally     *logged.Tally
	kept      [2]string // the secrets of sessions when they were counted last
	waiting   []byte    // of a going home: what is in place and has not been loaded yet
}

// New makes a driver. Requests are counted from now on.
func New(c Config) *Front {
	if c.Spare.Asks() {
		c.File.mode = 0o640 // a secret stands in it
	}
	return &Front{Config: c, tally: logged.New(c.File.On, c.Log, c.Key, nil)}
}

// read is the setting that is in place, and the file's content.
func (f *Front) read(ctx context.Context) (Setting, []byte, error) {
	data, err := f.File.Read(ctx)
	if err != nil {
		return Setting{}, nil, err
	}
	if data == nil {
		return Setting{}, nil, fmt.Errorf("%w: %w: %s (vaiven front PLAN makes it)", front.ErrUnreachable,
			front.ErrNotMade, f.File.Path)
	}
	s, err := f.Form.Parse(data)
	s.Order = orderOf(data)
	if err != nil {
		return s, data, fmt.Errorf("%w: %s: %w; what it was before Vaiven last changed it is in %s", front.ErrChanged,
			f.File.Path, err, f.File.Before())
	}
	return s, data, nil
}

func (f *Front) render(s Setting) []byte { return seal(withOrder(f.Form.Render(s), s.Order)) }

// at is a setting with another share, and the spare side's door where that leads then.
func (s Setting) at(share split.Share) Setting {
	s.Share, s.Spare = share, s.Spare.At(share)
	return s
}

// home is a setting with everybody on a side, also those who had a session on the other.
func (s Setting) home(side split.Side, sticky bool) Setting {
	s = s.at(split.Toward(side, split.Whole))
	s.Kept[side.Other()] = ""
	return s.keeping(sticky)
}

// keeping is a setting with a secret for the sessions of each side that has a share, if sessions stay. One that has
// none keeps those that there are.
func (s Setting) keeping(sticky bool) Setting {
	for _, side := range split.Sides {
		switch {
		case !sticky:
			s.Kept[side] = ""
		case s.Share.Of(side) > 0 && s.Kept[side] == "":
			s.Kept[side] = rand.Text()
		}
	}
	return s
}

// unsaid are lines without the secrets of settings.
func unsaid(lines []string, of ...Setting) []string {
	for _, s := range of {
		for _, secret := range append(s.Kept[:], s.Spare.Secret) {
			for n := range lines {
				if secret != "" {
					lines[n] = strings.ReplaceAll(lines[n], secret, "…")
				}
			}
		}
	}
	return lines
}

func (f *Front) split(g front.ChangeMark, share split.Share, data []byte) reading.Split {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.revisions.Split(g, share, string(data))
}

// glance is to be had before the file is read that split is asked about.
func (f *Front) glance() front.ChangeMark {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.revisions.Mark()
}

// Read is the split in force and what was counted.
func (f *Front) Read(ctx context.Context) (reading.Front, error) {
	since := f.glance()
	s, data, err := f.read(ctx)
	if err != nil {
		return reading.Front{}, err
	}
	now, err := f.File.Server.Running(ctx)
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return reading.Front{}, err
	}
	r := reading.Front{At: time.Now(), Split: f.split(since, s.Share, data), Order: s.Order,
		Tells: reading.Capabilities{Both: f.Both}}
	r.Notice = f.tally.Count(ctx, &r, s.Sides)
	r.Sessions = f.Sticky || s.Kept != [2]string{}
	f.countKept(&r, s)
	if strange := f.strange(data, s); strange != nil {
		r.Notice = f.errStrange(strange).Error()
	}
	if f.stale(ctx, now.Workers) {
		r.Notice = fmt.Sprintf("%s was changed and not loaded: what is in force is what it was before", f.File.Path)
	}
	return r, nil
}

// countKept adds how many sessions there are. When a side was released they have ended.
func (f *Front) countKept(r *reading.Front, s Setting) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, side := range split.Sides {
		if f.kept[side] != s.Kept[side] && f.kept[side] != "" {
			f.tally.Release(side)
		}
		if f.kept[side] = s.Kept[side]; s.Kept[side] != "" {
			r.Sides[side].Kept = f.tally.Kept(side)
		}
	}
}

// stale reports whether the file is younger than all workers that serve, by more than
// clocks differ.
func (f *Front) stale(ctx context.Context, workers []place.Process) bool {
	info, err := f.File.On.Stat(ctx, f.File.Path)
	if err != nil {
		return false
	}
	started := youngest(workers)
	return !started.IsZero() && info.ModTime().Sub(started) > 2*time.Second
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

// Foresee is what Set would do.
func (f *Front) Foresee(ctx context.Context, share split.Share) (front.Change, error) {
	s, data, err := f.read(ctx)
	if err != nil {
		return front.Change{}, err
	}
	c := front.Change{From: s.Share, Wanted: share, Usually: f.Usually, Connections: f.Connections}
	strange := f.strange(data, s)
	was := s
	s = s.at(share).keeping(f.Sticky)
	if err := s.complete(); err != nil {
		return c, err
	}
	if f.Sticky {
		c.Notes = append(c.Notes, front.SessionsStay)
	}
	var notes []string
	if c.Reached, notes, err = f.Form.Nearest(s); err != nil {
		return c, err
	}
	c.Notes = append(c.Notes, notes...)
	if strange != nil {
		c.Notes = append(c.Notes, f.errStrange(strange).Error())
	}
	if s.Spare, err = s.Spare.Open(f.Spare, share); err != nil {
		return c, err
	}
	c.Steps = unsaid(f.steps(data, f.render(s)), was, s)
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

// Set puts a share on green in force if the file still is as expected.
func (f *Front) Set(ctx context.Context, share split.Share, e front.Expect) (front.Done, error) {
	changing, through, err := f.gate.Change(ctx)
	if err != nil {
		return front.Done{}, err
	}
	defer through()
	s, data, err := f.read(ctx)
	if err != nil {
		return front.Done{}, err
	}
	if err := e.Allows(share, s.Order); err != nil {
		return front.Done{}, fmt.Errorf("%s: %w", f.File.Path, err)
	}
	if now := f.split(f.glance(), s.Share, data); now.Revision != e.Revision {
		return front.Done{Split: now}, fmt.Errorf("%w: it has %v on green", front.ErrChanged, now.Share)
	}
	if strange := f.strange(data, s); strange != nil {
		return front.Done{}, f.errStrange(strange)
	}
	was := s
	s = s.at(share).keeping(f.Sticky)
	if err := s.complete(); err != nil {
		return front.Done{}, err
	}
	if s.Spare, err = s.Spare.Open(f.Spare, share); err != nil {
		return front.Done{}, err
	}
	reached, _, err := f.Form.Nearest(s)
	if err != nil {
		return front.Done{}, err
	}
	next := f.render(s)
	d := front.Done{Nearest: reached, Order: s.Order,
		Did: unsaid(f.steps(data, next), was, s)}
	if string(next) == string(data) {
		_, err = f.File.Server.Running(ctx)
	} else {
		err = f.File.Replace(changing, data, next)
	}
	if err != nil {
		return front.Done{}, err
	}
	// What is in place now is in force: it may be somebody else's by now.
	now, after, err := f.read(ctx)
	if err != nil {
		return front.Done{}, err
	}
	d.Split = f.split(f.glance(), now.Share, after)
	if err := e.Allows(share, now.Order); err != nil {
		return front.Done{}, fmt.Errorf("%s: %w", f.File.Path, err)
	}
	if now.Share != share && now.Share != reached {
		return d, fmt.Errorf("%w: it has %v on green after %v was put in place", front.ErrChanged, now.Share, share)
	}
	d.Share = reached
	return d, nil
}

// Home sends all requests to a side, whatever the file says. If it is not in our form, what
// it was before is taken. The file is in place first and stays, and is not checked; the
// server is told to load it in a way that it can refuse, and goes on with what it has then.
// That it has not loaded it yet is an error that wraps [front.ErrNotLoaded], and calling
// Home again tries again.
func (f *Front) Home(ctx context.Context, h front.Homing) (front.Done, error) {
	f.gate.Home()
	disk, cancel := context.WithTimeout(ctx, diskLimit)
	defer cancel()
	s, data, err := f.read(disk)
	if err != nil && data != nil {
		var before []byte
		if before, err = f.File.On.ReadFile(disk, f.File.Before()); err == nil {
			s, err = f.Form.Parse(before)
			s.Order = orderOf(before)
		}
		if err != nil {
			return front.Done{}, fmt.Errorf("%w: neither %s nor what it was before can be read: write it by hand, "+
				"and reload", front.ErrRefused, f.File.Path)
		}
	}
	if err != nil {
		return front.Done{}, err
	}
	if len(s.Sides[h.Side]) == 0 && len(s.Sides[h.Side.Other()]) > 0 && !h.Force {
		return front.Done{}, fmt.Errorf("%w: %v has no instances in %s, and %v has", front.ErrNobody, h.Side,
			f.File.Path, h.Side.Other())
	}
	share := split.Toward(h.Side, split.Whole)
	next, err := f.homeward(s, data, share, h)
	if err != nil {
		return front.Done{}, fmt.Errorf("%s: %w", f.File.Path, err)
	}
	if !next.inPlace {
		if err := f.File.PutHome(ctx, data, next.data); err != nil {
			return front.Done{}, err
		}
	}
	err = f.File.load(ctx, homeLoads)
	switch {
	case errors.Is(err, front.ErrUnreachable):
		return front.Done{}, fmt.Errorf("%w. %s sends everything to %v now, and takes effect when the server starts; "+
			"workers that are still alive keep the previous split", err, f.File.Path, h.Side)
	case err != nil:
		return front.Done{}, fmt.Errorf("%w: %s sends everything to %v now, and the server still runs the previous "+
			"configuration: %w", front.ErrNotLoaded, f.File.Path, h.Side, err)
	}
	f.loaded(next.data)
	now, after, err := f.read(ctx)
	if err != nil {
		return front.Done{}, err
	}
	d := front.Done{Split: f.split(f.glance(), now.Share, after), Nearest: share, Order: now.Order,
		Did: unsaid(f.steps(data, next.data), now, s)}
	if now.Share != share {
		return d, fmt.Errorf("%w: it has %v on green after going home", front.ErrChanged, now.Share)
	}
	return d, nil
}

// homeward is the file of a going home.
type homeward struct {
	data    []byte
	inPlace bool // it stands there already, from an earlier try, and was not loaded yet
}

// homeward finds the file of a going home: the one that an earlier try has put in place, or
// one under a new order.
func (f *Front) homeward(s Setting, data []byte, share split.Share, h front.Homing) (homeward, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.waiting != nil && string(f.waiting) == string(data) && s.Share == share {
		return homeward{data, true}, nil
	}
	o, err := h.Next(s.Order, time.Now())
	if err != nil {
		return homeward{}, err
	}
	s = s.home(h.Side, f.Sticky)
	s.Order = o
	f.waiting = f.render(s)
	return homeward{f.waiting, false}, nil
}

// loaded takes in that what is in place was loaded.
func (f *Front) loaded(data []byte) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if string(f.waiting) == string(data) {
		f.waiting = nil
	}
}

// Rehearse makes the file of a going home to a side, and has the server test its configuration
// with that in the place of ours. What others have done to the configuration is in the way of
// going home too.
func (f *Front) Rehearse(ctx context.Context, side split.Side) ([]wayback.Step, error) {
	var steps front.Steps
	var s Setting
	if err := steps.Do("read the file", func() (err error) {
		s, _, err = f.read(ctx)
		return err
	}); err != nil {
		return steps, err
	}
	if len(s.Sides[side]) == 0 {
		return steps, front.Nobody(side)
	}
	if err := steps.Do("find the workers", func() error {
		_, err := f.File.Server.Running(ctx)
		return err
	}); err != nil {
		return steps, err
	}
	o, err := front.Homing{Side: side}.Next(s.Order, time.Now())
	if err != nil {
		return steps, err
	}
	s = s.home(side, f.Sticky)
	s.Order = o
	return steps, f.File.rehearse(ctx, &steps, f.render(s))
}

// NewTerm begins another term: the file is another one then, so that no change that was made up before can take its
// place.
func (f *Front) NewTerm(ctx context.Context, after uint64) (uint64, error) {
	changing, through, err := f.gate.Change(ctx)
	if err != nil {
		return 0, err
	}
	defer through()
	s, data, err := f.read(ctx)
	if err != nil {
		return 0, err
	}
	if strange := f.strange(data, s); strange != nil {
		return 0, f.errStrange(strange)
	}
	s.Order.Term = max(s.Order.Term, after) + 1
	return s.Order.Term, f.File.Replace(changing, data, f.render(s))
}

// SetInstances gives a side other instances. The share stays.
func (f *Front) SetInstances(ctx context.Context, side split.Side, wanted []reading.Server) error {
	changing, through, err := f.gate.Change(ctx)
	if err != nil {
		return err
	}
	defer through()
	s, data, err := f.read(ctx)
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
	f.split(f.glance(), s.Share, data)
	s.Sides[side] = wanted
	if s.Spare, err = s.Spare.Open(f.Spare, s.Share); err != nil {
		return err
	}
	if len(wanted) == 0 {
		if s.Kept[side] = ""; s.Spare.Secret != "" {
			s.Spare = s.Spare.Renewed(f.Spare)
		}
	}
	return f.same(changing, data, f.render(s.keeping(f.Sticky)))
}

// same puts another file with the same split in place.
func (f *Front) same(changing context.Context, data, next []byte) error {
	if string(next) == string(data) {
		return nil
	}
	f.mu.Lock()
	f.revisions.Hold() // who reads in between sees no other split
	f.mu.Unlock()
	err := f.File.Replace(changing, data, next)
	f.mu.Lock()
	defer f.mu.Unlock()
	if err != nil {
		f.revisions.Release()
		return err
	}
	f.revisions.Keep(string(next))
	return nil
}

// Drain ends the sessions on a side without a share, and says how many requests that is still answering, as far as
// can be known: workers from before the last reload that still finish requests count as one each.
func (f *Front) Drain(ctx context.Context, side split.Side) (front.Left, error) {
	s, _, err := f.read(ctx)
	if err == nil {
		err = front.Quiet(side, s.Share.Of(side))
	}
	if err == nil && s.Kept[side] != "" {
		err = f.release(ctx, side)
	}
	if err != nil {
		return front.Left{}, err
	}
	leaving, err := f.File.Server.Leaving(ctx)
	if err == nil {
		err = ctx.Err()
	}
	return front.Left{Open: int64(len(leaving))}, err
}

// release ends the sessions on a side without a share.
func (f *Front) release(ctx context.Context, side split.Side) error {
	changing, through, err := f.gate.Change(ctx)
	if err != nil {
		return err
	}
	defer through()
	s, data, err := f.read(ctx)
	if err == nil {
		err = front.Quiet(side, s.Share.Of(side))
	}
	if err != nil {
		return err
	}
	if strange := f.strange(data, s); strange != nil {
		return f.errStrange(strange)
	}
	f.split(f.glance(), s.Share, data)
	s.Kept[side] = ""
	return f.same(changing, data, f.render(s))
}

// Reach connects to an address from the machine that the proxy runs on.
func (f *Front) Reach(ctx context.Context, address string) error {
	return front.ReachFrom(ctx, f.File.On, address)
}

// Prepare writes the file if there is none yet, so that the proxy can be started with a configuration that includes
// it: with the instances that there are, so that one that serves goes on serving. made is false if it was there.
func (f *Front) Prepare(ctx context.Context, sides front.Known) (made bool, err error) {
	if data, err := f.File.Read(ctx); err != nil || data != nil {
		return false, err
	}
	if _, err = Command(ctx, f.File.On, "mkdir", "-p", filepath.Dir(f.File.Path)); err == nil {
		s := Setting{Sides: sides}.at(split.Toward(sides.Live(), split.Whole)).keeping(f.Sticky)
		if s.Spare, err = s.Spare.Open(f.Spare, s.Share); err == nil {
			err = f.File.Put(ctx, f.render(s))
		}
	}
	return err == nil, err
}

// Lacks names what the configuration in place has not, and should have.
func (f *Front) Lacks(ctx context.Context) ([]string, error) {
	err := f.Included(ctx)
	var list []string
	if errors.Is(err, front.ErrNotIncluded) {
		list, err = []string{"the line that includes " + f.File.Path}, nil
	}
	if err != nil || f.Lack == nil {
		return list, err
	}
	more, err := f.Lack(ctx)
	return append(list, more...), err
}

// Included wraps [front.ErrNotIncluded] if the configuration that is in place does not include the file.
func (f *Front) Included(ctx context.Context) error {
	files, _, err := f.File.Server.Files(ctx)
	if err == nil && !slices.Contains(files, f.File.Path) {
		err = fmt.Errorf("%w: %s", front.ErrNotIncluded, f.File.Path)
	}
	return err
}

// Doors are the spare side's own door, as the file has it.
func (f *Front) Doors(ctx context.Context) ([]front.Spare, error) {
	s, _, err := f.read(ctx)
	if err != nil || s.Spare.Secret == "" {
		return []front.Spare{{}}, err
	}
	lacks, err := f.Lacks(ctx)
	if err == nil && len(lacks) > 0 {
		err = fmt.Errorf("%w: its configuration lacks %s", front.ErrRefused, lacks[0])
	}
	return []front.Spare{s.Spare}, err
}

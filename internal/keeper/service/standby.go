package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"sync"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/keeper/api"
	"vaiven/internal/keeper/logbook"
	"vaiven/internal/words"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/state"
)

// Standby follows the keeper of a service on another machine, and may take over.
type Standby struct {
	Plan    *plan.Plan
	Digest  string // of the plan's file
	Secrets secret.Values
	By      string // who wants it
	Version string // of Vaiven
	For     string // the keeper that it follows, as commands name it
	// Follow tells what is on that keeper's record after an event, until it breaks off or take fails; opened is called
	// when the keeper answers. An error wraps [api.ErrGone] if it does not, and [ErrOther] if it is the wrong one. See
	// [api.Client.Follow].
	Follow func(ctx context.Context, since uint64, opened func(), take func(crossing.Event) error) error
	// After is how long that keeper has to be gone for the standby to take over by itself; 0 for never.
	After time.Duration
	Ready func() // called when clients can come
	Beat  func() // and every [BeatEvery]
}

// The times that a standby goes by.
const (
	LeastAfter     = 10 * time.Second // for a keeper to be replaced, or started again
	followAgain    = time.Second      // after it broke off
	termLimit      = front.ChangeLimit
	takeOverAgain  = 5 * time.Second // between two tries by itself
	takeOverAnswer = 2 * termLimit   // for a try that is under way to end
)

// ErrOther is wrapped where the keeper that is to be followed keeps another service, or another front.
var ErrOther = errors.New("the keeper that is to be followed keeps something else")

// ErrTied is wrapped where a plan cannot be kept on another machine, or a standby cannot take over by itself.
var ErrTied = errors.New("a standby would not have what this service needs")

// errNotByItself is an ErrTied, in its own words.
var errNotByItself error = notByItself{}

type notByItself struct{}

func (notByItself) Error() string        { return "no standby of this service takes over by itself" }
func (notByItself) Is(target error) bool { return target == ErrTied }

// Fits is an error if a standby of the plan could not take over, or not by itself where it is to. The error wraps
// [ErrTied].
func (b Standby) Fits() error {
	e := b.Plan.Elsewhere(place.IsHere)
	switch {
	case len(e.Ties) > 0:
		return fmt.Errorf("%w: only one machine has %s. When that is gone, the way on is vaiven back and vaiven evacuate, "+
			"from wherever the front can be reached", ErrTied, words.Ties(e.Ties))
	case b.After > 0 && len(e.Unsure) > 0:
		return fmt.Errorf("%w: %s cannot refuse what the keeper before sends after that. Without --after a standby takes "+
			"over when it is told to", errNotByItself, words.And(e.Unsure))
	}
	return nil
}

// following is a standby at work.
type following struct {
	Standby
	book   *logbook.Book
	self   string // identity of the state folder
	wanted chan wanted

	mu    sync.Mutex // protects what follows
	state crossing.State
	stand api.Standing
	ever  bool      // it has followed since it was started
	heard time.Time // when that keeper was last heard of, while it is not followed
	vain  time.Time // when the last try to follow began that came to nothing
	stuck bool      // what that keeper says could not be taken down
}

// wanted is a person's word to take over.
type wanted struct {
	by     string
	force  bool
	answer chan error
}

// Run follows until the context ends or somebody ends it, and then returns false; or until it has taken over, and
// returns true: then a keeper is to run here. It is true at once where that has been so before.
func (b Standby) Run(ctx context.Context) (took bool, err error) {
	in, err := state.Open(b.Plan.State)
	if err != nil {
		return false, err
	}
	defer in.Close()
	group, err := Admit(in, b.Plan)
	if err != nil {
		return false, err
	}
	unlock, err := Lock(in, b.By)
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, unlock()) }()
	f := &following{Standby: b, wanted: make(chan wanted)}
	if f.self, err = in.ID(); err != nil {
		return false, err
	}
	keeps, err := f.open(ctx)
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, f.book.Close()) }()
	if keeps {
		slog.Info("it has taken over before: it keeps the service", "service", b.Plan.Service)
		return true, nil
	}
	if err := b.Fits(); err != nil {
		return false, err
	}
	if err := Fit(ctx, b.Plan, b.Secrets); err != nil {
		return false, fmt.Errorf("a standby here could not take over: %w", err)
	}
	return f.run(ctx, in, group)
}

// open opens the logbook. One that ends with having been taken over from is put aside: what it has beside the other
// one's came to nothing. keeps says that it is that of a keeper which has taken over here.
func (f *following) open(ctx context.Context) (keeps bool, err error) {
	for range 2 {
		if f.book, err = OpenBook(f.Plan); err != nil {
			return false, err
		}
		if f.state, _, err = f.book.Load(ctx); err != nil {
			return false, errors.Join(mended(f.Plan, err), f.book.Close())
		}
		if !f.state.Term.Over {
			return f.state.Term.Known && f.self != "" && f.state.Term.Folder == f.self, nil
		}
		if err := f.book.Close(); err != nil {
			return false, err
		}
		aside, err := logbook.Aside(f.Plan.Logbook(), "taken-over", time.Now())
		if err != nil {
			return false, err
		}
		slog.Warn("the keeper here was taken over from: its logbook is put aside", "as", aside)
	}
	return false, errors.New("a logbook that was put aside is there again")
}

// run follows and answers those who ask, until it takes over.
func (f *following) run(ctx context.Context, in *state.Folder, group int) (took bool, err error) {
	l, err := in.Listen(plan.KeeperSocketIn, group)
	if err != nil {
		return false, err
	}
	since := time.Now()
	f.stand = api.Standing{For: f.For, Since: since, Seq: f.state.Seq, After: f.After,
		Unsure: f.Plan.Elsewhere(place.IsHere).Unsure}
	ctx, end := context.WithCancel(ctx)
	defer end()
	server := api.ServeStandby(l, group, api.Standby{
		Rules: f.Plan.People,
		Info: func() api.Info {
			standing := f.standing()
			return api.Info{Protocol: api.Protocol, Version: f.Version, Service: f.Plan.Service, Plan: f.Plan.File,
				Digest: f.Digest, Fronts: f.Plan.Places(), Process: os.Getpid(), Since: since, By: f.By, Kept: true,
				Standby: &standing}
		},
		TakeOver: f.told, End: end,
	})
	defer func() { err = errors.Join(err, server.Close()) }()
	if f.Ready != nil {
		f.Ready()
	}
	slog.Info("stands by", "service", f.Plan.Service, "for", f.For, "process", os.Getpid())
	beats, stop := context.WithCancel(ctx)
	defer stop()
	go f.beats(beats, in)
	for {
		by, answer, err := f.until(ctx)
		if err != nil || ctx.Err() != nil {
			return false, err
		}
		if err = f.takeOver(ctx, by); err == nil {
			slog.Info("takes over", "service", f.Plan.Service, "from", f.For, "by", by)
		} else {
			f.troubled(err)
		}
		answer <- err
		if err == nil {
			server.Drain(partLimit) // whoever said so is to hear of it
			return true, nil
		}
	}
}

// beats says again and again that it is at work.
func (f *following) beats(ctx context.Context, in *state.Folder) {
	for {
		beat(in)
		if f.Beat != nil {
			f.Beat()
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(BeatEvery):
		}
	}
}

// until follows until it is to take over, and says on whose word; it follows no more then. An error ends it.
func (f *following) until(ctx context.Context) (by string, answer chan<- error, err error) {
	follow, stop := context.WithCancel(ctx)
	failed := make(chan error, 1)
	go func() { failed <- f.follow(follow) }()
	look := time.NewTicker(followAgain)
	defer look.Stop()
	tried, seen := time.Now(), time.Time{}
	for {
		select {
		case err := <-failed:
			stop()
			return "", nil, err
		case w := <-f.wanted:
			if err := f.may(w.force); err != nil { // it may have waited for a while
				w.answer <- err
				continue
			}
			by, answer = w.by, w.answer
		case <-look.C:
			switch {
			case !f.due():
				seen = time.Time{}
				continue
			case seen.IsZero(): // it may be this machine that was cut off: first the front has to be reached from here
				if time.Since(tried) >= takeOverAgain {
					if tried = time.Now(); f.sees(ctx) {
						seen = time.Now()
					}
				}
				continue
			case !f.inVain(seen): // and then that keeper not
				continue
			}
			by, answer = "vaiven", make(chan error, 1)
		}
		stop()
		return by, answer, <-failed
	}
}

// sees reports whether the front can be read from here.
func (f *following) sees(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, takeOverAgain)
	defer cancel()
	_, err := all.Open(f.Plan).Read(ctx)
	if err != nil {
		f.troubled(err)
	}
	return err == nil
}

// inVain reports whether it was tried to follow after a time, and came to nothing.
func (f *following) inVain(after time.Time) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.vain.After(after)
}

// follow takes down what is on the other keeper's record, until the context ends. An error says that it cannot.
func (f *following) follow(ctx context.Context) error {
	for {
		f.mu.Lock()
		last := f.state.Seq
		f.mu.Unlock()
		begun := time.Now()
		// With the last one that was taken down, which has to be the same.
		err := f.Follow(ctx, last-min(last, 1), f.opened, func(e crossing.Event) error { return f.take(ctx, e) })
		if ctx.Err() != nil {
			return nil
		}
		if errors.Is(err, api.ErrApart) || errors.Is(err, logbook.ErrWritten) {
			return fmt.Errorf("%w: %s is of another life of this service (%w). Move it away, and all of it is taken down "+
				"from %s", api.ErrApart, f.Plan.Logbook(), err, f.For)
		}
		if errors.Is(err, ErrOther) {
			return err
		}
		f.broke(begun, err)
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(followAgain):
		}
	}
}

// take takes an event down.
func (f *following) take(ctx context.Context, e crossing.Event) error {
	f.mu.Lock()
	s := f.state
	f.mu.Unlock()
	if e.Seq > s.Seq+1 {
		return fmt.Errorf("event %d came after %d", e.Seq, s.Seq)
	}
	if e.Seq > s.Seq {
		s = crossing.Apply(s, e)
	}
	if err := f.book.Append(ctx, s, []crossing.Event{e}); err != nil {
		return fmt.Errorf("%w: %w", errNotTakenDown, err)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.state, f.stand.Seq = s, s.Seq
	if f.stuck {
		f.stuck = false
		f.follows()
	}
	return nil
}

// errNotTakenDown is wrapped where that keeper answers, and what it says cannot be written here.
var errNotTakenDown = errors.New("its events cannot be taken down here")

// opened notes that the other keeper answers.
func (f *following) opened() {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.ever, f.heard = true, time.Now(); !f.stuck {
		f.follows()
	}
}

// follows notes that it follows. The caller has the lock.
func (f *following) follows() {
	f.stand.Trouble = ""
	if !f.stand.Follows {
		f.stand.Follows, f.stand.Since = true, time.Now()
		slog.Info("follows", "keeper", f.For)
	}
}

// broke notes that it is not followed, after a try that began at a time. An answer of any kind is a sign of life.
func (f *following) broke(begun time.Time, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.stuck = errors.Is(err, errNotTakenDown)
	answers := f.stuck || !errors.Is(err, api.ErrGone)
	if f.stand.Follows || answers {
		f.heard = time.Now()
	}
	if !answers {
		f.vain = begun
	}
	if f.stand.Trouble = f.Secrets.Hide(err.Error()); f.stand.Follows {
		f.stand.Follows, f.stand.Since = false, time.Now()
		slog.Warn("does not follow any more", "keeper", f.For, "err", err)
	}
}

// troubled notes why it has not taken over.
func (f *following) troubled(err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.stand.Trouble = f.Secrets.Hide(err.Error())
	slog.Warn("has not taken over", "err", err)
}

func (f *following) standing() api.Standing {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.stand
}

// due reports whether it is to take over by itself: the keeper that it has followed has been gone for long enough, and
// has not ended because another one took over.
func (f *following) due() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.After > 0 && f.ever && !f.stand.Follows && !f.state.Term.Over && time.Since(f.heard) >= f.After
}

// may is an error if it is not to take over on a person's word just now.
func (f *following) may(force bool) error {
	switch b := f.standing(); {
	case force:
		return nil
	case b.Follows:
		return fmt.Errorf("%w: the keeper of %s answers. End it, or say --force: that ends it as soon as it reads the front",
			api.ErrNotTaken, f.For)
	case len(b.Unsure) > 0:
		return fmt.Errorf("%w: %s cannot refuse what the keeper of %s still sends. Make sure that it has ended, then say "+
			"--force", api.ErrNotTaken, words.And(b.Unsure), f.For)
	}
	return nil
}

// told takes a person's word to take over.
func (f *following) told(ctx context.Context, by string, force bool) error {
	if err := f.may(force); err != nil {
		return err
	}
	w := wanted{by, force, make(chan error, 1)}
	limited, cancel := context.WithTimeout(ctx, takeOverAnswer)
	defer cancel()
	select {
	case f.wanted <- w:
	case <-limited.Done():
		return fmt.Errorf("%w: it is busy; say it again", api.ErrNotTaken)
	}
	select {
	case err := <-w.answer:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// takeOver begins a term at the front, after any that the keeper before had, and has it on record as this one's.
// Nothing is followed any more.
func (f *following) takeOver(ctx context.Context, by string) error {
	ctx, cancel := context.WithTimeout(ctx, termLimit)
	defer cancel()
	if err := f.book.Check(ctx); err != nil {
		return fmt.Errorf("%w: %w", api.ErrNotTaken, err)
	}
	f.mu.Lock()
	s := f.state
	f.mu.Unlock()
	number, err := all.Open(f.Plan).NewTerm(ctx, s.Term.Number)
	if err != nil {
		return fmt.Errorf("%w: the front does not begin a term: %w", api.ErrNotTaken, err)
	}
	e := crossing.Event{Seq: s.Seq + 1, At: time.Now(), By: by,
		What: crossing.TermBegan{Number: number, Folder: f.self, From: f.For}}
	s = crossing.Apply(s, e)
	if err := f.book.Append(ctx, s, []crossing.Event{e}); err != nil {
		return fmt.Errorf("term %d has begun, and is not on record: say it again: %w", number, err)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.state = s
	return nil
}

// TakeOverBy has the standby of a plan take over, and says what it was until then. The error wraps [api.ErrNotTaken] if
// none runs, or it does not.
func TakeOverBy(ctx context.Context, p *plan.Plan, by string, force bool) (api.Info, error) {
	in, err := state.Look(p.State)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return api.Info{}, err
	}
	none := fmt.Errorf("%w: no standby runs here. vaiven keep %s --standby USER@HOST:PLAN runs one", api.ErrNotTaken, p.File)
	if err != nil {
		return api.Info{}, none
	}
	defer in.Close()
	c := dial(in, api.Config{By: by, Alone: true})
	defer c.Close()
	info, err := asked(ctx, c)
	switch {
	case errors.Is(err, ErrNoKeeper), errors.Is(err, api.ErrGone):
		return info, none
	case err != nil:
		return info, err
	case info.Standby == nil:
		return info, fmt.Errorf("%w: a keeper runs here already, and no standby", api.ErrNotTaken)
	}
	return info, c.TakeOver(ctx, force)
}

package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/front/all"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/api"
	"vaiven/internal/keeper/logbook"
	"vaiven/internal/words"
	"vaiven/internal/world/rotate"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/state"
)

// LogIn is the log of a keeper that was started beside a terminal.
const LogIn = "keeper.log"

// logLimit is how large that becomes.
var logLimit = rotate.Limit{Size: 5 << 20, Keep: 2}

// Keep says how a plan is kept.
type Keep struct {
	Plan    *plan.Plan
	Digest  string // of the plan's file
	Secrets secret.Values
	By      string // who wants it
	Version string // of Vaiven
	Kept    bool   // it does not end by itself
	// Ready is called when clients can come, and every [BeatEvery] while the keeper's loop goes
	// round.
	Ready func()
	Beat  func()
	// EndAfter is how long a keeper that nobody needs waits for somebody, if it is not Kept.
	EndAfter time.Duration
}

// The times that keeping goes by.
const (
	EndAfter   = 10 * time.Minute
	BeatEvery  = 5 * time.Second
	aliveLimit = 3 * time.Second       // for the loop to go round
	partLimit  = time.Second           // for answers that are under way when it ends
	passEvery  = 20 * time.Millisecond // while it is waited for another process to go on
	graceLimit = 2 * time.Second       // for the other process to begin,
	beginLimit = 10 * time.Second      // and to answer
	handLimit  = 10 * time.Second      // for a keeper to hand over what it knows
	fitLimit   = 15 * time.Second      // for front and sides to be read
)

// Run keeps the plan until the context ends, another process takes over, or, unless it is Kept,
// nobody needs it. Instances and front go on as they are.
func (o Keep) Run(ctx context.Context, m keeper.Memory) error {
	for {
		again, memory, err := o.once(ctx, m)
		if err != nil || !again {
			return err
		}
		m = memory // nobody went on
	}
}

// handing is a process that wants to go on.
type handing struct {
	memory keeper.Memory
	told   chan struct{} // closed when it was told
}

// once keeps the plan until something ends that. again says that another process was to go on,
// and did not.
func (o Keep) once(ctx context.Context, m keeper.Memory) (again bool, memory keeper.Memory, err error) {
	s, err := Open(context.WithoutCancel(ctx), o.Plan, o.Secrets, o.By, m)
	if err != nil {
		return false, m, err
	}
	l, err := s.In.Listen(plan.KeeperSocketIn, s.Group)
	if err != nil {
		return false, m, errors.Join(err, s.Close())
	}
	since := time.Now()
	end, handed := make(chan struct{}, 1), make(chan *handing, 1)
	server := api.Serve(l, s.Group, api.Keeper{
		Keeper: s.Keeper,
		Info: func() api.Info {
			return api.Info{
				Protocol: api.Protocol, Version: o.Version, Service: o.Plan.Service, Plan: o.Plan.File,
				Digest: o.Digest, Fronts: o.Plan.Places(), Process: os.Getpid(),
				Since: since, By: o.By, Kept: o.Kept, Idle: !s.Keeper.Busy(), Watching: s.Keeper.Watching(),
			}
		},
		HandOver: func(ctx context.Context) (keeper.Memory, error) {
			memory, err := s.Keeper.HandOver(ctx)
			if err != nil {
				return memory, err
			}
			h := &handing{memory, make(chan struct{})}
			handed <- h
			<-h.told
			return memory, nil
		},
		End: func() {
			select {
			case end <- struct{}{}:
			default:
			}
		},
	}, fmt.Sprintf("%d.%d", os.Getpid(), since.UnixNano()))
	if o.Ready != nil {
		o.Ready()
	}
	slog.Info("keeping", "service", o.Plan.Service, "by", o.By, "process", os.Getpid())
	to := o.wait(ctx, s, end, handed)
	if to == nil {
		if s.Keeper.TakenOver() {
			slog.Warn("ends: another keeper has taken over")
		} else {
			slog.Info("ends", "leaves", Leaves(s.Keeper, o.Plan.File))
		}
		// No more commands, then the keeper, then its clients: they see what its last events were.
		err := errors.Join(s.Close(), server.Close())
		if s.Keeper.TakenOver() {
			err = errors.Join(takenOver(o.Plan, keeper.ErrTakenOver), err)
		}
		return false, m, err
	}
	err = s.Close() // lets the lock go
	close(to.told)
	went, errNext := o.next(ctx)
	err = errors.Join(err, errNext, server.Close())
	if went || ctx.Err() != nil {
		slog.Info("another process goes on")
		return false, m, err
	}
	slog.Warn("another process was to go on, and did not", "err", err)
	return true, to.memory, nil
}

// wait waits until keeping is to end. It is nil if nobody goes on.
func (o Keep) wait(ctx context.Context, s *Service, end <-chan struct{}, handed <-chan *handing) *handing {
	round := time.NewTicker(BeatEvery)
	defer round.Stop()
	wanted := time.Now() // when it was last
	ended := s.Keeper.Done()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-end:
			return nil
		case <-ended:
			if s.Keeper.TakenOver() {
				return nil
			}
			ended = nil // because it hands over
		case h := <-handed:
			return h
		case <-round.C:
		}
		limited, cancel := context.WithTimeout(ctx, aliveLimit)
		alive := s.Keeper.Alive(limited)
		cancel()
		if alive {
			beat(s.In)
		}
		if alive && o.Beat != nil {
			o.Beat()
		}
		if err := rotate.Cut(s.In, LogIn, logLimit); err != nil {
			slog.Warn("the log", "err", err)
		}
		switch {
		case o.Kept || s.Keeper.Needed() || s.Keeper.Watching() > 0:
			wanted = time.Now()
		case time.Since(wanted) >= o.EndAfter:
			slog.Info("nobody needs it any more")
			return nil
		}
	}
}

// takenOver says of a keeper that another one has taken over what can be done.
func takenOver(p *plan.Plan, err error) error {
	if errors.Is(err, keeper.ErrTakenOver) {
		err = fmt.Errorf("%w at the front of %s, on another machine or from another state folder. vaiven log %s says "+
			"when; vaiven keep %[3]s --take-over takes it back, and ends the other one", err, p.Service, p.File)
	}
	return err
}

// next waits until another process has gone on, and reports whether it did. While it holds the
// lock it is given time.
func (o Keep) next(ctx context.Context) (bool, error) {
	in, err := state.Look(o.Plan.State)
	if err != nil {
		return false, err
	}
	defer in.Close()
	c := dial(in, api.Config{By: o.By, Alone: true})
	defer c.Close()
	begun := time.Now()
	for {
		asked, cancel := context.WithTimeout(ctx, aliveLimit)
		info, err := c.Info(asked)
		cancel()
		c.Rest() // else it would go on asking ourselves
		if err == nil && info.Process != os.Getpid() {
			return true, nil
		}
		unlock, err := tryLock(in)
		if err == nil {
			if time.Since(begun) > graceLimit {
				return false, unlock()
			}
			err = unlock()
		}
		if time.Since(begun) > beginLimit {
			return false, err
		}
		select {
		case <-ctx.Done():
			return false, ctx.Err()
		case <-time.After(passEvery):
		}
	}
}

// Leaves says what a keeper of a plan that ends leaves behind, and what nobody watches then.
func Leaves(k *keeper.Keeper, file string) string {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	s := <-k.Snapshots(ctx)
	where := fmt.Sprintf("%v on green", s.Front.Split.Share)
	if c := s.Crossing; c.Stage.UnderWay() {
		where = fmt.Sprintf("crossing %d at %q, %s; nobody watches its guards until a keeper runs again", c.Number,
			c.Stage, where)
	}
	if text := words.Unwatched(s.View); text != "" {
		where += "; " + text + fmt.Sprintf(": vaiven keep %s --unit prints a unit file for a keeper that stays", file)
	}
	return where
}

// TakeOver gets what the keeper that runs knows, which ends with that. The error wraps
// [crossing.ErrNotNow] if it cannot just now, and [api.ErrGone] if none answers.
func TakeOver(ctx context.Context, p *plan.Plan, by string) (keeper.Memory, error) {
	in, err := state.Look(p.State)
	if err != nil {
		return keeper.Memory{}, err
	}
	defer in.Close()
	c := dial(in, api.Config{By: by, Alone: true})
	defer c.Close()
	if info, err := asked(ctx, c); err == nil && len(info.Fronts) > 0 && !slices.Equal(info.Fronts, p.Places()) {
		return keeper.Memory{}, fmt.Errorf("%w: it keeps %s, and the plan has %s now: what it knows is of another "+
			"front. End it (SIGTERM) while nothing is crossing, then start this one without --take-over",
			ErrOtherFront, strings.Join(info.Fronts, " and "), strings.Join(p.Places(), " and "))
	}
	deadline := time.Now().Add(beginLimit)
	for {
		asking, cancel := context.WithTimeout(ctx, handLimit)
		m, err := c.HandOver(asking)
		hangs := err != nil && asking.Err() != nil && ctx.Err() == nil
		cancel()
		if h, held := holderOf(in); held && (hangs || errors.Is(err, api.ErrGone)) {
			return m, fmt.Errorf("%w: %s has not answered for %s. vaiven keep %s --take-over --force ends it and "+
				"goes on from the logbook; vaiven back %[4]s rolls back without it", ErrHangs, h.Text,
				route.Short(max(h.Still, handLimit).Round(time.Second)), p.File)
		}
		if !errors.Is(err, crossing.ErrNotNow) || time.Now().After(deadline) {
			return m, err
		}
		select { // what is being done may be soon
		case <-ctx.Done():
			return m, err
		case <-time.After(10 * passEvery):
		}
	}
}

// ErrOtherFront is wrapped where the keeper that runs keeps another front than the plan has now.
var ErrOtherFront = errors.New("the keeper that runs is not taken over")

// Fit is an error if a keeper of the plan would not work: its front or a side cannot be read, or
// its logbook not be opened.
func Fit(ctx context.Context, p *plan.Plan, secrets secret.Values) error {
	ctx, cancel := context.WithTimeout(ctx, fitLimit)
	defer cancel()
	y, err := OpenStacks(p, secrets)
	if err != nil {
		return err
	}
	defer y.Set.Close()
	if _, err := all.Open(p).Read(ctx); err != nil {
		return err
	}
	for _, side := range split.Sides {
		if _, err := y.Set.List(ctx, side); err != nil {
			return err
		}
	}
	book, err := OpenBook(p)
	if errors.Is(err, logbook.ErrBusy) {
		return nil // by the keeper that runs, which may be frozen in the middle
	}
	if err != nil {
		return err
	}
	return book.Close()
}

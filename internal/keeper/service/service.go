package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/answers"
	"vaiven/internal/keeper/logbook"
	"vaiven/internal/keeper/metrics"
	"vaiven/internal/keeper/recording"
	"vaiven/internal/proving/door"
	"vaiven/internal/proving/prober"
	"vaiven/internal/stack"
	stackall "vaiven/internal/stack/all"
	"vaiven/internal/stack/stand"
	"vaiven/internal/world/peer"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/state"
	"vaiven/internal/world/versions"
)

// Service is a plan with a keeper at work on it.
type Service struct {
	In     *state.Folder
	Group  int // Unix group whose members reach the keeper, -1 for none
	Keeper *keeper.Keeper
	Close  func() error // ends the keeper; front and instances go on
}

// Open starts a keeper for a plan with its secrets, on behalf of somebody, and makes sure that it is the only
// one. It goes on for another if it is given what that one knew. The error wraps [ErrSteered] if there is one already.
func Open(ctx context.Context, p *plan.Plan, secrets secret.Values, by string, m keeper.Memory) (*Service, error) {
	in, err := state.Open(p.State)
	if err != nil {
		return nil, err
	}
	group, err := Admit(in, p)
	if err != nil {
		return nil, errors.Join(err, in.Close())
	}
	closing := []func() error{in.Close}
	fail := func(err error) (*Service, error) {
		deadline := time.Now().Add(endLimit)
		for i := len(closing) - 1; i >= 0; i-- {
			err = errors.Join(err, inTime(deadline, closing[i]))
		}
		return nil, err
	}
	unlock, err := Lock(in, by)
	if err != nil {
		return fail(err)
	}
	closing = append(closing, unlock)
	book, err := OpenBook(p)
	if err != nil {
		return fail(err)
	}
	closing = append(closing, book.Close)
	marker, err := prober.Secret(p.Secret())
	if err != nil {
		return fail(err)
	}
	if err := in.Remove(trackBefore); err != nil {
		return fail(err)
	}
	key, err := in.Key(stack.KeyIn)
	if err != nil {
		return fail(err)
	}
	folder, err := in.ID()
	if err != nil {
		return fail(err)
	}
	y, err := OpenStacks(p, secrets)
	if err != nil {
		return fail(err)
	}
	closing = append(closing, y.Set.Close)
	k, err := keeper.New(ctx, keeper.Config{
		Plan: p, Secrets: y.Secrets, Front: all.Open(p), Stacks: y.Set, Sources: y.Sources, Book: book,
		Prober: NewProber(p, p.Fronts(), marker, y.Secrets), Trail: trail{in},
		Recording: recording.NewWriter(in, p.KeepLog, slog.Default()), Memory: m, Folder: folder, Key: key,
		Make: maker(p, secrets, in),
	})
	if err != nil {
		return fail(takenOver(p, mended(p, err)))
	}
	ctx, stop := context.WithCancel(ctx)
	var work sync.WaitGroup
	work.Go(func() { k.Run(ctx) })
	work.Go(func() { answers.Serve(ctx, p, k) })
	work.Go(func() { metrics.Serve(ctx, p.Metrics, p.Service, k) })
	if group >= 0 {
		work.Go(func() { show(ctx, in, group, k) })
	}
	return &Service{In: in, Group: group, Keeper: k, Close: func() error {
		stop()
		work.Wait()
		_, err := fail(nil)
		return err
	}}, nil
}

// trackBefore is the file that a Vaiven before this one kept the track in.
const trackBefore = "track.jsonl"

// GroupOf is the Unix group whose members reach a plan's keeper, -1 for none.
func GroupOf(p *plan.Plan) (int, error) {
	if p.People.Socket == "" {
		return -1, nil
	}
	gid, err := peer.Group(p.People.Socket)
	if err != nil {
		err = fmt.Errorf("people, socket-group: %w", err)
	}
	return gid, err
}

// Admit lets the members of the plan's group see the names in its state folder.
func Admit(in *state.Folder, p *plan.Plan) (group int, err error) {
	if group, err = GroupOf(p); err == nil {
		err = in.Admit(group)
	}
	return group, err
}

// OpenBook opens a plan's logbook. The error says what to do about one that is damaged.
func OpenBook(p *plan.Plan) (*logbook.Book, error) {
	book, err := logbook.Open(p.Logbook())
	return book, mended(p, err)
}

// mended says of a damaged logbook what can be done.
func mended(p *plan.Plan, err error) error {
	if errors.Is(err, logbook.ErrDamaged) {
		err = fmt.Errorf("%w. vaiven log %s --mend says what can be read of it, puts it aside and begins a new one; "+
			"rolling back works without it: vaiven back %[2]s --to SIDE", err, p.File)
	}
	return err
}

// inTime ends something, and leaves behind what does not end before a deadline: a disk may
// hang, and a host.
func inTime(deadline time.Time, end func() error) error {
	done := make(chan error, 1)
	go func() { done <- end() }()
	select {
	case err := <-done:
		return err
	case <-time.After(max(time.Until(deadline), leastEnd)):
		return nil
	}
}

// endLimit is how long the parts of a service may take to end altogether, and leastEnd how
// long each is waited for when that is over.
const (
	endLimit = 300 * time.Millisecond
	leastEnd = 20 * time.Millisecond
)

// NewProber makes the plan's prober, which asks at fronts in turn.
func NewProber(p *plan.Plan, fronts []plan.Front, marker string, secrets secret.Values) *prober.Prober {
	var addresses []string
	for _, f := range fronts {
		addresses = append(addresses, f.Listen)
	}
	slow, _ := p.Guard(plan.Door)
	likely, _, _ := p.Content()
	return prober.New(prober.Config{
		Hide: secrets.HideCut, Contains: p.Prober.Contains, JSON: p.Prober.JSON, Likely: likely, Slow: slow.After,
		Fronts: addresses, Path: p.Prober.Path, Door: door.Of(p, secrets), Off: p.Prober.Off, Key: p.Front.Key,
		Rate: p.Prober.Rate, Timeout: p.Prober.Within,
		Status: p.Prober.Status, Secret: marker, Side: p.Prober.Side, Version: p.Prober.Version,
	})
}

// Stacks is what a plan's sides are made of.
type Stacks struct {
	Secrets secret.Values
	Set     *stackall.Set
	Sources map[string]versions.Source
}

// Offers are the versions that there are to choose from, and that stand on either side.
func (y Stacks) Offers(ctx context.Context, p *plan.Plan) ([]keeper.Offer, error) {
	return keeper.Offers(ctx, p, y.Sources, func(part string) ([]raise.Version, error) {
		var all []reading.Instance
		for _, side := range split.Sides {
			list, err := y.Set.List(ctx, side)
			if err != nil {
				return nil, err
			}
			all = append(all, list...)
		}
		return keeper.Stand(part, all), nil
	})
}

// OpenStacks opens the drivers and sources of a plan with its secrets, or with none for who
// only looks. Nothing is asked yet.
func OpenStacks(p *plan.Plan, secrets secret.Values) (Stacks, error) {
	program, err := os.Executable()
	if err != nil {
		return Stacks{}, err
	}
	set, err := stackall.Open(p, secrets, filepath.Join(filepath.Dir(program), "vaiven-relay"), listed(p))
	if err != nil {
		return Stacks{}, err
	}
	sources, err := stackall.Sources(p)
	if err != nil {
		return Stacks{}, errors.Join(err, set.Close())
	}
	return Stacks{secrets, set, sources}, nil
}

// listed is what the plan's front lists for a side.
func listed(p *plan.Plan) stand.Listed {
	d := all.Open(p)
	return func(ctx context.Context, side split.Side) ([]reading.Server, error) {
		return front.Listed(ctx, d, side)
	}
}

// Lock takes the file in the state folder that says who steers. It is let go when the
// process ends, however it ends.
func Lock(in *state.Folder, by string) (unlock func() error, err error) {
	f, err := in.OpenFile(plan.LockIn, os.O_CREATE|os.O_RDWR)
	if err != nil {
		return nil, fmt.Errorf("take the keeper's lock: %w", err)
	}
	err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	holder := ""
	begun := time.Now()
	for err != nil {
		data, _ := in.ReadFile(plan.LockIn)
		holder, _, _ = strings.Cut(string(data), "\n")
		// Somebody may only be looking whether it is free; or whoever held it has ended, and what it
		// was just starting holds it for a moment.
		if waited := time.Since(begun); waited > 3*time.Second || waited > 300*time.Millisecond && runs(holder) {
			break
		}
		time.Sleep(20 * time.Millisecond)
		err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%w (%s). Replace it with: vaiven keep PLAN --take-over, and --force "+
			"where it hangs. Roll back with: vaiven back PLAN", ErrSteered, holder), f.Close())
	}
	text := heldAs(by)
	// A full disk takes no name; the lock is held all the same.
	if err := errors.Join(f.Truncate(0), writeAt(f, text)); err != nil && !errors.Is(err, syscall.ENOSPC) {
		return nil, errors.Join(fmt.Errorf("take the keeper's lock: %w", err), f.Close())
	}
	return f.Close, nil
}

// runs reports whether the process that a holder of the lock names is there.
func runs(holder string) bool {
	_, pid, _ := strings.Cut(holder, "process ")
	_, err := os.Stat("/proc/" + pid)
	return pid != "" && err == nil
}

// ErrSteered is wrapped when the lock is held.
var ErrSteered = errors.New("this service has a keeper already")

func writeAt(f *os.File, text string) error {
	_, err := f.WriteAt([]byte(text), 0)
	return err
}

package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"vaiven/internal/front/all"
	"vaiven/internal/keeper"
	"vaiven/internal/logbook"
	"vaiven/internal/plan"
	"vaiven/internal/prober"
	"vaiven/internal/secret"
	stackall "vaiven/internal/stack/all"
	"vaiven/internal/stack/container"
	"vaiven/internal/versions"
)

// Service is a plan with a keeper at work on it.
type Service struct {
	Keeper *keeper.Keeper
	Close  func() error // ends the keeper; front and instances go on
}

// Open starts a keeper for a plan, on behalf of somebody, and makes sure that it is the only
// one. The error wraps [ErrSteered] if it would not be.
func Open(ctx context.Context, p *plan.Plan, by string) (*Service, error) {
	if err := os.MkdirAll(p.State, 0o700); err != nil {
		return nil, fmt.Errorf("make the state folder: %w", err)
	}
	unlock, err := Lock(p.Lock(), by)
	if err != nil {
		return nil, err
	}
	closing := []func() error{unlock}
	fail := func(err error) (*Service, error) {
		for i := len(closing) - 1; i >= 0; i-- {
			err = errors.Join(err, inTime(closing[i]))
		}
		return nil, err
	}
	logs, err := logTo(filepath.Join(p.State, "vaiven.log"))
	if err != nil {
		return fail(err)
	}
	closing = append(closing, logs)
	book, err := logbook.Open(p.Logbook())
	if err != nil {
		return fail(err)
	}
	closing = append(closing, book.Close)
	marker, err := prober.Secret(p.Secret())
	if err != nil {
		return fail(err)
	}
	y, err := OpenStacks(p)
	if err != nil {
		return fail(err)
	}
	closing = append(closing, y.Set.Close)
	k, err := keeper.New(ctx, keeper.Config{
		Plan: p, Secrets: y.Secrets, Front: all.Open(p), Stacks: y.Set, Sources: y.Sources, Book: book,
		Prober: NewProber(p, p.Fronts(), marker),
	})
	if err != nil {
		return fail(err)
	}
	ctx, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		k.Run(ctx)
	}()
	return &Service{Keeper: k, Close: func() error {
		stop()
		<-done
		_, err := fail(nil)
		return err
	}}, nil
}

// inTime ends something, and leaves behind what does not end: a disk may hang.
func inTime(end func() error) error {
	done := make(chan error, 1)
	go func() { done <- end() }()
	select {
	case err := <-done:
		return err
	case <-time.After(endLimit):
		return nil
	}
}

// endLimit is how long each part of a service may take to end.
const endLimit = time.Second

// NewProber makes the plan's prober, which asks at fronts in turn.
func NewProber(p *plan.Plan, fronts []plan.Front, marker string) *prober.Prober {
	var urls []string
	for _, f := range fronts {
		urls = append(urls, "http://"+f.Listen+p.Prober.Path)
	}
	door, _ := p.Guard(plan.Door)
	return prober.New(prober.Config{
		Contains: p.Prober.Contains, JSON: p.Prober.JSON, Slow: door.After,
		URLs: urls, Key: p.Front.Key, Rate: p.Prober.Rate, Timeout: p.Prober.Within,
		Status: p.Prober.Status, Secret: marker, Side: p.Prober.Side, Version: p.Prober.Version,
	})
}

// Stacks is what a plan's sides are made of.
type Stacks struct {
	Secrets secret.Values
	Set     *stackall.Set
	Sources map[string]versions.Source
}

// OpenStacks opens the drivers and sources of a plan. Nothing is asked yet.
func OpenStacks(p *plan.Plan) (Stacks, error) {
	secrets, err := secret.Read(p.Secrets)
	if err != nil {
		return Stacks{}, err
	}
	return StacksWith(p, secrets)
}

// StacksWith opens them with secrets that were read, or with none for who only looks.
func StacksWith(p *plan.Plan, secrets secret.Values) (Stacks, error) {
	program, err := os.Executable()
	if err != nil {
		return Stacks{}, err
	}
	set, err := stackall.Open(p, secrets, container.Relay{Program: program, Args: []string{"relay"}})
	if err != nil {
		return Stacks{}, err
	}
	sources, err := stackall.Sources(p)
	if err != nil {
		return Stacks{}, errors.Join(err, set.Close())
	}
	return Stacks{secrets, set, sources}, nil
}

// Lock takes the file that says who steers. It is let go when the process ends,
// however it ends.
func Lock(path, by string) (unlock func() error, err error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("take the keeper's lock: %w", err)
	}
	err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	holder := ""
	for deadline := time.Now().Add(3 * time.Second); err != nil; {
		data, _ := os.ReadFile(path)
		holder = strings.TrimSpace(string(data))
		if runs(holder) || time.Now().After(deadline) {
			break
		}
		// Whoever held it has ended, and what it was just starting holds it for a moment.
		time.Sleep(20 * time.Millisecond)
		err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%w (%s); two must not. Going back works all the same: vaiven back", ErrSteered, holder), f.Close())
	}
	text := fmt.Sprintf("%s, process %d\n", by, os.Getpid())
	if err := errors.Join(f.Truncate(0), writeAt(f, text)); err != nil {
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
var ErrSteered = errors.New("somebody steers this service already")

func writeAt(f *os.File, text string) error {
	_, err := f.WriteAt([]byte(text), 0)
	return err
}

// logTo sends the program's own log to a file: the terminal belongs to the
// screen, and standard output to events.
func logTo(path string) (closeLog func() error, err error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open the program's log: %w", err)
	}
	slog.SetDefault(slog.New(slog.NewTextHandler(f, nil)))
	return f.Close, nil
}

package service

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"syscall"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/keeper/api"
	"vaiven/internal/world/peer"
	"vaiven/internal/world/state"
)

// Reach says how a keeper is reached.
type Reach struct {
	Plan   *plan.Plan
	Digest string // of the plan's file
	Client api.Config
	// Program and arguments that start a keeper of the plan beside the terminal; none if none is
	// to be started.
	Start []string
	Note  func(string) // told what there is to know beside it
}

// Reached is a keeper that answers.
type Reached struct {
	*api.Client
	Info api.Info
	in   *state.Folder
}

// Close ends the connection; the keeper goes on.
func (r *Reached) Close() error { return errors.Join(r.Client.Close(), r.in.Close()) }

// ErrNoKeeper is wrapped when there is no keeper, and none is to be started.
var ErrNoKeeper = errors.New("no keeper runs")

// The limits of reaching.
const (
	infoLimit  = 2 * time.Second  // for a keeper to say which it is
	startLimit = 30 * time.Second // for one to get ready
)

func dial(in *state.Folder, c api.Config) *api.Client {
	c.Dial = func(ctx context.Context) (net.Conn, error) {
		conn, err := in.Dial(ctx, plan.KeeperSocketIn)
		if errors.Is(err, fs.ErrNotExist) {
			err = &net.OpError{Op: "dial", Net: "unix", Err: ErrNoKeeper}
		}
		return conn, err
	}
	return api.Dial(c)
}

// Open connects to the plan's keeper, and starts one where none runs. The error wraps
// [ErrNoKeeper] if none is to be started.
func (r Reach) Open(ctx context.Context) (*Reached, error) {
	var in *state.Folder
	var err error
	if len(r.Start) > 0 {
		in, err = state.Open(r.Plan.State)
	} else if in, err = state.Look(r.Plan.State); errors.Is(err, fs.ErrNotExist) {
		err = ErrNoKeeper
	}
	if errors.Is(err, state.ErrOthers) {
		return r.visit(ctx)
	}
	if err != nil {
		return nil, err
	}
	if len(r.Start) > 0 {
		r.Client.Revive = func(ctx context.Context) error { return r.start(ctx, in) }
	}
	c := dial(in, r.Client)
	info, err := r.reach(ctx, in, c)
	if err != nil {
		return nil, errors.Join(err, c.Close(), in.Close())
	}
	return &Reached{c, info, in}, nil
}

// Dial connects to the socket of the plan's keeper, whoever that is.
func (r Reach) Dial(ctx context.Context) (net.Conn, error) {
	in, err := state.Visit(r.Plan.State)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return in.Dial(ctx, plan.KeeperSocketIn)
}

// visit connects to the keeper of another user, which is not ours to start.
func (r Reach) visit(ctx context.Context) (*Reached, error) {
	in, err := state.Visit(r.Plan.State)
	if err != nil {
		if errors.Is(err, fs.ErrPermission) {
			err = fmt.Errorf("%w: the members of the plan's socket-group reach its keeper, and you (%s) are none", err,
				peer.Self())
		}
		return nil, err
	}
	c := dial(in, r.Client)
	info, err := asked(ctx, c)
	if err = standsBy(info, err); err == nil {
		return &Reached{c, info, in}, nil
	}
	if errors.Is(err, ErrNoKeeper) || errors.Is(err, api.ErrGone) {
		err = fmt.Errorf("%w. It is %s's to start: systemctl start vaiven-%s, or vaiven keep %s as that user. vaiven back "+
			"%[4]s rolls back without it", err, in.Owner(), r.Plan.Service, r.Plan.File)
	}
	return nil, errors.Join(err, c.Close(), in.Close())
}

// reach finds the keeper that runs, or starts one.
func (r Reach) reach(ctx context.Context, in *state.Folder, c *api.Client) (api.Info, error) {
	info, err := asked(ctx, c)
	if err := standsBy(info, err); errors.Is(err, api.ErrStandby) {
		return info, err
	}
	if err == nil && info.Digest != r.Digest && len(r.Start) > 0 {
		if !info.Idle || info.Kept {
			r.Note(fmt.Sprintf("the plan has changed since the keeper read it at %s, and it goes by what it read: "+
				"vaiven keep %s --take-over has it read anew", info.Since.Local().Format("15:04:05"), r.Plan.File))
			return info, nil
		}
		if err := end(ctx, in, c); err != nil { // it has nothing to do
			return info, err
		}
		err = ErrNoKeeper
	}
	if err == nil {
		return info, nil
	}
	for begun := time.Now(); ; {
		holder, held := holderOf(in)
		if !held {
			break
		}
		if time.Since(begun) > infoLimit {
			return info, fmt.Errorf("%w (%s), which has not answered for %s: %w. vaiven keep %s --take-over --force "+
				"ends it and goes on from the logbook; vaiven back %[5]s rolls back without it",
				ErrSteered, holder.Text, route.Short(max(holder.Still, infoLimit).Round(time.Second)), err, r.Plan.File)
		}
		select { // it may be about to listen, or to end
		case <-time.After(passEvery):
		case <-ctx.Done():
			return info, fmt.Errorf("%w (%s): %w", ErrSteered, holder.Text, ctx.Err())
		}
		if info, err = asked(ctx, c); err == nil {
			return info, nil
		}
	}
	if len(r.Start) == 0 {
		return info, ErrNoKeeper
	}
	if err := r.start(ctx, in); err != nil {
		return info, err
	}
	for begun := time.Now(); ; time.Sleep(passEvery) { // it was another that was faster, and is about to listen
		if info, err = asked(ctx, c); err == nil || time.Since(begun) > infoLimit || ctx.Err() != nil {
			break
		}
	}
	if err == nil {
		r.Note(fmt.Sprintf("a keeper of %s was started (process %d); it goes on when the terminal closes, and its "+
			"log is %s", r.Plan.Service, info.Process, in.Path(LogIn)))
	}
	return info, err
}

// StandsBy is that a standby answers, and no keeper: an [api.ErrStandby].
type StandsBy struct{ api.Info }

// Error says what can be done.
func (s StandsBy) Error() string {
	return fmt.Sprintf("%v: it follows the keeper of %s. vaiven open %[2]s shows that one; vaiven take-over %[3]s has the "+
		"standby take over; vaiven back %[3]s rolls back without either", api.ErrStandby, s.Standby.For, s.Plan)
}

// Unwrap is [api.ErrStandby].
func (s StandsBy) Unwrap() error { return api.ErrStandby }

// standsBy is an error if it is a standby that answers.
func standsBy(i api.Info, err error) error {
	if err == nil && i.Standby != nil {
		err = StandsBy{i}
	}
	return err
}

func asked(ctx context.Context, c *api.Client) (api.Info, error) {
	ctx, cancel := context.WithTimeout(ctx, infoLimit)
	defer cancel()
	return c.Info(ctx)
}

// end ends the keeper that runs, and waits until it is gone.
func end(ctx context.Context, in *state.Folder, c *api.Client) error {
	ctx, cancel := context.WithTimeout(ctx, startLimit)
	defer cancel()
	if err := c.End(ctx); err != nil && !errors.Is(err, api.ErrGone) {
		return err
	}
	for {
		if unlock, err := tryLock(in); err == nil {
			return unlock()
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the keeper does not end: %w", ctx.Err())
		case <-time.After(passEvery):
		}
	}
}

// End ends the keeper of a plan, if one runs.
func End(ctx context.Context, p *plan.Plan) error {
	in, err := state.Look(p.State)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer in.Close()
	c := dial(in, api.Config{By: "vaiven", Alone: true})
	defer c.Close()
	if _, held := holderOf(in); !held {
		return nil
	}
	return end(ctx, in, c)
}

// start starts a keeper in a session of its own, and waits until it is ready. That another one
// was faster is as good.
func (r Reach) start(ctx context.Context, in *state.Folder) (err error) {
	log, err := in.OpenFile(LogIn, os.O_CREATE|os.O_APPEND|os.O_WRONLY)
	if err != nil {
		return fmt.Errorf("open the keeper's log: %w", err)
	}
	defer log.Close()
	hear, tell, err := os.Pipe()
	if err != nil {
		return err
	}
	defer hear.Close()
	cmd := exec.Command(r.Start[0], r.Start[1:]...)
	cmd.Stdout, cmd.Stderr, cmd.ExtraFiles = log, log, []*os.File{tell}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	err = cmd.Start()
	_ = tell.Close()
	if err != nil {
		return fmt.Errorf("start a keeper: %w", err)
	}
	go func() { _ = cmd.Wait() }() // reaps it should it end before us
	answer := make(chan Readiness, 1)
	go func() {
		var a Readiness
		line, _ := bufio.NewReader(hear).ReadBytes('\n')
		if json.Unmarshal(line, &a) != nil {
			a.Error = "it ended, and said nothing: its log is " + in.Path(LogIn)
		}
		answer <- a
	}()
	select {
	case a := <-answer:
		switch {
		case a.Error == "", a.Steered:
			return nil
		}
		return fmt.Errorf("start a keeper: %s", a.Error)
	case <-time.After(startLimit):
		return fmt.Errorf("start a keeper: it has not got ready within %v; its log is %s", startLimit, in.Path(LogIn))
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Readiness is what a keeper that was started beside a terminal tells who started it, as a line
// of JSON.
type Readiness struct {
	Error   string `json:"error,omitempty"`   // "" if it is ready
	Steered bool   `json:"steered,omitempty"` // there is one already
}

// tryLock takes the keeper's lock if nobody has it.
func tryLock(in *state.Folder) (unlock func() error, err error) {
	f, err := in.OpenFile(plan.LockIn, os.O_CREATE|os.O_RDWR)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f.Close, nil
}

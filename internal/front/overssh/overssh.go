package overssh

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/world/place"
	"vaiven/internal/world/place/distant"
)

// The times that going home goes by.
const (
	// the connection that is kept has so long to answer at all before another is made,
	hurry    = 250 * time.Millisecond
	patience = 2 * time.Second // and one that answers, to have it done
	another  = time.Second     // between two others
	mostWays = 6               // that are tried at once
	wayLimit = 8 * time.Second // for one of those beside
)

// Driver steers a front on another machine. It is safe for concurrent use.
type Driver struct {
	kept    *distant.Machine
	driver  front.Driver // over the connection that is kept
	connect func() *distant.Machine
	open    func(on place.Machine) front.Driver
}

var _ front.Driver = (*Driver)(nil)

// New makes a driver: connect makes the machine anew each time, with a connection of its own, and
// open the driver of the front on it. Nothing is asked yet.
func New(connect func() *distant.Machine, open func(on place.Machine) front.Driver) *Driver {
	m := connect()
	return &Driver{kept: m, driver: open(distant.Place{Machine: m}), connect: connect, open: open}
}

// plainly says of a machine that does not answer that its front does not.
func plainly(err error) error {
	if errors.Is(err, place.ErrUnreachable) && !errors.Is(err, front.ErrUnreachable) {
		return fmt.Errorf("%w: %w", front.ErrUnreachable, err)
	}
	return err
}

// Read is the split in force and what was counted.
func (d *Driver) Read(ctx context.Context) (reading.Front, error) {
	r, err := d.driver.Read(ctx)
	return r, plainly(err)
}

// Foresee is what Set would do.
func (d *Driver) Foresee(ctx context.Context, share split.Share) (front.Change, error) {
	c, err := d.driver.Foresee(ctx, share)
	return c, plainly(err)
}

// Set puts a share on green in force.
func (d *Driver) Set(ctx context.Context, share split.Share, e front.Expect) (front.Done, error) {
	done, err := d.driver.Set(ctx, share, e)
	return done, plainly(err)
}

// Rehearse does everything of going home but the last act.
func (d *Driver) Rehearse(ctx context.Context, side split.Side) ([]wayback.Step, error) {
	steps, err := d.driver.Rehearse(ctx, side)
	return steps, plainly(err)
}

// NewTerm begins another term.
func (d *Driver) NewTerm(ctx context.Context) (uint64, error) {
	term, err := d.driver.NewTerm(ctx)
	return term, plainly(err)
}

// SetInstances replaces the instances of a side.
func (d *Driver) SetInstances(ctx context.Context, side split.Side, servers []reading.Server) error {
	return plainly(d.driver.SetInstances(ctx, side, servers))
}

// Drain gives up a side without a share.
func (d *Driver) Drain(ctx context.Context, side split.Side) (front.Left, error) {
	left, err := front.Drain(ctx, d.driver, side)
	return left, plainly(err)
}

// Listed is what the front lists for a side.
func (d *Driver) Listed(ctx context.Context, side split.Side) ([]reading.Server, error) {
	list, err := front.Listed(ctx, d.driver, side)
	return list, plainly(err)
}

// Reach connects to an address from where the front stands.
func (d *Driver) Reach(ctx context.Context, address string) error {
	return front.Reach(ctx, d.driver, address)
}

// Doors are the spare side's own door.
func (d *Driver) Doors(ctx context.Context) ([]front.Spare, error) {
	doors, err := front.Doors(ctx, d.driver)
	return doors, plainly(err)
}

// Prepare makes the file that the proxy needs, if it needs one.
func (d *Driver) Prepare(ctx context.Context, sides front.Known) (bool, error) {
	p, ok := d.driver.(front.Preparer)
	if !ok {
		return false, nil
	}
	made, err := p.Prepare(ctx, sides)
	return made, plainly(err)
}

// Lacks is what the front's configuration lacks, as far as it can say.
func (d *Driver) Lacks(ctx context.Context) ([]string, error) {
	l, ok := d.driver.(front.Lacker)
	if !ok {
		return nil, nil
	}
	list, err := l.Lacks(ctx)
	return list, plainly(err)
}

// Run does what the front has to do.
func (d *Driver) Run(ctx context.Context) { front.Run(ctx, d.driver) }

// Pause holds what comes, if the front can.
func (d *Driver) Pause(ctx context.Context, by string) error {
	p, ok := d.driver.(front.Pauser)
	if !ok {
		return fmt.Errorf("%w: it cannot hold what comes", front.ErrRefused)
	}
	return plainly(p.Pause(ctx, by))
}

// Resume lets everything go on.
func (d *Driver) Resume(ctx context.Context) error {
	p, ok := d.driver.(front.Pauser)
	if !ok {
		return nil
	}
	return plainly(p.Resume(ctx))
}

// came is what one way of going home came to.
type came struct {
	done front.Done
	err  error
}

// Home sends all requests to a side: over the connection that is kept, and over others
// beside it where that takes long. An error is the first way's.
func (d *Driver) Home(ctx context.Context, h front.Homing) (front.Done, error) {
	ctx, cancel := context.WithCancel(ctx) // what is under way when one has come through is not needed
	defer cancel()
	kept, beside := make(chan came, 1), make(chan came, mostWays)
	go func() {
		done, err := d.driver.Home(ctx, h)
		kept <- came{done, err}
	}()
	silent := make(chan struct{}, 1)
	go func() {
		if !d.kept.Answers(hurry) {
			silent <- struct{}{}
		}
	}()
	timer := time.NewTimer(patience)
	defer timer.Stop()
	under := 0 // ways beside
	var first error
	for {
		select {
		case c := <-kept:
			if c.err == nil || !d.hopeful(ctx, c.err) {
				return c.done, plainly(c.err)
			}
			first = c.err
			timer.Reset(0)
		case c := <-beside:
			if under--; c.err == nil || !d.hopeful(ctx, c.err) {
				c.done.Revision = 0 // it is another driver's
				return c.done, plainly(c.err)
			}
			if first != nil && under == 0 { // nobody got there: whoever wants it home tries again
				return front.Done{}, plainly(first)
			}
		case <-silent:
			timer.Reset(0)
		case <-timer.C:
			if under < mostWays {
				under++
				go func() {
					done, err := d.besides(ctx, h)
					beside <- came{done, err}
				}()
			}
			timer.Reset(another)
		case <-ctx.Done():
			return front.Done{}, plainly(fmt.Errorf("%w: %w", place.ErrUnreachable, context.Cause(ctx)))
		}
	}
}

// hopeful reports whether another way may come through where one did not.
func (*Driver) hopeful(ctx context.Context, err error) bool {
	return ctx.Err() == nil && (errors.Is(err, place.ErrUnreachable) || errors.Is(err, front.ErrUnreachable) ||
		errors.Is(err, context.DeadlineExceeded))
}

// besides goes home over a connection of its own.
func (d *Driver) besides(ctx context.Context, h front.Homing) (front.Done, error) {
	ctx, cancel := context.WithTimeout(ctx, wayLimit)
	defer cancel()
	m := d.connect()
	defer m.End()
	return d.open(distant.Place{Machine: m}).Home(ctx, h)
}

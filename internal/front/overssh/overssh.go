package overssh

import (
	"context"
	"errors"
	"fmt"
	"time"

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

// Driver steers a front on another machine: all that the front's own driver does, it does over the connection that is
// kept, but for going home. It is safe for concurrent use.
type Driver struct {
	front.Driver // over the connection that is kept

	kept    *distant.Machine
	connect func() *distant.Machine
	open    func(on place.Machine) front.Driver
}

var _ front.Driver = (*Driver)(nil)

// New makes a driver: connect makes the machine anew each time, with a connection of its own, and
// open the driver of the front on it. Nothing is asked yet.
func New(connect func() *distant.Machine, open func(on place.Machine) front.Driver) *Driver {
	m := connect()
	return &Driver{Driver: open(distant.Place{Machine: m}), kept: m, connect: connect, open: open}
}

// Unwrap is the driver of the front itself, which has the abilities.
func (d *Driver) Unwrap() front.Driver { return d.Driver }

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
		done, err := d.Driver.Home(ctx, h)
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
				return c.done, c.err
			}
			first = c.err
			timer.Reset(0)
		case c := <-beside:
			if under--; c.err == nil || !d.hopeful(ctx, c.err) {
				c.done.Revision = 0 // it is another driver's
				return c.done, c.err
			}
			if first != nil && under == 0 { // nobody got there: whoever wants it home tries again
				return front.Done{}, first
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
			return front.Done{}, fmt.Errorf("%w: %w", place.ErrUnreachable, context.Cause(ctx))
		}
	}
}

// hopeful reports whether another way may come through where one did not.
func (*Driver) hopeful(ctx context.Context, err error) bool {
	return ctx.Err() == nil && (front.Unreachable(err) || errors.Is(err, context.DeadlineExceeded))
}

// besides goes home over a connection of its own.
func (d *Driver) besides(ctx context.Context, h front.Homing) (front.Done, error) {
	ctx, cancel := context.WithTimeout(ctx, wayLimit)
	defer cancel()
	m := d.connect()
	defer m.End()
	return d.open(distant.Place{Machine: m}).Home(ctx, h)
}

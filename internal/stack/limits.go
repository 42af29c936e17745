package stack

import (
	"context"
	"fmt"
	"time"
)

// Limits of what is asked of a driver. Raising and stopping have that of the context.
const (
	// ReadLimit is for one host or engine to say what it runs: a driver gives up on it
	// then, and says what the others said.
	ReadLimit = 5 * time.Second
	// PlaceLimit is for getting to where an instance stands.
	PlaceLimit = time.Minute
)

// patience is how long a driver may take to return after its context has ended.
const patience = 100 * time.Millisecond

// inTime does something that may hang, and leaves it behind if it has not returned soon
// after the context's end. What it returns then is lost.
func inTime[T any](ctx context.Context, do func(context.Context) (T, error)) (T, error) {
	type outcome struct {
		value T
		err   error
	}
	done := make(chan outcome, 1)
	begun := time.Now()
	go func() {
		v, err := do(ctx)
		done <- outcome{v, err}
	}()
	select {
	case o := <-done:
		return o.value, o.err
	case <-ctx.Done():
	}
	select {
	case o := <-done:
		return o.value, o.err
	case <-time.After(patience):
	}
	var none T
	return none, fmt.Errorf("%w: no answer within %v, and not waited for any longer: %w",
		ErrUnreachable, time.Since(begun).Round(time.Millisecond), context.Cause(ctx))
}

// Turn is held by one at a time. Unlike a mutex it is not waited for any longer than a
// context lasts. Make it with NewTurn.
type Turn chan struct{}

// NewTurn is a turn that nobody has.
func NewTurn() Turn { return make(Turn, 1) }

// Take waits for the turn. Whoever has it gives it back.
func (t Turn) Take(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return context.Cause(ctx)
	}
	select {
	case t <- struct{}{}:
		return nil
	case <-ctx.Done():
		return fmt.Errorf("another raise or stop is still under way: %w", context.Cause(ctx))
	}
}

// Give gives the turn back.
func (t Turn) Give() { <-t }

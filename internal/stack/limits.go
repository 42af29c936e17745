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

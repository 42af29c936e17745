package place

import (
	"context"
	"fmt"
)

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
		return fmt.Errorf("another one is still under way: %w", context.Cause(ctx))
	}
}

// Give gives the turn back.
func (t Turn) Give() { <-t }

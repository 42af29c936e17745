package front

import (
	"context"
	"fmt"
	"time"

	"vaiven/internal/core/split"
)

// ChangeLimit bounds one change of a front: some have to be reloaded.
const ChangeLimit = 25 * time.Second

// TryHome sends all requests to a side, within ChangeLimit, and makes sure that they go there.
func TryHome(ctx context.Context, home func(context.Context, Homing) (Done, error), h Homing) (Done, error) {
	ctx, cancel := context.WithTimeout(ctx, ChangeLimit)
	defer cancel()
	d, err := home(ctx, h)
	if err == nil && d.Share != split.Toward(h.Side, split.Whole) {
		err = fmt.Errorf("it has %v on green after going home", d.Share)
	}
	return d, err
}

// HomePause is how long to wait after so many tries that did not work, from 1 on.
func HomePause(tries int) time.Duration {
	const first, longest = 100 * time.Millisecond, 2 * time.Second
	return min(first<<min(tries-1, 10), longest)
}

package front

import (
	"context"
	"fmt"
	"time"

	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
)

// Steps times the steps of a rehearsal. The zero value has none.
type Steps []wayback.Step

// Do does one step, and notes how long it took.
func (s *Steps) Do(what string, act func() error) error {
	begun := time.Now()
	err := act()
	*s = append(*s, wayback.Step{What: what, Took: time.Since(begun)})
	return err
}

// Rehearse rehearses going home at a front. It never fails: that it would not work is what it
// says then. A front that is not reached is asked once more: a connection that stood may have
// ended since, and the next one holds.
func Rehearse(ctx context.Context, d Driver, side split.Side) wayback.Rehearsal {
	begun := time.Now()
	steps, err := d.Rehearse(ctx, side)
	if Unreachable(err) {
		begun = time.Now()
		steps, err = d.Rehearse(ctx, side)
	}
	r := wayback.Rehearsal{At: time.Now(), Took: time.Since(begun), Steps: steps}
	if err != nil {
		r.Failed, r.Broken = err.Error(), Unreachable(err)
	}
	return r
}

// Nobody is the error of a side that has no instances at the front.
func Nobody(side split.Side) error {
	return fmt.Errorf("%w: %v has no instances at the front", ErrNobody, side)
}

package headless

import (
	"context"

	"vaiven/internal/core/crossing"
	"vaiven/internal/keeper"
)

// Follow tells every event after one, until the crossing that is under way, or the next that
// begins, has ended. It steers nothing.
func Follow(ctx context.Context, c keeper.Client, since uint64, emit func(crossing.Event) error) (Outcome, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	events := c.Events(ctx, since)
	s := crossing.State{}
	select {
	case first, ok := <-c.Snapshots(ctx):
		if !ok {
			return Failed, errStopped
		}
		s = first.Crossing
	case <-ctx.Done():
		return Failed, ctx.Err()
	}
	crossed := s.Stage.UnderWay() || since != keeper.FromNow
	for {
		if crossed && s.Stage.Over() && !s.Retiring() && (since == keeper.FromNow || since >= s.Seq) {
			return outcomeOf(s.Stage), nil
		}
		select {
		case e, ok := <-events:
			if !ok {
				return Failed, errStopped
			}
			if err := emit(e); err != nil {
				return Failed, err
			}
			if since != keeper.FromNow {
				since = e.Seq
			}
			if e.Seq > s.Seq {
				s = crossing.Apply(s, e)
			}
			crossed = crossed || s.Stage.UnderWay()
		case <-ctx.Done():
			return Failed, ctx.Err()
		}
	}
}

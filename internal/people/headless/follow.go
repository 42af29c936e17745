package headless

import (
	"context"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/situation"
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

// showEvery is how often what is known is shown.
const showEvery = time.Second

// Show shows what is known of a service every second, whatever the keeper says meanwhile, until the context ends; last
// says that it has.
func Show(ctx context.Context, c keeper.Client, show func(s keeper.Snapshot, is situation.Situation, last bool)) {
	watched, stop := context.WithCancel(ctx)
	defer stop()
	snapshots := c.Snapshots(watched)
	var s keeper.Snapshot
	var heard time.Time
	ticker := time.NewTicker(showEvery)
	defer ticker.Stop()
	for last := false; !last; {
		select {
		case next, ok := <-snapshots:
			if !ok {
				snapshots = nil // it says no more: what it said last gets old
				continue
			}
			if !next.At.Equal(s.At) {
				heard = time.Now()
			}
			s = next
			continue
		case <-ticker.C:
		case <-ctx.Done():
			last = true
		}
		if !s.At.IsZero() {
			show(s, situation.Of(s.View, situation.Seen{Trouble: s.Trouble, Heard: heard}, time.Now()), last)
		}
	}
}

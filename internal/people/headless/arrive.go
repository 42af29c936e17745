package headless

import (
	"context"
	"errors"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/words"
)

// arrive says that a version has arrived, and waits until it has begun, unless it is left to the keeper. begun is the
// sequence number of a state of its crossing: what is seen of an earlier one says nothing of it. done says that nothing
// more is to be followed.
func arrive(ctx context.Context, c keeper.Client, o Options, events <-chan crossing.Event,
	snapshots <-chan keeper.Snapshot) (sum Summary, begun uint64, done bool, err error) {
	seq, err := c.Do(ctx, keeper.Command{Act: crossing.Arrive{Version: o.Version, Commit: o.Commit}, By: o.By, As: o.As,
		Why: o.Why})
	if err != nil {
		return Summary{}, 0, false, err
	}
	var raising uint64 // a task that raises it, where the plan goes no further
	ends := func(outcome Outcome, why string) (Summary, uint64, bool, error) {
		sum := Summary{Outcome: outcome, Why: why, Version: o.Version, Target: split.Green}
		return sum, 0, true, o.Emit(sum)
	}
	said := ""
	for {
		select {
		case e, ok := <-events:
			if !ok {
				return Summary{}, 0, false, errStopped
			}
			if err := o.Emit(e); err != nil {
				return Summary{}, 0, false, err
			}
			switch f := e.What.(type) {
			case crossing.Begun:
				if raise.Main(f.Choices).Version == o.Version {
					return Summary{}, e.Seq, o.Detach, nil
				}
			case crossing.Dropped:
				if f.Version == o.Version {
					return ends(NotBegun, words.Event(e, crossing.State{}))
				}
			case crossing.Ordered:
				if f.Task.Act && f.Task.Do == crossing.TaskRaise && raise.Main(f.Task.Choices).Version == o.Version {
					raising = e.Seq
				}
			case crossing.Raised:
				if f.Task == raising && raising > 0 {
					return ends(Reached, "")
				}
			case crossing.Failed:
				if f.Task == raising && raising > 0 {
					return ends(NotBegun, words.Event(e, crossing.State{}))
				}
			}
		case s, ok := <-snapshots:
			if !ok {
				return Summary{}, 0, false, errStopped
			}
			if s.Crossing.Seq < seq {
				continue
			}
			if s.Crossing.Stage.UnderWay() && s.Crossing.Version == o.Version {
				return Summary{}, s.Crossing.Seq, false, nil
			}
			text := Waiting(s)
			if o.Tell != nil && text != "" && text != said {
				said = text
				o.Tell(text)
			}
			if o.Detach {
				return ends(Noted, text)
			}
		case <-ctx.Done():
			return Summary{}, 0, false, errors.Join(context.Cause(ctx))
		}
	}
}

// Waiting says how it stands with the version that waits for its turn; "" where none does.
func Waiting(s keeper.Snapshot) string {
	is := s.Starting
	return words.Waiting(s.Crossing, words.Start{Until: is.Until, Building: is.Since, Said: is.Said}, s.At)
}

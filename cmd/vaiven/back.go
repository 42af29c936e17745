package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/api"
	"vaiven/internal/keeper/service"
	"vaiven/internal/people/headless"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/words"
	"vaiven/internal/world/secret"
)

func backCommand() *cobra.Command {
	o := headless.BackOptions{By: who()}
	var to string
	var out output
	cmd := &cobra.Command{
		Use:   "back PLAN",
		Short: "Roll back: send all traffic back, now",
		Long: `Rolls back by itself, without screen or keeper: it tells the front and nobody
else. The order that it leaves at the front holds until somebody begins a crossing or
shifts again; a screen that is open takes it in, or the next one does. Of the plan it
reads where the front is: a mistake elsewhere in the file is no hindrance. With --to it
does not even need the logbook.

A side that has no instance that serves, while the other side has, is refused, unless
--force. If the front does not answer in time, the plan's keeper is told to go on trying,
if one runs. Exit status: 0 all requests go back, 4 nobody is there, 2 bad usage, 1 not
yet: say it again.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := planfile.ReadFront(args[0])
			switch {
			case errors.Is(err, os.ErrNotExist):
				return usage("there is no plan file %s", args[0])
			case err != nil:
				return err
			}
			if o.To, err = home(cmd.Context(), p, to); err != nil {
				return err
			}
			f := all.Open(p)
			o.Name = func(ctx context.Context) bool { return named(ctx, p, f, o.To) }
			said := ""
			r, err := headless.Back(cmd.Context(), f, o, func(err error) {
				if text := err.Error(); text != said {
					said = text
					fmt.Fprintf(cmd.ErrOrStderr(), "vaiven: not rolled back yet: %s\n", text)
				}
			})
			if err != nil {
				if errors.Is(err, crossing.ErrNotNow) {
					return notAllowed(err)
				}
				if passOn(cmd.Context(), p, o) {
					return fmt.Errorf("not rolled back yet: the keeper was told, and goes on trying; say it again to "+
						"try from here as well: %w", err)
				}
				return fmt.Errorf("nothing is known to be rolled back, say it again: %w", err)
			}
			err = out.print(cmd.OutOrStdout(), r.To.Other(), r, func(w io.Writer) error {
				_, err := fmt.Fprintf(w, "all requests go to %v (%v on green), in %s\n", r.To, r.Share,
					words.Milliseconds(r.Took))
				return err
			})
			err = errors.Join(err, arrived(cmd, f, r), hold(cmd, p, f, o, r))
			takenIn(cmd.Context(), p, r.Order.Generation)
			return err
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "the side to send everything to: blue or green (default: where the crossing "+
		"came from)")
	cmd.Flags().StringVar(&o.Why, "why", "", "what to write into the logbook")
	cmd.Flags().BoolVar(&o.Force, "force", false, "even to a side where nobody serves")
	cmd.Flags().DurationVar(&o.For, "for", 30*time.Second, "how long to try")
	out.flag(cmd)
	return cmd
}

// namedLimit is how long it is looked for who runs on a side, and the front told.
const namedLimit = 5 * time.Second

// named tells a front who runs on a side, by the stacks' own notes.
func named(ctx context.Context, p *plan.Plan, f front.Driver, side split.Side) bool {
	ctx, cancel := context.WithTimeout(ctx, namedLimit)
	defer cancel()
	whole, err := planfile.Read(p.File)
	if err != nil {
		return false // of the plan no more is needed than where the front is, but for this
	}
	y, err := service.OpenStacks(whole, secret.Values{}) // nothing is started here
	if err != nil {
		return false
	}
	defer y.Set.Close()
	list, _ := y.Set.List(ctx, side) // what could be read is there beside an error
	n, err := front.Name(ctx, f, side, list, whole.Main().Name)
	return n > 0 && err == nil
}

// arrived says how many requests still go elsewhere after all were sent home. It is an error where nothing explains
// them.
func arrived(cmd *cobra.Command, f headless.Front, r headless.Returned) error {
	s := headless.Arrived(cmd.Context(), f, r)
	switch away := r.To.Other(); {
	case !s.Any():
		return nil
	case s.Until.After(time.Now()):
		return tell(cmd.ErrOrStderr(), []string{fmt.Sprintf("%d of %d requests still go to %v: names are remembered "+
			"until %s", s.Elsewhere, s.Home+s.Elsewhere, away, s.Until.Local().Format("15:04:05"))})
	default:
		return fmt.Errorf("%d of %d requests still go to %v, though the front says that none do: see whether its "+
			"configuration leads there past Vaiven's part, or another front does", s.Elsewhere, s.Home+s.Elsewhere,
			away)
	}
}

// home is the side to go to: the one that was named, or the one that the crossing in the
// logbook came from.
func home(ctx context.Context, p *plan.Plan, to string) (split.Side, error) {
	if to != "" {
		side, err := split.ParseSide(to)
		if err != nil {
			return 0, usage("--to takes blue or green, not %q", to)
		}
		return side, nil
	}
	s, err := headless.LeftAt(ctx, p)
	if err != nil {
		return 0, fmt.Errorf("which side to roll back to cannot be told from the logbook (%w): say --to blue or --to "+
			"green", err)
	}
	side, err := headless.HomeOf(s)
	return side, notAllowed(err)
}

// takenInLimit is how long the keeper has to take a going home in, and reachLimit to answer at all.
const (
	takenInLimit = 2 * time.Second
	reachLimit   = 300 * time.Millisecond
)

// near is the plan's keeper, if one runs and answers at once.
func near(ctx context.Context, p *plan.Plan) (*service.Reached, error) {
	ctx, cancel := context.WithTimeout(ctx, reachLimit)
	defer cancel()
	return service.Reach{Plan: p, Client: api.Config{By: who(), From: from(), Alone: true}}.Open(ctx)
}

// takenIn waits for a while until the plan's keeper, if one runs, knows of a going home that was
// made: what is asked of it next is asked after that.
func takenIn(ctx context.Context, p *plan.Plan, generation uint64) {
	ctx, cancel := context.WithTimeout(ctx, takenInLimit)
	defer cancel()
	k, err := near(ctx, p)
	if err != nil {
		return // it hangs, or none runs
	}
	defer k.Close()
	for ctx.Err() == nil {
		if s, err := k.View(ctx); err != nil || s.Front.Order.Generation >= generation {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// passOn tells the plan's keeper, if one runs and has a crossing that came from there, to go on with a going home
// that did not come through. It is the last that is tried: nothing waits for it.
func passOn(ctx context.Context, p *plan.Plan, o headless.BackOptions) bool {
	ctx, cancel := context.WithTimeout(ctx, takenInLimit)
	defer cancel()
	k, err := near(ctx, p)
	if err != nil {
		return false
	}
	defer k.Close()
	s, err := k.View(ctx)
	if err != nil {
		return false
	}
	if home, err := headless.HomeOf(s.Crossing); err != nil || home != o.To {
		return false
	}
	if s.Crossing.GoingBack {
		return true
	}
	_, err = k.Do(ctx, keeper.Command{Act: crossing.Back{Force: o.Force}, Why: o.Why, Seen: s.Crossing.Seq})
	return err == nil
}

// hold watches a front that cannot tell an old change from a new one, until what was under
// way when it went home has come through.
func hold(cmd *cobra.Command, p *plan.Plan, f headless.Front, o headless.BackOptions, r headless.Returned) error {
	if !slices.ContainsFunc(p.Fronts(), func(f plan.Front) bool { return f.Settings.Marks() }) {
		return nil
	}
	again, err := headless.Hold(cmd.Context(), f, o, r)
	var notes []string
	if again > 0 {
		notes = append(notes, fmt.Sprintf("a change that was begun before came through after it: sent back again, %d "+
			"times", again))
	}
	if err != nil && cmd.Context().Err() == nil {
		return errors.Join(fmt.Errorf("it was rolled back, and is not watched any more: %w", err),
			tell(cmd.ErrOrStderr(), notes))
	}
	return tell(cmd.ErrOrStderr(), notes)
}

package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/keeper"
	"vaiven/internal/people/headless"
	"vaiven/internal/words"
)

func shiftCommand() *cobra.Command {
	var to string
	var dry, unproven bool
	var out output
	var flags reachFlags
	var past answering
	cmd := &cobra.Command{
		Use:   "shift PLAN --to SHARE",
		Short: "Put a share of the requests in force, or say what that would do",
		Long: `Sets the share of requests on a side at the front, or at all fronts of the plan, and
reads it back. With --dry-run nothing is changed: it says the commands or the lines
of a file's difference, the share that will really be reached, and what becomes of
open connections.

It is for hands: outside of a crossing no side is raised and no guard
watches, and a side that vaiven prove has not proven as it stands gets nothing more, unless
--unproven says why it should; within one it steers the crossing, by its rules. While somebody else has
the wheel it is refused, unless --take-wheel. Exit status: 0 done, 4 not allowed or not done, 1 anything
else.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			if _, err := split.ParseSided(to); err != nil { // what is wrong with it whatever is crossing
				return usage("--to: %w", err)
			}
			if dry {
				return foresee(cmd, args[0], to, out)
			}
			return withKeeper(cmd, args[0], func(ctx context.Context, k *kept) error {
				ctx, cancel := context.WithTimeout(ctx, time.Minute)
				defer cancel()
				s, err := k.View(ctx)
				if err != nil {
					return err
				}
				share, err := shareFor(to, s.Crossing)
				if err != nil {
					return usage("--to: %w", err)
				}
				act := crossing.Shift{Share: share, Unproven: unproven}
				c := keeper.Command{As: k.asOf(), Why: flags.why, TakeWheel: flags.takeWheel}
				past.shown = atTerminal()
				if c.Seen, err = past.seen(act, s.Crossing, k.Plan); err != nil {
					return err
				}
				echo(cmd, share, s)
				done, err := headless.Shift(ctx, k, act, c)
				if err != nil {
					return err
				}
				return out.print(cmd.OutOrStdout(), split.Green, done, func(w io.Writer) error {
					_, err := fmt.Fprintf(w, "%v of the requests go to green, in %s\n", done.Share,
						words.Milliseconds(done.Took))
					return errors.Join(err, tell(cmd.ErrOrStderr(), done.Notes))
				})
			})
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "the share, such as \"25 % on green\"; a number alone is the new side's "+
		"while "+
		"something crosses; blue and green stand for all requests on that side")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only say what it would do")
	cmd.Flags().Uint64Var(&past.freeze, "freeze", 0, "in a frozen crossing: the number of the last freeze that it "+
		"goes past, needed without a terminal")
	cmd.Flags().BoolVar(&unproven, "unproven", false, "even to a side that is not proven; --why has to say why")
	out.flag(cmd)
	flags.add(cmd)
	return cmd
}

// shareFor reads a share that a person typed, on what is crossing.
func shareFor(text string, s crossing.State) (split.Share, error) {
	sided, err := split.ParseSided(text)
	if err != nil {
		return 0, err
	}
	return sided.OnGreen(s.Target, s.Stage.UnderWay())
}

// echo says what a share will be, before it is.
func echo(cmd *cobra.Command, share split.Share, s keeper.Snapshot) {
	side := s.Live.Other()
	if s.Crossing.Stage.UnderWay() {
		side = s.Crossing.Target
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "vaiven: %s; now %s\n", words.To(share, s.View), words.On(s.Front.Split.Share, side))
}

// foresee says what a shift would do.
func foresee(cmd *cobra.Command, file, to string, out output) error {
	p, err := readPlan(file)
	if err != nil {
		return err
	}
	s, _ := headless.LeftAt(cmd.Context(), p) // where there is no logbook nothing crosses
	share, err := shareFor(to, s)
	if err != nil {
		return usage("--to: %w", err)
	}
	ctx, cancel := context.WithTimeout(cmd.Context(), time.Minute)
	defer cancel()
	c, err := all.Open(p).Foresee(ctx, share)
	if err != nil {
		return err
	}
	return out.print(cmd.OutOrStdout(), split.Green, c, func(w io.Writer) error { return printChange(w, c) })
}

// tell writes what there is to know beside an outcome.
func tell(w io.Writer, notes []string) (err error) {
	for _, n := range notes {
		_, errNote := fmt.Fprintln(w, "vaiven:", n)
		err = errors.Join(err, errNote)
	}
	return err
}

func printChange(w io.Writer, c front.Change) error {
	reached := ""
	if c.Error() > 0 {
		reached = fmt.Sprintf(" (the nearest to %v that it can do, off by %v)", c.Wanted, c.Error())
	}
	fmt.Fprintf(w, "%v → %v on green%s", c.From, c.Reached, reached)
	if c.Usually > 0 {
		fmt.Fprintf(w, ", usually takes effect in %s", short(c.Usually))
	}
	fmt.Fprint(w, "\n\n")
	for _, step := range c.Steps {
		fmt.Fprintln(w, " ", step)
	}
	fmt.Fprintf(w, "\nconnections: %s\n", c.Connections)
	for _, note := range c.Notes {
		fmt.Fprintf(w, "note: %s\n", note)
	}
	return nil
}

func short(d time.Duration) string {
	if d < time.Second {
		return d.String()
	}
	return route.Short(d)
}

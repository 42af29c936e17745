package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/headless"
	"vaiven/internal/keeper"
	"vaiven/internal/logbook"
	"vaiven/internal/plan"
)

func shiftCommand() *cobra.Command {
	var to string
	var dry, asJSON bool
	cmd := &cobra.Command{
		Use:   "shift PLAN --to SHARE",
		Short: "Put a share of requests on green in force, or say what that would do",
		Long: `Sets the share of requests on green at the front, or at all fronts of the plan, and
reads it back. With --dry-run nothing is changed: it says the commands or the lines
of a file's difference, the share that will really be reached, and what becomes of
open connections.

It is for hands: no side is raised or proven, and no guard watches. While somebody
steers the service it is refused.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			share, err := shareOnGreen(to)
			if err != nil {
				return usage("--to: %w", err)
			}
			p, err := readPlan(args[0])
			if err != nil {
				return err
			}
			ctx, cancel := context.WithTimeout(cmd.Context(), time.Minute)
			defer cancel()
			f := all.Open(p)
			if dry {
				c, err := f.Plan(ctx, share)
				if err != nil {
					return err
				}
				if asJSON {
					return printJSON(cmd.OutOrStdout(), c)
				}
				return printChange(cmd.OutOrStdout(), c)
			}
			done, err := shift(ctx, p, f, share)
			if err != nil {
				return err
			}
			if asJSON {
				return printJSON(cmd.OutOrStdout(), done)
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%v of the requests go to green, in %.1f ms\n", done.Share, done.Took)
			for _, n := range done.Notes {
				_, errNote := fmt.Fprintln(cmd.ErrOrStderr(), "vaiven:", n)
				err = errors.Join(err, errNote)
			}
			return err
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "the share on green, such as 25 or \"12.5 %\"; blue and green stand for 0 and 100")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only say what it would do")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// shareOnGreen reads "25", "25 %", "1 in 4", "blue" or "green".
func shareOnGreen(text string) (split.Share, error) {
	if side, err := split.ParseSide(text); err == nil {
		return split.Toward(side, split.Whole), nil
	}
	if text == "" {
		return 0, errors.New("say the share on green, such as --to 25")
	}
	if !strings.ContainsAny(text, "% ") {
		text += " %"
	}
	return split.ParseShare(text)
}

// shift sets a share while nobody steers, and writes it down in the crossing that is
// under way, if there is one.
func shift(ctx context.Context, p *plan.Plan, f keeper.Front, share split.Share) (headless.Shifted, error) {
	if err := os.MkdirAll(p.State, 0o700); err != nil {
		return headless.Shifted{}, fmt.Errorf("make the state folder: %w", err)
	}
	unlock, err := lock(p.Lock())
	if err != nil {
		return headless.Shifted{}, err
	}
	defer unlock()
	y, err := openStacks(p)
	if err != nil {
		return headless.Shifted{}, err
	}
	defer y.set.Close()
	book, err := logbook.Open(p.Logbook())
	if err != nil {
		return headless.Shifted{}, err
	}
	defer book.Close()
	return headless.Shift(ctx, headless.ShiftOptions{Plan: p, Front: f, Stacks: y.set, Book: book, Acts: book, Share: share, By: who()})
}

func printChange(w io.Writer, c front.Change) error {
	reached := ""
	if c.Error() > 0 {
		reached = fmt.Sprintf(" (the nearest to %v that it can do, off by %v)", c.Wanted, c.Error())
	}
	fmt.Fprintf(w, "%v → %v on green%s", c.From, c.Reached, reached)
	if c.Usually > 0 {
		fmt.Fprintf(w, ", in force after usually %s", short(c.Usually))
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

package main

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/people/headless"
)

func pauseCommand() *cobra.Command {
	var within time.Duration
	var out output
	cmd := &cobra.Command{
		Use:   "pause PLAN",
		Short: "Hold all messages of a queue, and count them",
		Long: `Holds everything that is published from now on, lets what was there before be done, and counts: of each
side's queue, what came in has to be what was done, what died and what is still there. Nothing is lost, and publishers
notice nothing: what they publish waits. vaiven resume lets it go on; so does a change of the share, and going back.

A broker may not count what it gave out at the moment when a consumer ended; no more than was given out again is put down to
that, and it is said. Exit status: 0 held, and the numbers agree; 4 held, and they do not, or something is still being done; 1 not held.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, d, err := pausable(args[0])
			if err != nil {
				return err
			}
			ctx, cancel := context.WithTimeout(cmd.Context(), within+front.ChangeLimit)
			defer cancel()
			if err := d.Pause(ctx, who()); err != nil {
				return err
			}
			t, err := headless.TallyUp(ctx, p, d.(front.Driver), within)
			if err != nil {
				return err
			}
			err = out.print(cmd.OutOrStdout(), split.Green, t, t.Print)
			if err == nil && !(t.Agrees && t.Still) {
				err = notAllowed(errors.New("all is held; " + t.Because()))
			}
			return err
		},
	}
	cmd.Flags().DurationVar(&within, "within", time.Minute, "how long to wait until everything is done that was there")
	out.flag(cmd)
	return cmd
}

func resumeCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "resume PLAN",
		Short: "Let held messages go on",
		Long: `Lets messages go on as before they were held by vaiven pause, and ends when none of those that waited waits any more. Where one side gets
everything, what waited goes before what comes meanwhile.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			_, d, err := pausable(args[0])
			if err != nil {
				return err
			}
			before, err := d.(front.Driver).Read(cmd.Context())
			if err != nil {
				return err
			}
			if err := d.Resume(cmd.Context()); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%d messages that waited go on\n", before.Held)
			return err
		},
	}
}

// pausable is the front of a plan, if it can hold what comes.
func pausable(file string) (*plan.Plan, front.Pauser, error) {
	p, err := readPlan(file)
	if err != nil {
		return nil, nil, err
	}
	d, ok := front.Can[front.Pauser](all.Open(p))
	if !ok {
		return nil, nil, usage("%s: a front of kind %s cannot hold what comes: requests do not wait as messages do",
			file, p.Front.Kind())
	}
	return p, d, nil
}

package main

import (
	"context"

	"github.com/spf13/cobra"

	"vaiven/internal/core/crossing"
	"vaiven/internal/keeper"
	"vaiven/internal/people/headless"
)

func arrivedCommand() *cobra.Command {
	var o headless.Options
	var steer reachFlags
	var out output
	var until string
	var withdraw bool
	cmd := &cobra.Command{
		Use:   "arrived PLAN VERSION",
		Short: "Say that a version has arrived: it begins by itself, as the plan has it",
		Long: `Says that a version has arrived, from a hook of a repository, a pipeline or by hand. The
keeper makes it, if the plan says how (build), and begins it when it is its turn, as far as
the plan lets it go by itself (start). One version waits at most: a newer one takes its
place. Who says so is who began the crossing.

--withdraw takes it back as long as it waits.

With --until it is followed as vaiven cross follows it, and ends in the same way.

Exit status: 0 noted, or as far as --until says; 4 it was refused, or is not begun; and those
of vaiven cross.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) != 2 {
				return usage("%s takes a plan file and a version: %s", cmd.CommandPath(), cmd.UseLine())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if withdraw {
				return withKeeper(cmd, args[0], func(ctx context.Context, k *kept) error {
					back := crossing.Arrive{Version: args[1], Withdraw: true}
					_, err := k.Do(ctx, keeper.Command{Act: back, Why: steer.why})
					return err
				})
			}
			o.Arrive, o.Version, o.Detach = true, args[1], until == ""
			if o.Until, err = headless.ParseUntil(until); err != nil {
				return usage("--until: %v", err)
			}
			return follow(cmd, args[0], o, steer, out)
		},
	}
	cmd.Flags().StringVar(&o.Commit, "commit", "", "what it is made of, for whoever makes it")
	cmd.Flags().StringVar(&until, "until", "", "follow it until then: proven, leg N, kept, settled or frozen")
	cmd.Flags().BoolVar(&o.Accept, "accept", false, "with --until: accept what the proof finds and the plan leaves to a person")
	cmd.Flags().BoolVar(&withdraw, "withdraw", false, "it is not to begin any more")
	out.lines(cmd, "print one JSON object a line for each event, a summary last")
	steer.add(cmd)
	return cmd
}

// follow has the keeper of a plan take a crossing on, and tells of it.
func follow(cmd *cobra.Command, file string, o headless.Options, steer reachFlags, out output) error {
	o.By, o.Why, o.TakeWheel = who(), steer.why, steer.takeWheel
	if !out.json {
		o.Tell = teller(cmd.OutOrStdout())
	}
	return withKeeper(cmd, file, func(ctx context.Context, k *kept) error {
		s, err := k.View(ctx)
		if err != nil {
			return err
		}
		o.As, o.Confirm = k.asOf(), k.Info.Service
		o.Emit = emitter(cmd.OutOrStdout(), out, s.Crossing)
		return cross(ctx, cmd, k, o, out)
	})
}

package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/spf13/cobra"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/api"
	"vaiven/internal/keeper/remote"
	"vaiven/internal/keeper/service"
	"vaiven/internal/words"
)

// standBy follows a keeper, and keeps the service when it has taken over.
func standBy(cmd *cobra.Command, p *plan.Plan, of string, after time.Duration) error {
	k, err := keeping(cmd, p)
	if err != nil {
		return err
	}
	if after > 0 && after < service.LeastAfter {
		return usage("--after takes %v at least: a keeper that is replaced is gone for a moment", service.LeastAfter)
	}
	if _, elsewhere := remote.Parse(of); !elsewhere {
		if other, err := readPlan(of); err != nil {
			return err
		} else if other.State == p.State {
			return usage("--standby takes the plan of the keeper to follow, and %s is this one's own", of)
		}
	}
	f := &followedKeeper{cmd: cmd, of: of, plan: p}
	defer f.leave()
	b := service.Standby{
		Plan: p, Digest: k.Digest, Secrets: k.Secrets, By: k.By, Version: k.Version, For: of, After: after,
		Follow: f.follow,
		// Where there is no systemd nobody is told.
		Ready: func() { _, _ = daemon.SdNotify(false, daemon.SdNotifyReady) },
		Beat:  func() { _, _ = daemon.SdNotify(false, daemon.SdNotifyWatchdog) },
	}
	took, err := b.Run(cmd.Context())
	f.leave()
	if err != nil || !took {
		return err
	}
	return stay(cmd, k, keeper.Memory{})
}

// standbyWords are the flags of a standby, for a unit.
func standbyWords(of string, after time.Duration) []string {
	if of == "" {
		return nil
	}
	words := []string{"--standby", quotedForUnit(of)}
	if after > 0 {
		words = append(words, "--after", after.String())
	}
	return words
}

// followedKeeper is the one that a standby follows. It is for one goroutine.
type followedKeeper struct {
	cmd  *cobra.Command
	of   string
	plan *plan.Plan // of the standby
	at   *kept      // nil while there is no connection
}

// follow tells what is on its record, over a connection that is made anew after it broke off.
func (f *followedKeeper) follow(ctx context.Context, since uint64, opened func(),
	take func(crossing.Event) error) error {
	if f.at == nil {
		k, err := reach(f.cmd, f.of, false, true)
		if err != nil {
			return fmt.Errorf("%w: %w", api.ErrGone, err)
		}
		f.at = k
	}
	if i := f.at.Info; i.Service != f.plan.Service || !slices.Equal(i.Fronts, f.plan.Places()) {
		return fmt.Errorf("%w: %s with %s, and not %s with %s", service.ErrOther, i.Service, words.And(i.Fronts),
			f.plan.Service, words.And(f.plan.Places()))
	}
	err := f.at.Follow(ctx, since, opened, take)
	if errors.Is(err, api.ErrGone) {
		f.leave()
	}
	return err
}

func (f *followedKeeper) leave() {
	if f.at != nil {
		_ = f.at.Close() // it is left
		f.at = nil
	}
}

// takeOverCommand has a standby take over.
func takeOverCommand() *cobra.Command {
	var force bool
	var out output
	cmd := &cobra.Command{
		Use:   "take-over PLAN",
		Short: "Have the standby here take over from the keeper that it follows",
		Long: `Has the standby of this machine (vaiven keep PLAN --standby) take over: it begins another term at
the front and keeps the service from then on. The keeper before it ends as soon as it reads that; what it had sent
off before is refused by fronts that compare terms (embedded, HAProxy by map, names, clusters). A crossing that was
under way stands still until somebody resumes it.

It is refused while that keeper answers, and where a front does not compare: end that keeper first. --force says
that this has been seen to. Rolling back needs none of it: vaiven back PLAN.

Exit status: 0 it has taken over, 4 it has not, 2 bad usage or plan, 1 anything else.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := readPlan(args[0])
			if err != nil {
				return err
			}
			return notAllowed(takeOver(cmd, p, force, out))
		},
	}
	cmd.Flags().BoolVar(&force, "force", false, "although that keeper answers, or a front cannot refuse what it sends")
	out.flag(cmd)
	return cmd
}

// takenOverJSON is a service that the standby here has taken over.
type takenOverJSON struct {
	Service string `json:"service"`
	From    string `json:"from"` // the keeper before, as commands name it
}

func takeOver(cmd *cobra.Command, p *plan.Plan, force bool, out output) error {
	info, err := service.TakeOverBy(cmd.Context(), p, who(), force)
	if err != nil {
		return err
	}
	t := takenOverJSON{p.Service, info.Standby.For}
	return out.print(cmd.OutOrStdout(), split.Green, t, func(w io.Writer) error {
		_, err := fmt.Fprintf(w, "%s is kept here now, in place of the keeper of %s. vaiven where %s says how it stands\n",
			t.Service, t.From, p.File)
		return err
	})
}

package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"
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
	"vaiven/internal/keeper/several"
	"vaiven/internal/words"
)

// standBy follows a keeper, and keeps the service when it has taken over.
func standBy(cmd *cobra.Command, p *plan.Plan, of string, after time.Duration) error {
	k, err := keeping(cmd, p)
	if err != nil {
		return err
	}
	if err := longEnough(after); err != nil {
		return err
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

// longEnough refuses an --after that a keeper which is replaced would be gone for.
func longEnough(after time.Duration) error {
	if after > 0 && after < service.LeastAfter {
		return usage("--after takes %v at least: a keeper that is replaced is gone for a moment", service.LeastAfter)
	}
	return nil
}

// mayFollow refuses a folder that others do not stand by for. Of one that is on this machine the name is made whole.
func mayFollow(k *several.Keepers) error {
	if err := longEnough(k.After); err != nil || k.Standby == "" {
		return err
	}
	if _, elsewhere := remote.Parse(k.Standby); elsewhere {
		return nil
	}
	info, err := os.Stat(k.Standby)
	if err != nil || !info.IsDir() {
		return usage("--standby takes the folder with the plans of the keepers to follow, as USER@HOST:FOLDER, and %s is none",
			k.Standby)
	}
	if own, err := os.Stat(k.Dir); err == nil && os.SameFile(own, info) {
		return usage("--standby takes the folder of the keepers to follow, and %s is this one's own", k.Standby)
	}
	k.Standby, err = filepath.Abs(k.Standby)
	return err
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
		Use:   "take-over PLAN|FOLDER",
		Short: "Have the standby here take over from the keeper that it follows",
		Long: `Has the standby of this machine (vaiven keep PLAN --standby) take over: it begins another term at
the front and keeps the service from then on. The keeper before it ends as soon as it reads that; what it had sent
off before is refused by fronts that compare terms (embedded, HAProxy by map, names, clusters). A crossing that was
under way stands still until somebody resumes it.

It is refused while that keeper answers, and where a front does not compare: end that keeper first. --force says
that this has been seen to. Rolling back needs none of it: vaiven back PLAN.

Of a folder the standbys of all plans below it take over, at once; what is in the way of one holds up no other.

Exit status: 0 it has taken over, 4 it has not, or one of a folder has not, 2 bad usage or plan, 1 anything else.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			if isFolder(args[0]) {
				return takeOverAll(cmd, args[0], force, out)
			}
			t, err := takeOver(cmd.Context(), args[0], force)
			if err != nil {
				return notAllowed(err)
			}
			return t.print(cmd.OutOrStdout(), out)
		},
	}
	cmd.Flags().BoolVar(&force, "force", false, "although that keeper answers, or a front cannot refuse what it sends")
	out.flag(cmd)
	return cmd
}

// takenOverJSON is what became of a word to take over.
type takenOverJSON struct {
	Service string `json:"service"`         // or the plan's file, if it cannot be read
	From    string `json:"from,omitempty"`  // the keeper before, as commands name it
	Error   string `json:"error,omitempty"` // why it has not, in a folder
	plan    string
}

func (t takenOverJSON) print(w io.Writer, out output) error {
	return out.print(w, split.Green, t, func(w io.Writer) (err error) {
		if t.Error != "" {
			_, err = fmt.Fprintf(w, "▲ %s is not taken over: %s\n", t.Service, t.Error)
		} else {
			_, err = fmt.Fprintf(w, "%s is kept here now, in place of the keeper of %s. vaiven where %s says how it stands\n",
				t.Service, t.From, t.plan)
		}
		return err
	})
}

// takeOver has the standby of a plan take over.
func takeOver(ctx context.Context, file string, force bool) (t takenOverJSON, err error) {
	t.Service, t.plan = file, file
	p, err := readPlan(file)
	if err != nil {
		return t, err
	}
	t.Service = p.Service
	info, err := service.TakeOverBy(ctx, p, who(), force)
	if err != nil {
		return t, err
	}
	t.From = info.Standby.For
	return t, nil
}

// takeOverAll has the standbys of all plans below a folder take over, all at once. Those that have not come first.
func takeOverAll(cmd *cobra.Command, dir string, force bool, out output) error {
	files, err := plansBelow(cmd.Context(), dir)
	if err != nil {
		return err
	}
	all := make([]takenOverJSON, len(files))
	var each sync.WaitGroup
	for n, file := range files {
		each.Go(func() {
			var err error
			if all[n], err = takeOver(cmd.Context(), file, force); err != nil {
				all[n].Error = err.Error()
			}
		})
	}
	each.Wait()
	failed := 0
	for _, said := range []bool{false, true} {
		for _, t := range all {
			if taken := t.Error == ""; taken != said {
				continue
			} else if !taken {
				failed++
			}
			if err := t.print(cmd.OutOrStdout(), out); err != nil {
				return err
			}
		}
	}
	if failed > 0 {
		return &exitError{exitCalledOff, fmt.Errorf("%d of %d services are not taken over", failed, len(all))}
	}
	return nil
}

package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/keeper"
	"vaiven/internal/people/headless"
	"vaiven/internal/words"
)

func crossCommand() *cobra.Command {
	var o headless.Options
	var flags []string
	var steer reachFlags
	var out output
	var until string
	cmd := &cobra.Command{
		Use:   "cross PLAN --version V",
		Short: "Take a whole crossing to its end, without a screen",
		Long: `Raises the spare side at a version, proves it, shifts the traffic along the
plan's route, keeps the old side and retires it. --yes approves what the route asks;
it answers no freeze. What is frozen stays as it is: vaiven open PLAN goes on with it,
vaiven back PLAN rolls back. The crossing is the keeper's: interrupted, it goes on, and
the same command takes it up again. Exit status: 0 settled, 3 rolled back, 4 called off before
any traffic moved, 5 frozen, by whatever it was, 6 frozen because the live side is ill or dead, 2 bad usage or plan, 1 anything else.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if o.Version, o.Versions, err = chosen(flags); err != nil {
				return err
			}
			if o.AtFreeze = until == "frozen"; until != "" && !o.AtFreeze {
				return usage("--until takes frozen, not %q", until)
			}
			o.By, o.Why, o.TakeWheel = who(), steer.why, steer.takeWheel
			if atTerminal() {
				o.Ask = func(question string) (bool, error) { return askOn(cmd.ErrOrStderr(), os.Stdin, question) }
			}
			if !out.json {
				o.Tell = func(text string) {
					fmt.Fprintf(cmd.OutOrStdout(), "%s %8s    %-12s %-10s %s\n", time.Now().Format("15:04:05"), "", "",
						"…", text)
				}
			}
			return withKeeper(cmd, args[0], func(ctx context.Context, k *kept) error {
				s, err := k.View(ctx)
				if err == nil && !o.Yes && asks(s) && !atTerminal() {
					err = usage("the plan asks a person on the way, and nobody is at the terminal: add --yes to " +
						"approve beforehand")
				}
				if err != nil {
					return err
				}
				o.As = k.asOf()
				o.Emit = emitter(cmd.OutOrStdout(), out, s.Crossing)
				return cross(ctx, cmd, k, o, out)
			})
		},
	}
	versionFlag(cmd, &flags)
	cmd.Flags().BoolVar(&o.Accept, "accept", false, "accept what the proof finds and the plan leaves to a person")
	cmd.Flags().BoolVar(&o.Yes, "yes", false, "approve what the route asks")
	cmd.Flags().BoolVar(&o.SameBuild, "same-build", false, "go on even if the build is the one that is live")
	cmd.Flags().BoolVar(&o.AtOnce, "at-once", false, "in one step, because nobody of the live side serves any more")
	out.lines(cmd, "print one JSON object a line for each event, a summary last")
	cmd.Flags().StringVar(&until, "until", "", "frozen: end as soon as it is frozen; otherwise it is waited for up "+
		"to 30 s while a guard may yet roll back")
	steer.add(cmd)
	return cmd
}

func asks(s keeper.Snapshot) bool {
	return s.Then == plan.ThenAsk || slices.ContainsFunc(s.Planned, func(l route.Leg) bool { return l.Ask })
}

// cross takes a crossing to its end, and turns its outcome into an exit status. Interrupted, it
// leaves it to the keeper.
func cross(ctx context.Context, cmd *cobra.Command, k *kept, o headless.Options, out output) error {
	sum, err := headless.Cross(ctx, k, o)
	switch {
	case ctx.Err() != nil:
		return fmt.Errorf("interrupted: the keeper goes on with the crossing, its route and its guards. The same "+
			"command follows it again, vaiven open %s shows it, vaiven back %[1]s rolls back", k.Plan)
	case err != nil:
		return err
	}
	if out.json && sum.Outcome != headless.Settled { // for who reads no JSON
		fmt.Fprintf(cmd.ErrOrStderr(), "vaiven: %s%s\n", sum.Outcome, because(sum.Why))
	}
	if sum.Outcome == headless.Frozen || sum.Outcome == headless.LiveIll {
		resume := ""
		if sum.Freeze != 0 {
			resume = fmt.Sprintf("vaiven say %s resume --freeze %d resumes, ", k.Plan, sum.Freeze)
		}
		fmt.Fprintf(cmd.ErrOrStderr(), "vaiven: it stays where it is. vaiven open %s shows it, %svaiven back %[1]s "+
			"rolls back\n", k.Plan, resume)
	}
	return outcomeStatus(sum.Outcome)
}

// askOn asks a yes-or-no question on a terminal. Anything but yes is no.
func askOn(w io.Writer, r io.Reader, question string) (bool, error) {
	fmt.Fprintf(w, "%s [y/N] ", question)
	line, err := bufio.NewReader(r).ReadString('\n')
	if err != nil {
		return false, err
	}
	answer := strings.ToLower(strings.TrimSpace(line))
	return answer == "y" || answer == "yes", nil
}

// emitter prints events and the summary as JSON or as lines to read, from a state on.
func emitter(w io.Writer, out output, s crossing.State) func(any) error {
	begun := s.Begun
	if !s.Stage.UnderWay() {
		begun = time.Time{}
	}
	return func(line any) error {
		switch l := line.(type) {
		case crossing.Event:
			if begun.IsZero() {
				begun = l.At
			}
			s = crossing.Apply(s, l)
			return out.print(w, s.Target, l, func(w io.Writer) error { return printEvent(w, l, s, begun) })
		case headless.Summary:
			return out.print(w, l.Target, l, func(w io.Writer) error {
				_, err := fmt.Fprintf(w, "\n%s after %.1f s%s\n%d answers at the front door, %d failing, %d lost, "+
					"longest gap %s, last change took %s\n",
					l.Outcome, l.Took.Seconds(), because(l.Why), l.Answers, l.Failing, l.Lost,
					words.Milliseconds(l.LongestGap), words.Milliseconds(l.Switch))
				return err
			})
		}
		return fmt.Errorf("a %T is no line", line)
	}
}

func because(why string) string {
	if why == "" {
		return ""
	}
	return ": " + why
}

// clearsNothing reports whether an event is about giving up the side that a first release came
// from, where nothing was: it tells a reader nothing.
func clearsNothing(f crossing.Fact, s crossing.State) bool {
	if !s.First {
		return false
	}
	old := s.Target.Other()
	switch f := f.(type) {
	case crossing.Ordered:
		return f.Task.Do == crossing.TaskRetire && f.Task.Side == old
	case crossing.Retired:
		return f.Side == old
	case crossing.Stopping:
		return s.Task.Do == crossing.TaskRetire && s.Task.Side == old
	}
	return false
}

// printEvent writes an event on one line, with its time since the beginning, given the
// state after it.
func printEvent(w io.Writer, e crossing.Event, s crossing.State, begun time.Time) error {
	if clearsNothing(e.What, s) {
		return nil
	}
	_, err := fmt.Fprintf(w, "%s %8.1f s  %-12s %-10s %s\n",
		e.At.Local().Format("15:04:05"), e.At.Sub(begun).Seconds(), e.By, e.What.Kind(), words.Event(e, s))
	return err
}

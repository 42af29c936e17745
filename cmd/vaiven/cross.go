package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/crossing"
	"vaiven/internal/people/headless"
	"vaiven/internal/words"
)

func crossCommand() *cobra.Command {
	var o headless.Options
	var flags []string
	var steer reachFlags
	var out output
	var until, yes string
	var dry bool
	cmd := &cobra.Command{
		Use:   "cross PLAN|FLEET --version V",
		Short: "Take a whole crossing to its end, without a screen",
		Long: `Raises the spare side at a version, proves it, shifts the traffic along the
plan's route, keeps the old side and retires it. --yes approves what the route asks,
--yes=start,"leg 2" what is named; it answers no freeze. What is frozen stays as it is:
vaiven open PLAN goes on with it, vaiven back PLAN rolls back. What is asked and not
approved waits for somebody: at a terminal it is asked there, and a job ends with 10.
The crossing is the keeper's: interrupted, or ended with --until or --detach, it goes on,
and the same command takes it up again.

A version that comes while another is crossing is refused, unless --supersede ends the
other: its keep, and with that the way back, or all of it before any traffic has moved.

Of a fleet it takes the services across that a version is said for, one for all or SERVICE=VERSION for
each, in the order that they need each other. It says the order first, and which versions talk to each
other meanwhile. Each crossing is its own keeper's: if this ends, nothing new begins, and the same
command takes it up.

Exit status: 0 settled, or as far as --until says, 3 rolled back, 4 called off before any
traffic moved, 5 frozen, by whatever it was, 6 frozen because the live side is ill or
dead, 10 a question waits for a person, 11 settled and the old side could not be retired,
2 bad usage or plan, 1 anything else.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			fleet := many(args[0])
			if !fleet {
				if o.Version, o.Versions, err = chosen(flags); err != nil {
					return err
				}
				if dry {
					return usage("--dry-run is for a fleet: vaiven plan %s says what a crossing of one service would be", args[0])
				}
			}
			if o.Until, err = headless.ParseUntil(until); err != nil {
				return usage("--until: %v", err)
			}
			if yes != "" {
				if o.Yes, err = headless.ParseApproved(yes); err != nil {
					return usage("--yes: %v", err)
				}
			}
			if atTerminal() {
				o.Ask = func(question string) (bool, error) { return askOn(cmd.ErrOrStderr(), os.Stdin, question) }
			}
			if fleet {
				return crossFleet(cmd, args[0], flags, o, steer, dry, out)
			}
			return follow(cmd, args[0], o, steer, out)
		},
	}
	versionFlag(cmd, &flags)
	cmd.Flags().BoolVar(&o.Accept, "accept", false, "accept what the proof finds and the plan leaves to a person")
	cmd.Flags().StringVar(&yes, "yes", "", "approve what the route asks: all of it, or what is named (start, leg N, load, "+
		"unsure, retire, raise, proof)")
	cmd.Flags().Lookup("yes").NoOptDefVal = "all"
	cmd.Flags().BoolVar(&dry, "dry-run", false, "of a fleet: say the order and what it means, and begin nothing")
	cmd.Flags().BoolVar(&o.Detach, "detach", false, "begin it, and leave it to the keeper")
	cmd.Flags().BoolVar(&o.Supersede, "supersede", false, "end what another version is in the middle of: its keep, or all of it "+
		"before any traffic has moved")
	cmd.Flags().BoolVar(&o.SameBuild, "same-build", false, "go on even if the build is the one that is live")
	cmd.Flags().BoolVar(&o.AtOnce, "at-once", false, "in one step, because nobody of the live side serves any more")
	out.lines(cmd, "print one JSON object a line for each event, a summary last")
	cmd.Flags().StringVar(&until, "until", "settled", "how far it is followed: proven, leg N, kept, settled, or frozen, which "+
		"is as soon as it is: otherwise it is waited for up to 30 s while a guard may yet roll back")
	steer.add(cmd)
	return cmd
}

// teller says how it stands, on lines among those of events.
func teller(w io.Writer) func(string) {
	return func(text string) {
		fmt.Fprintf(w, "%s %8s    %-12s %-10s %s\n", time.Now().Format("15:04:05"), "", "", "…", text)
	}
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
	err = outcomeStatus(sum.Outcome)
	if out.json && err != nil { // for who reads no JSON
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
	switch sum.Outcome {
	case headless.Waits:
		fmt.Fprintf(cmd.ErrOrStderr(), "vaiven: it waits for somebody's answer: vaiven say %s yes --question %d, or vaiven open "+
			"%[1]s. The same command takes it up again\n", k.Plan, sum.Question)
	case headless.Reached, headless.Detached:
		fmt.Fprintf(cmd.ErrOrStderr(), "vaiven: it is the keeper's, and goes on. The same command follows it, vaiven open %s "+
			"shows it, vaiven back %[1]s rolls back\n", k.Plan)
	}
	return err
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
	var durations crossing.Durations
	return func(line any) error {
		switch l := line.(type) {
		case crossing.Event:
			took := durations.Add(l)
			if begun.IsZero() {
				begun = l.At
			}
			s = crossing.Apply(s, l)
			return out.print(w, s.Target, l, func(w io.Writer) error { return printEvent(w, l, s, begun, took) })
		case headless.Summary:
			return out.print(w, l.Target, l, func(w io.Writer) error {
				if l.Crossing == 0 { // it is noted, or not begun
					_, err := fmt.Fprintf(w, "\n%s%s\n", l.Outcome, because(l.Why))
					return err
				}
				door := "" // where nobody asks there, there is nothing to say
				if l.Answers+l.Failing+l.Lost > 0 {
					door = fmt.Sprintf("%d answers at the front door, %d failing, %d lost, longest gap %s, ", l.Answers,
						l.Failing, l.Lost, words.Milliseconds(l.LongestGap))
				}
				_, err := fmt.Fprintf(w, "\n%s after %.1f s%s\n%slast change took %s\n", l.Outcome, l.Took.Seconds(),
					because(l.Why), door, words.Milliseconds(l.Switch))
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

// printEvent writes an event on one line, with its time since the beginning and how long what it ends took, given the
// state after it.
func printEvent(w io.Writer, e crossing.Event, s crossing.State, begun time.Time, took time.Duration) error {
	if clearsNothing(e.What, s) {
		return nil
	}
	text := words.Event(e, s)
	switch e.What.(type) {
	case crossing.Raised, crossing.Proved, crossing.Retired: // others say it themselves
		if took > 0 {
			text = strings.TrimPrefix(text+fmt.Sprintf(", in %.1f s", took.Seconds()), ", ")
		}
	}
	_, err := fmt.Fprintf(w, "%s %8.1f s  %-12s %-10s %s\n",
		e.At.Local().Format("15:04:05"), e.At.Sub(begun).Seconds(), e.By, e.What.Kind(), text)
	return err
}

package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/service"
	"vaiven/internal/people/headless"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/words"
)

// sayable are the acts that can be said.
func sayable() (list []crossing.About) {
	for _, a := range crossing.Acts {
		if about := a.About(); about.Said {
			list = append(list, about)
		}
	}
	return list
}

func sayCommand() *cobra.Command {
	var flags reachFlags
	var to answering
	var out output
	var list strings.Builder
	for _, a := range sayable() {
		fmt.Fprintf(&list, "  %-15s %s\n", strings.TrimSpace(a.Name+" "+a.Takes), a.Does)
	}
	cmd := &cobra.Command{
		Use:   "say PLAN WORD",
		Short: "Do what the screen's keys do, without a screen",
		Long: `Says a word to the keeper, as a key does on the screen, with the same refusals:

` + list.String() + `
An answer is to what somebody has seen: without a terminal, yes names the question that it
answers with --question N, and next, resume, put-back and a steer to more name the last freeze
that they go past with --freeze N, where there is one. vaiven where PLAN --json has the
numbers, and so has every event. What came after it is not answered.

--token T, from a notice, answers the question of that notice, whoever types it: the answer
counts as that of whom the notice was sent to, with the rights of that user.

It needs the wheel to be vacant, and leaves it so; --take-wheel takes it from who has
it. Rolling back needs no wheel: vaiven back PLAN. Exit status: 0 done, 4 not allowed,
2 bad usage, 1 anything else.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) < 2 || len(args) > 3 && args[1] != (crossing.Reroute{}).About().Name {
				return usage("%s takes a plan and a word: %s", cmd.CommandPath(), cmd.UseLine())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			// what is wrong with it whatever is crossing
			if _, err := saying(args[1:], crossing.State{Stage: crossing.Shifting}, 0); err != nil {
				return err
			}
			to.shown = atTerminal()
			if to.token == "-" {
				text, err := io.ReadAll(io.LimitReader(cmd.InOrStdin(), 4<<10))
				if err != nil {
					return err
				}
				to.token = strings.TrimSpace(string(text))
			}
			if args[1] == "yes" && to.question == 0 && to.token == "" && !to.shown {
				return usage("without a terminal, yes names the question that it answers: --question N, as vaiven "+
					"where %s --json has it in crossing.question.id", args[0])
			}
			k, err := reach(cmd, args[0], false, true)
			if err != nil {
				return noKeeper(err)
			}
			err = say(cmd, k, args[1:], to, flags, out)
			return notAllowed(errors.Join(err, k.Close()))
		},
	}
	cmd.Flags().Uint64Var(&to.question, "question", 0, "the number of the question that is answered (default, at a "+
		"terminal: the open one)")
	cmd.Flags().Uint64Var(&to.freeze, "freeze", 0, "the number of the last freeze that it goes past (default, at a "+
		"terminal: of all there are)")
	cmd.Flags().StringVar(&to.token, "token", "", "answer the question of a notice, in the name of whom it was sent to; "+
		"- reads the token from standard input")
	cmd.Flags().BoolVar(&to.dry, "dry-run", false, "say only whether it would be refused now, and do nothing")
	out.flag(cmd)
	flags.add(cmd)
	return cmd
}

// said is what came of a word.
type said struct {
	Said string `json:"said"`
	To   string `json:"to,omitempty"` // the question that it answers
	Seq  uint64 `json:"seq"`          // of the last event that came of it
	Dry  bool   `json:"dry_run,omitempty"`
}

// answers is the question that an act answers, 0 for none.
func answers(a crossing.Act) uint64 {
	switch a := a.(type) {
	case crossing.Yes:
		return a.Question
	case crossing.No:
		return a.Question
	}
	return 0
}

// answering is what a word answers.
type answering struct {
	question, freeze uint64
	token            string // of a notice
	shown            bool   // somebody sees it, at a terminal
	dry              bool   // only to know whether it would be refused
}

// seen is the state that a command goes by, and a refusal where nobody has seen what it goes past.
func (a answering) seen(act crossing.Act, s crossing.State, file string) (uint64, error) {
	switch {
	case a.freeze != 0:
		return a.freeze, nil
	case a.shown || !s.Frozen() || !crossing.GoesPast(act, s):
		return s.Seq, nil
	}
	last := s.Freezes[len(s.Freezes)-1]
	return 0, &exitError{exitCalledOff, fmt.Errorf("it is frozen: %s. Without a terminal, say that you have seen it: "+
		"--freeze %d; vaiven open %s shows it", words.Frozen(s), last.ID, file)}
}

func say(cmd *cobra.Command, k *kept, args []string, to answering, flags reachFlags, out output) error {
	s, err := k.View(cmd.Context())
	if err != nil {
		return err
	}
	act, err := saying(args, s.Crossing, to.question)
	if err != nil {
		return err
	}
	seen, err := to.seen(act, s.Crossing, k.Plan)
	if err != nil {
		return err
	}
	if steer, ok := act.(crossing.Steer); ok {
		echo(cmd, steer.Share, s)
	}
	c := keeper.Command{Act: act, Seen: seen, As: k.asOf(), Why: flags.why, TakeWheel: flags.takeWheel,
		Token: to.token, Try: to.dry}
	what := said{Said: strings.Join(args, " "), Dry: to.dry}
	if q := s.Crossing.Question; q.ID != 0 && answers(act) == q.ID {
		what.To = words.Whole(q, s.Crossing)
	}
	if what.Seq, err = k.Do(cmd.Context(), c); err != nil {
		return err
	}
	return out.print(cmd.OutOrStdout(), split.Green, what, func(w io.Writer) error {
		about := ""
		if what.To != "" {
			about = ", to: " + what.To
		}
		if what.Dry {
			about += ": would be done"
		}
		_, err := fmt.Fprintf(w, "%s%s\n", what.Said, about)
		return err
	})
}

// saying is the act that words stand for, on what is known; question is the one that is answered, 0 for the open one.
func saying(args []string, s crossing.State, question uint64) (crossing.Act, error) {
	var names []string
	for _, of := range sayable() {
		names = append(names, of.Name)
	}
	if !slices.Contains(names, args[0]) {
		return nil, usage("there is no word %q; there are %s", args[0], strings.Join(names, ", "))
	}
	act, err := crossing.Named(args[0])
	if err != nil {
		return nil, err
	}
	switch takes := act.About().Takes; {
	case takes == "" && len(args) > 1:
		return nil, usage("say %s takes nothing more", args[0])
	case takes != "" && len(args) == 1:
		return nil, usage("say %s takes %s", args[0], takes)
	}
	switch act.(type) {
	case crossing.Reroute:
		legs, err := planfile.ParseRoute(args[1:])
		if err != nil {
			return nil, usage("say %s: %w", args[0], err)
		}
		return crossing.Reroute{Route: legs}, nil
	case crossing.Steer:
		share, err := shareFor(strings.Join(args[1:], " "), s)
		if err != nil {
			return nil, usage("say %s: %w", args[0], err)
		}
		return crossing.Steer{Share: share}, nil
	}
	if question != 0 {
		s.Question.ID = question
	}
	return crossing.AsSeen(act, s), nil
}

// noKeeper says what to do where none runs.
func noKeeper(err error) error {
	if errors.Is(err, service.ErrNoKeeper) {
		return &exitError{exitCalledOff, fmt.Errorf("%w: nothing is crossing, or nobody watches it. vaiven open "+
			"PLAN, or vaiven keep PLAN, starts one", err)}
	}
	return notAllowed(err)
}

func followCommand() *cobra.Command {
	var since uint64
	var html string
	var out output
	cmd := &cobra.Command{
		Use:   "follow PLAN|FOLDER|FLEET",
		Short: "Print events as they come, to the end of the crossing",
		Long: `Prints what happens, as it happens, until the crossing that is under way has ended, or
the next one that begins. --since N begins after the event with that number, so that
nothing is missed between two calls. Exit status as vaiven cross has it: 0 settled,
3 rolled back, 4 called off or no keeper runs, 1 anything else.

--html FILE writes a page for a screen on the wall instead, again and again until it is ended: put it
where a web server of yours has its files. It says so itself when it is old.

Of a folder or a fleet it prints what happens in all services, each line with the service's name, until it
is ended; a keeper that does not run is waited for.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			if many(args[0]) {
				if html != "" || out.json || cmd.Flags().Changed("since") {
					return usage("--html, --json and --since are for one plan")
				}
				return followAll(cmd, args[0])
			}
			k, err := reach(cmd, args[0], false, false)
			if err != nil {
				return noKeeper(err)
			}
			if html != "" {
				return errors.Join(onTheWall(cmd, args[0], k, html), k.Close())
			}
			from := uint64(keeper.FromNow)
			if cmd.Flags().Changed("since") {
				from = since
			}
			emit := emitter(cmd.OutOrStdout(), out, crossing.State{})
			outcome, err := headless.Follow(cmd.Context(), k, from, func(e crossing.Event) error { return emit(e) })
			if err = errors.Join(err, k.Close()); err != nil {
				return err
			}
			return outcomeStatus(outcome)
		},
	}
	cmd.Flags().StringVar(&html, "html", "", "write a page for a screen on the wall into a file, every second")
	cmd.Flags().Uint64Var(&since, "since", 0, "begin after the event with this number (default: with the next one)")
	out.lines(cmd, "print one JSON object a line")
	return cmd
}

func rehearseCommand() *cobra.Command {
	var out output
	cmd := &cobra.Command{
		Use:   "rehearse PLAN",
		Short: "Do everything of a rollback but the last act, and time it",
		Long: `Goes through everything of a rollback on each front, but for the last act: it connects,
reads, takes and leaves the lock, makes the change up, and has the proxy test it where
it can. Nothing is changed. Exit status: 0 it would work, 4 it would not, 2 bad usage,
1 anything else.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			return withKeeper(cmd, args[0], func(ctx context.Context, k *kept) error {
				r, err := k.Rehearse(ctx)
				if err != nil {
					return err
				}
				err = out.print(cmd.OutOrStdout(), split.Green, r, func(w io.Writer) error {
					for _, s := range r.Steps {
						fmt.Fprintf(w, "%10s  %s\n", words.Milliseconds(s.Took),
							strings.TrimPrefix(s.Front+": "+s.What, ": "))
					}
					_, err := fmt.Fprintf(w, "%10s  the rollback, but for its last act\n", words.Milliseconds(r.Took))
					return err
				})
				if err == nil && r.Failed != "" {
					err = &exitError{exitCalledOff, fmt.Errorf("a rollback would not work: %s", r.Failed)}
				}
				return err
			})
		},
	}
	out.flag(cmd)
	return cmd
}

package main

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper/logbook"
	"vaiven/internal/keeper/service"
	"vaiven/internal/people/report"
	"vaiven/internal/words"
	"vaiven/internal/world/state"
)

func logCommand() *cobra.Command {
	var mend, yes bool
	var chart string
	var out output
	cmd := &cobra.Command{
		Use:   "log PLAN [N]",
		Short: "List the crossings of a service and what was done by hand, or show one with its times",
		Long: `Lists the crossings of a service and what was done by hand, or shows one with its times.

--mend looks through the logbook. If it is damaged or empty, it says what can be read of it,
asks, puts the file aside under another name and begins a new one: where traffic goes and
what runs is read from the front and the instances then. No keeper may run meanwhile.
--chart draws one crossing's track; where requests went is in it if that was within the last hours.

Rolling back needs no logbook: vaiven back PLAN --to SIDE.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) != 1 && len(args) != 2 {
				return usage("%s takes a plan file and, for one crossing, its number", cmd.CommandPath())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			p, err := readPlan(args[0])
			if err != nil {
				return err
			}
			if mend {
				return notAllowed(mendLog(cmd, p, yes))
			}
			number := 0
			if len(args) == 2 {
				if number, err = strconv.Atoi(args[1]); err != nil || number < 1 {
					return usage("%q is not the number of a crossing", args[1])
				}
			}
			r, err := reaching(cmd, p, false, true)
			if err != nil {
				return err
			}
			book, drop, err := r.Logbook(cmd.Context())
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, drop()) }()
			switch {
			case chart != "" && number == 0:
				return usage("--chart draws one crossing: name its number")
			case chart != "":
				return drawCrossing(cmd, p, book, number, chart)
			case number > 0:
				return showCrossing(cmd, book, number, out)
			}
			return listAll(cmd, p, book, out)
		},
	}
	out.lines(cmd, "print one JSON object a line")
	cmd.Flags().StringVar(&chart, "chart", "", "draw one crossing's track into a file that ends in .svg or .pdf")
	cmd.Flags().BoolVar(&mend, "mend", false, "put a damaged or empty logbook aside, and begin a new one")
	cmd.Flags().BoolVar(&yes, "yes", false, "with --mend: do not ask")
	return cmd
}

// mendLog begins the logbook anew where it is damaged or empty, on a person's word.
func mendLog(cmd *cobra.Command, p *plan.Plan, yes bool) error {
	in, err := state.Look(p.State)
	if err != nil {
		return fmt.Errorf("there is no logbook yet: %w", err)
	}
	defer in.Close()
	unlock, err := service.Lock(in, who())
	if err != nil {
		return err
	}
	defer func() { _ = unlock() }()
	r, err := logbook.Look(cmd.Context(), p.Logbook())
	if err != nil {
		return err
	}
	w := cmd.OutOrStdout()
	if r.Wrong == "" {
		_, err := fmt.Fprintf(w, "the logbook is whole: %v\n", r)
		return err
	}
	fmt.Fprintf(w, "the logbook %s is of no use: %s. %v\n", p.Logbook(), r.Wrong, r)
	fmt.Fprintln(w, "begun anew, it knows of no crossing: where traffic goes and what runs is read from the front "+
		"and the instances, and which side to go back to is asked")
	if !yes {
		if !atTerminal() {
			return usage("without a terminal, --yes says that it is to be begun anew")
		}
		if yes, err = askOn(w, cmd.InOrStdin(), "Put it aside, and begin a new one?"); err != nil || !yes {
			return err
		}
	}
	aside, err := logbook.Mend(cmd.Context(), p.Logbook(), who(), time.Now(), r)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(w, "begun anew; the one before is %s\n", aside)
	return err
}

// crossingJSON is a crossing with what it took to have both sides.
type crossingJSON struct {
	logbook.Crossing
	Both crossing.Overlap `json:"both"`
}

// bothText is for how long both sides were up, and what that cost.
func bothText(o crossing.Overlap) string {
	if o.Lasted == 0 {
		return ""
	}
	text := "both sides up for " + route.Short(o.Lasted.Round(time.Second))
	if o.Still {
		text += " so far"
	}
	if o.Unit != "" {
		text += fmt.Sprintf(", %.4f %s", o.Cost, o.Unit)
	}
	return text
}

func targetOf(c logbook.Crossing) split.Side {
	side, _ := split.ParseSide(c.Target) // as the logbook wrote it
	return side
}

// listAll lists crossings and acts together, the newest first.
func listAll(cmd *cobra.Command, p *plan.Plan, book *logbook.Book, out output) error {
	crossings, err := book.Crossings(cmd.Context())
	if err != nil {
		return err
	}
	acts, err := book.Acts(cmd.Context())
	if err != nil {
		return err
	}
	w := cmd.OutOrStdout()
	for len(crossings)+len(acts) > 0 {
		var line any
		if len(acts) == 0 || len(crossings) > 0 && crossings[0].Begun.After(acts[0].At) {
			line, crossings = crossings[0], crossings[1:]
		} else {
			line, acts = acts[0], acts[1:]
		}
		switch line := line.(type) {
		case logbook.Crossing:
			events, errBoth := book.Events(cmd.Context(), line.Number)
			both := crossing.OverlapOf(events, p.Parts, time.Now())
			err = errors.Join(err, errBoth, out.print(w, targetOf(line), crossingJSON{line, both},
				func(w io.Writer) error { return printCrossing(w, line, both) }))
		case logbook.Act:
			err = errors.Join(err, out.print(w, split.Green, line,
				func(w io.Writer) error { return printAct(w, line) }))
		}
	}
	return err
}

func printAct(w io.Writer, a logbook.Act) error {
	outcome := a.Outcome
	if outcome != "" {
		outcome = ": " + outcome
	}
	switch {
	case a.Ended.IsZero():
		outcome = ": under way, or cut off"
	case a.Failed:
		outcome = ": FAILED" + outcome
	}
	by := "by hand (" + a.By + ")"
	if a.By == engine.Self {
		by = "by itself"
	}
	_, err := fmt.Fprintf(w, "   –  %s  %s, %s%s\n", a.At.Local().Format("2006-01-02 15:04:05"), a.What, by, outcome)
	return err
}

func printCrossing(w io.Writer, c logbook.Crossing, both crossing.Overlap) error {
	took := "under way"
	if !c.Ended.IsZero() {
		took = route.Short(c.Ended.Sub(c.Begun))
	}
	_, err := fmt.Fprintf(w, "%4d  %s  %-10s to %-5s  %-11s  %-9s  %s\n",
		c.Number, c.Begun.Local().Format("2006-01-02 15:04:05"), c.Version, c.Target, c.Stage, took,
		strings.Join(slices.DeleteFunc([]string{bothText(both), c.Why}, func(s string) bool { return s == "" }), ": "))
	return err
}

// drawCrossing draws a crossing's track, with where requests went as far as that is kept.
func drawCrossing(cmd *cobra.Command, p *plan.Plan, book *logbook.Book, number int, file string) error {
	events, err := book.Events(cmd.Context(), number)
	if err != nil {
		return err
	}
	points, err := service.Observed(p, events[0].At)
	if err != nil {
		fmt.Fprintln(cmd.ErrOrStderr(), "vaiven: where requests went is not drawn:", err)
	}
	return report.Track(file, events, points)
}

func showCrossing(cmd *cobra.Command, book *logbook.Book, number int, out output) error {
	events, err := book.Events(cmd.Context(), number)
	if err != nil {
		return err
	}
	var s crossing.State
	var durations crossing.Durations
	for _, e := range events {
		s = crossing.Apply(s, e)
		took := durations.Add(e)
		err = errors.Join(err, out.print(cmd.OutOrStdout(), s.Target, e,
			func(w io.Writer) error { return printEvent(w, e, s, events[0].At, took) }))
	}
	if out.json || err != nil {
		return err
	}
	fmt.Fprintf(cmd.OutOrStdout(), "\n%s, %s\n", words.State(s),
		route.Short(events[len(events)-1].At.Sub(events[0].At).Round(time.Millisecond)))
	return nil
}

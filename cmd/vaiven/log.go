package main

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/past"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/logbook"
	"vaiven/internal/keeper/service"
	"vaiven/internal/plan/fleetfile"
	"vaiven/internal/words"
	"vaiven/internal/world/state"
)

// logOptions are what is asked of the logbook.
type logOptions struct {
	mend, yes, csv     bool
	at, report, verify string
	out                output
}

func logCommand() *cobra.Command {
	var l logOptions
	cmd := &cobra.Command{
		Use:   "log PLAN [N]|FOLDER",
		Short: "List the crossings of a service and what was done by hand, or show one with its times",
		Long: `Lists the crossings of a service and what was done by hand, with what is usual; or shows one with its
times. --csv lists all crossings for an audit. Of a folder it lists those of all services whose plans are
below it.

--at shows what was seen of a crossing at a moment, as it was recorded. --report writes the record to
hand in: one page as .pdf or .svg, or a .html, .md or .json. Each carries the SHA-256 of the
crossing's events, as closing notices do; --verify says whether the events are still the same.

--mend looks through the logbook. If it is damaged or empty, it says what can be read of it,
asks, puts the file aside under another name and begins a new one: where traffic goes and
what runs is read from the front and the instances then. No keeper may run meanwhile.

Rolling back needs no logbook: vaiven back PLAN --to SIDE.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) != 1 && len(args) != 2 {
				return usage("%s takes a plan file and, for one crossing, its number", cmd.CommandPath())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error { return l.run(cmd, args) },
	}
	l.out.lines(cmd, "print one JSON object a line")
	f := cmd.Flags()
	f.StringVar(&l.at, "at", "", `show one crossing at a moment: "14:02:10", or with its date before it`)
	f.StringVar(&l.report, "report", "", "write the record of one crossing into a file that ends in .pdf, .svg, .html, .md "+
		"or .json")
	f.StringVar(&l.verify, "verify", "", "compare the events of one crossing with a record of it, or with a notice")
	f.BoolVar(&l.csv, "csv", false, "list all crossings as comma-separated values")
	f.BoolVar(&l.mend, "mend", false, "put a damaged or empty logbook aside, and begin a new one")
	f.BoolVar(&l.yes, "yes", false, "with --mend: do not ask")
	return cmd
}

func (l logOptions) run(cmd *cobra.Command, args []string) (err error) {
	if many(args[0]) {
		return l.all(cmd, args)
	}
	p, err := readPlan(args[0])
	if err != nil {
		return err
	}
	if l.mend {
		return notAllowed(mendLog(cmd, p, l.yes))
	}
	number := 0
	if len(args) == 2 {
		if number, err = strconv.Atoi(args[1]); err != nil || number < 1 {
			return usage("%q is not the number of a crossing", args[1])
		}
	}
	for name, value := range map[string]string{"--at": l.at, "--report": l.report, "--verify": l.verify} {
		if value != "" && number == 0 {
			return usage("%s is for one crossing: name its number", name)
		}
	}
	r, err := reaching(cmd, p, false, true)
	if err != nil {
		return err
	}
	of, drop, err := r.Remembered(cmd.Context())
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, drop()) }()
	switch {
	case l.at != "":
		return showMoment(cmd, p, of, number, l.at, l.out)
	case l.verify != "":
		return verifyCrossing(cmd, of, number, l.verify)
	case l.report != "":
		return reportCrossing(cmd, p, of, number, l.report)
	case number > 0:
		return showCrossing(cmd, p, of, number, l.out)
	}
	book, err := of.Logbook(cmd.Context())
	if err != nil {
		return err
	}
	if book.Unread != "" {
		fmt.Fprintf(cmd.ErrOrStderr(), "vaiven: the logbook is damaged: %s. What can be read before and after is "+
			"listed; vaiven log %s --mend keeps it and begins a new one\n", book.Unread, args[0])
	}
	if l.csv {
		return listCSV(cmd.OutOrStdout(), book.Crossings)
	}
	return listAll(cmd, p, book, l.out)
}

// all lists the crossings of all services whose plans are below a folder. A logbook that cannot be read is told, and
// holds up no other.
func (l logOptions) all(cmd *cobra.Command, args []string) error {
	if len(args) > 1 || l.mend || l.at+l.report+l.verify != "" {
		return usage("of a folder all crossings are listed: name the plan of the one that is meant")
	}
	files, err := plansAt(cmd.Context(), args[0])
	if err != nil {
		return err
	}
	if is, err := fleetfile.IsFleet(args[0]); err == nil && is && !l.out.json && !l.csv {
		if err := fleetLog(cmd.OutOrStdout(), args[0]); err != nil {
			return err
		}
	}
	var all []past.Crossing
	unread := 0
	for _, file := range files {
		list, err := crossingsOf(cmd, file)
		if err != nil && !errors.Is(err, os.ErrNotExist) { // nothing was ever begun there
			fmt.Fprintf(cmd.ErrOrStderr(), "vaiven: %s: %v\n", file, err)
			unread++
		}
		all = append(all, list...)
	}
	slices.SortStableFunc(all, func(a, b past.Crossing) int { return b.Begun.Compare(a.Begun) })
	w, now := cmd.OutOrStdout(), time.Now()
	switch {
	case l.csv:
		err = listCSV(w, all)
	default:
		for _, c := range all {
			err = errors.Join(err, l.out.print(w, c.Target, crossingJSON{c, words.EndedWhy(c)},
				func(w io.Writer) error {
					fmt.Fprintf(w, "%-16s ", c.Service)
					return printCrossing(w, c, now)
				}))
		}
	}
	if err == nil && unread > 0 {
		err = &exitError{status: exitOther}
	}
	return err
}

// crossingsOf are the crossings of one plan's service.
func crossingsOf(cmd *cobra.Command, file string) (list []past.Crossing, err error) {
	p, err := readPlan(file)
	if err != nil {
		return nil, err
	}
	r, err := reaching(cmd, p, false, true)
	if err != nil {
		return nil, err
	}
	of, drop, err := r.Remembered(cmd.Context())
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, drop()) }()
	book, err := of.Logbook(cmd.Context())
	if err == nil && book.Unread != "" {
		err = fmt.Errorf("%w: %s", logbook.ErrDamaged, book.Unread)
	}
	return book.Crossings, err
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

// crossingJSON is a crossing, and why it ended as it did in words.
type crossingJSON struct {
	past.Crossing
	Why string `json:"why,omitempty"`
}

// listAll lists crossings and acts together, the newest first, and what is usual.
func listAll(cmd *cobra.Command, p *plan.Plan, book keeper.Logbook, out output) (err error) {
	w, now := cmd.OutOrStdout(), time.Now().In(zoneOf(p))
	crossings, acts := book.Crossings, book.Acts
	for len(crossings)+len(acts) > 0 && err == nil {
		if len(acts) == 0 || len(crossings) > 0 && crossings[0].Begun.After(acts[0].At) {
			c := crossings[0]
			err = out.print(w, c.Target, crossingJSON{c, words.EndedWhy(c)},
				func(w io.Writer) error { return printCrossing(w, c, now) })
			crossings = crossings[1:]
			continue
		}
		a := acts[0]
		err = out.print(w, split.Green, a, func(w io.Writer) error { return printAct(w, a, now) })
		acts = acts[1:]
	}
	usual := past.UsualOf(book.Crossings)
	if text := words.PastUsual(usual); text != "" && !out.json && err == nil {
		if odd := words.Odd(usual.Odd(book.Crossings[0])); odd != "" {
			text += fmt.Sprintf("\nof crossing %d: %s", book.Crossings[0].Number, odd)
		}
		_, err = fmt.Fprintf(w, "\n%s\n", text)
	}
	return err
}

func printAct(w io.Writer, a words.Act, now time.Time) error {
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
	_, err := fmt.Fprintf(w, "   –  %-16s  %s, %s%s\n", words.Day(a.At, now), a.What, by, outcome)
	return err
}

func printCrossing(w io.Writer, c past.Crossing, now time.Time) error {
	took := "under way"
	if !c.Ended.IsZero() {
		took = route.Short(c.Lasted(now))
	}
	var more []string
	for _, text := range []string{words.EndedWhy(c), words.Met(c), words.Both(c.Both), words.Who(c)} {
		if text != "" {
			more = append(more, text)
		}
	}
	_, err := fmt.Fprintf(w, "%4d  %-16s  %-18s to %-5v  %-12s  %-11s  %-9s  %s\n", c.Number, words.Day(c.Begun, now),
		words.Versions(c), c.Target, words.SmallTrack(c, 12, now), c.Stage, took, strings.Join(more, " · "))
	return err
}

// column is one of the table of crossings.
type column struct {
	name string
	of   func(past.Crossing) string
}

// columns are all of them. Times are in UTC, and what lasts is in seconds.
var columns = []column{
	{"number", func(c past.Crossing) string { return strconv.Itoa(c.Number) }},
	{"service", func(c past.Crossing) string { return c.Service }},
	{"side", func(c past.Crossing) string { return c.Target.String() }},
	{"from", func(c past.Crossing) string { return c.From }},
	{"version", func(c past.Crossing) string { return c.Version }},
	{"build", func(c past.Crossing) string { return c.Build }},
	{"commit", func(c past.Crossing) string { return c.Commit }},
	{"by", func(c past.Crossing) string { return c.By }},
	{"yes_by", func(c past.Crossing) string { _, yes := c.People(); return strings.Join(yes, " ") }},
	{"begun", func(c past.Crossing) string { return inUTC(c.Begun) }},
	{"ended", func(c past.Crossing) string { return inUTC(c.Ended) }},
	{"stage", func(c past.Crossing) string { return string(c.Stage) }},
	{"why", words.EndedWhy},
	{"raise_s", func(c past.Crossing) string { return inSeconds(c.Took.Raise) }},
	{"prove_s", func(c past.Crossing) string { return inSeconds(c.Took.Prove) }},
	{"shift_s", func(c past.Crossing) string { return inSeconds(c.Took.Shift) }},
	{"home_s", func(c past.Crossing) string { return inSeconds(c.Took.Home) }},
	{"requests", func(c past.Crossing) string { return fmt.Sprint(c.Counted.Requests) }},
	{"failed", func(c past.Crossing) string { return fmt.Sprint(c.Counted.Failed) }},
	{"all_requests", func(c past.Crossing) string { return fmt.Sprint(c.Counted.All) }},
	{"all_failed", func(c past.Crossing) string { return fmt.Sprint(c.Counted.AllFailed) }},
	{"probes", func(c past.Crossing) string { return fmt.Sprint(c.Counted.Asked) }},
	{"lost", func(c past.Crossing) string { return fmt.Sprint(c.Counted.Lost) }},
	{"longest_gap_s", func(c past.Crossing) string { return inSeconds(c.Counted.LongestGap) }},
	{"unwatched_s", func(c past.Crossing) string { return inSeconds(c.Counted.Unwatched) }},
	{"both_s", func(c past.Crossing) string { return inSeconds(c.Both.Lasted) }},
	{"cost", func(c past.Crossing) string {
		if c.Both.Unit == "" {
			return ""
		}
		return strconv.FormatFloat(c.Both.Cost, 'f', 4, 64)
	}},
	{"unit", func(c past.Crossing) string { return c.Both.Unit }},
	{"events", func(c past.Crossing) string { return strconv.Itoa(c.Events) }},
}

func inSeconds(d time.Duration) string {
	if d == 0 {
		return ""
	}
	return strconv.FormatFloat(d.Seconds(), 'f', 3, 64)
}

func inUTC(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

// listCSV lists crossings as comma-separated values (RFC 4180), the newest first.
func listCSV(w io.Writer, list []past.Crossing) error {
	out := csv.NewWriter(w)
	row := func(of func(column) string) {
		cells := make([]string, len(columns))
		for n, c := range columns {
			cells[n] = of(c)
			if strings.ContainsRune("=+-@\t\r", []rune(cells[n] + " ")[0]) {
				cells[n] = "'" + cells[n] // people's words are no formula, wherever the table is opened
			}
		}
		_ = out.Write(cells) // told by Error
	}
	row(func(c column) string { return c.name })
	for _, crossing := range list {
		row(func(c column) string { return c.of(crossing) })
	}
	out.Flush()
	return out.Error()
}

// showCrossing shows what happened in one crossing, and what it came to.
func showCrossing(cmd *cobra.Command, p *plan.Plan, of keeper.Past, number int, out output) error {
	told, err := of.EventsOf(cmd.Context(), number, 0)
	if err != nil {
		return err
	}
	w, events := cmd.OutOrStdout(), told.Events
	if told.Unread != "" {
		fmt.Fprintf(cmd.ErrOrStderr(), "vaiven: the logbook is damaged: %s. What can be read of the crossing is shown\n",
			told.Unread)
	}
	var s crossing.State
	var durations crossing.Durations
	for _, e := range events {
		s = crossing.Apply(s, e)
		took := durations.Add(e)
		if err := out.print(w, s.Target, e,
			func(w io.Writer) error { return printEvent(w, e, s, events[0].At, took) }); err != nil {
			return err
		}
	}
	if out.json {
		return nil
	}
	fmt.Fprintf(w, "\n%s, %s\n", words.State(s),
		route.Short(events[len(events)-1].At.Sub(events[0].At).Round(time.Millisecond)))
	book, err := of.Logbook(cmd.Context())
	if err != nil {
		return err
	}
	if c, ok := book.Crossing(number); ok {
		for _, text := range []string{words.Met(c), words.Both(c.Both),
			words.Odd(past.UsualOf(book.Crossings).Odd(c))} {
			if text != "" {
				fmt.Fprintln(w, text)
			}
		}
	}
	if told.Unread == "" {
		_, err = fmt.Fprintln(w, told.Digest)
	}
	return err
}

package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/forecast"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/front/embedded"
	"vaiven/internal/front/haproxy"
	"vaiven/internal/front/logged"
	"vaiven/internal/people/report"
	"vaiven/internal/plan/fleetfile"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/words"
	"vaiven/internal/world/place"
	"vaiven/internal/world/section"
)

func planCommand() *cobra.Command {
	var schema, ofFleets, whole bool
	var out output
	var w weighing
	cmd := &cobra.Command{
		Use:   "plan FILE|FOLDER",
		Short: "Check a plan file, and forecast its route",
		Long: `Names every mistake of a plan file with its line and what would be right, looks
whether the programs and secrets that it names are there on this machine, and prints
the route as a forecast: its times, and what a bad release would cost on it. For that it takes the traffic
that the keeper measures now, or that of --rate and --failing; clients come from --log. --chart draws
it. --whole prints the plan with what its base says, each value with where it comes from.
Of a folder all plans below it are checked: the files that say a service.
Of a fleet file it checks the plans that it names, and says in which order its services cross, which is
the longest way, and how long that takes by what each usually took.
--schema prints the JSON Schema of plan files, for editors; with --fleet, that of fleet files.
Exit status: 0 it is right, 2 it is not.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if schema && len(args) == 0 {
				return nil
			}
			return onePlan(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if schema {
				e := json.NewEncoder(cmd.OutOrStdout())
				e.SetIndent("", " ")
				if ofFleets {
					return e.Encode(fleetfile.Schema())
				}
				return e.Encode(planfile.Schema())
			}
			if is, err := fleetfile.IsFleet(args[0]); err == nil && is {
				return planFleet(cmd, args[0], out)
			}
			if isFolder(args[0]) {
				return checkPlans(cmd.Context(), cmd.OutOrStdout(), args[0])
			}
			if whole {
				text, err := planfile.Whole(args[0])
				if err == nil {
					_, err = io.WriteString(cmd.OutOrStdout(), text)
				}
				return err
			}
			p, err := checkPlan(args[0])
			var problems section.Problems
			if out.json && errors.As(err, &problems) {
				return errors.Join(out.print(cmd.OutOrStdout(), split.Green, mistakesJSON{problems.List}, nil),
					&exitError{status: exitUsage})
			}
			if err != nil {
				return err
			}
			weighed, err := w.weigh(cmd, p)
			if err != nil {
				return err
			}
			if w.chart != "" {
				if weighed == nil {
					return usage("--chart draws what a bad release would cost, and that takes traffic: run a keeper, " +
						"or give --rate")
				}
				if err := report.Route(w.chart, p.Service, w.asked, *weighed); err != nil {
					return err
				}
			}
			f := forecastOf(p)
			f.Weighed = weighed
			return out.print(cmd.OutOrStdout(), split.Green, f, func(to io.Writer) error {
				if err := printForecast(to, p); err != nil || weighed == nil {
					return err
				}
				return printWeighed(to, *weighed, w)
			})
		},
	}
	out.flag(cmd)
	w.add(cmd)
	cmd.Flags().BoolVar(&whole, "whole", false, "print the plan with what its base says, and where each value comes from")
	cmd.Flags().BoolVar(&ofFleets, "fleet", false, "with --schema: of fleet files")
	cmd.Flags().BoolVar(&schema, "schema", false, "print the JSON Schema of plan files")
	return cmd
}

// checkPlan reads a plan file, and looks whether what it names is there.
func checkPlan(file string) (*plan.Plan, error) {
	p, err := planfile.Check(file)
	if errors.Is(err, os.ErrNotExist) {
		return nil, usage("there is no plan file %s", file)
	}
	return p, err
}

// isFolder reports whether a name is that of a folder.
func isFolder(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}

// plansBelow are the plan files below a folder. That there are none is an error.
func plansBelow(ctx context.Context, dir string) ([]string, error) {
	files, err := planfile.Below(ctx, dir)
	if err == nil && len(files) == 0 {
		err = usage("there is no plan below %s: no file says a service", dir)
	}
	return files, err
}

// checkPlans checks the plans below a folder.
func checkPlans(ctx context.Context, w io.Writer, dir string) error {
	files, err := plansBelow(ctx, dir)
	if err != nil {
		return err
	}
	wrong := 0
	for _, file := range files {
		p, err := planfile.Check(file)
		if err != nil {
			wrong++
			fmt.Fprintf(w, "%v\n\n", err)
			continue
		}
		fmt.Fprintf(w, "%s: %s, %d legs, kept for %v\n", file, p.Service, len(p.Route), route.Short(p.Keep))
	}
	if wrong > 0 {
		return usage("%d of %d plans are not right", wrong, len(files))
	}
	_, err = fmt.Fprintf(w, "all right: %d of %d\n", len(files), len(files))
	return err
}

// forecastJSON is the forecast for scripts.
type forecastJSON struct {
	Service string        `json:"service"`
	Legs    []legJSON     `json:"legs"`
	Keep    time.Duration `json:"keep"`
	Then    plan.Then     `json:"then"`
	Total   time.Duration `json:"total"`
	Asks    int           `json:"asks"`
	// the first leg: until the longer time is over for which what there was is remembered
	Before time.Duration `json:"before,omitzero"`
	// each change, by those who ask: its leg begins after that
	Remembered time.Duration     `json:"remembered,omitzero"`
	Weighed    *forecast.Weighed `json:"weighed,omitempty"` // what a bad release would cost; none without traffic
	Elsewhere  plan.Elsewhere    `json:"elsewhere"`         // what keeping it on another machine takes
}

type legJSON struct {
	Part   split.Share   `json:"part"`
	Begins time.Duration `json:"begins"`
	Dwell  time.Duration `json:"dwell"`
	Sure   bool          `json:"sure,omitempty"`
	Least  time.Duration `json:"least,omitempty"`
	Ask    bool          `json:"ask,omitempty"`
}

// mistakesJSON is what is wrong with a plan.
type mistakesJSON struct {
	Mistakes []section.Problem `json:"mistakes"`
}

func forecastOf(p *plan.Plan) forecastJSON {
	before, each := p.Remembered()
	f := p.Route.Forecast(p.Keep, each)
	out := forecastJSON{Service: p.Service, Keep: f.Keep, Then: p.Then, Total: f.Total, Asks: f.Asks, Before: before,
		Remembered: each, Elsewhere: p.Elsewhere(place.IsHere)}
	for _, s := range f.Stops {
		out.Legs = append(out.Legs, legJSON{s.Part, s.Begins, s.Dwell, s.Sure, s.Least, s.Ask})
	}
	return out
}

// instances is how many a side has: of all parts together, or one part after the other where a number is not a plain
// one.
func instances(p *plan.Plan, side split.Side) string {
	var list []string
	plain := true
	for _, part := range p.Parts {
		s := part.Stacks[side]
		plain = plain && s.Until == 0 && !s.AsLive()
		list = append(list, s.Count())
	}
	if plain {
		return strconv.Itoa(p.Wanted(side))
	}
	return strings.Join(list, " and ")
}

// contentOf says what watches the content of answers while traffic moves.
func contentOf(p *plan.Plan) string {
	_, check, likely := p.Content()
	switch door, there := p.Guard(plan.Door); {
	case p.Prober.Off || !there || door.Off:
		return "content: nothing watches it; wrong answers with a good status pass unseen"
	case p.Prober.Contains != "" || len(p.Prober.JSON) > 0:
		return fmt.Sprintf("content: the prober watches %s, as prober says", p.Prober.Path)
	case likely:
		return fmt.Sprintf("content: the prober watches %s for what smoke check %q wants, if the live side's answers "+
			"have it before the first leg", p.Prober.Path, check)
	}
	return fmt.Sprintf("content: nothing watches it; wrong answers with a good status pass unseen. prober: "+
		"{contains: ...} watches %s, and so does a smoke check of it that wants content", p.Prober.Path)
}

// clientsOf says what guards make of clients that stay on their sides, "" where none do.
func clientsOf(p *plan.Plan) string {
	if !p.Front.Together() {
		return ""
	}
	const eased = "clients: they stay on their sides, and this front does not count them; guards that compare freeze in " +
		"place of rolling back"
	counted := fmt.Sprintf("clients: they stay on their sides, and guards count how many turn bad; about %d different "+
		"ones on the new side are needed to see a fault of some", guard.ClientsNeeded(1-p.Sure))
	same := "; the same clients go first in every release"
	if p.Front.Key.From == plan.KeyRandom { // they stay by their session, which is no key
		return eased
	}
	switch s := p.Front.Settings.(type) {
	case *embedded.Settings:
		if s.Shuffle {
			same = ""
		}
		return counted + same
	case *haproxy.Settings:
		if s.Log == "" {
			return eased + ". With log they are counted" + same
		}
		return counted + same
	case plan.Logs:
		if s.AccessLog() == "" {
			return eased + ". Where log names an access log with the key they are counted" + same
		}
		if field := logged.Field(p.Front.Key); field != "" {
			return counted + "; the log has to have the field " + field + same
		}
		return counted + same
	}
	return eased + same
}

// controlOf says what a control group costs, "" where the route wants none.
func controlOf(p *plan.Plan) string {
	if !p.Route.Controls() {
		return ""
	}
	side, n := "one", 1
	for _, s := range p.Main().Stacks {
		n = max(n, s.Planned())
	}
	if n > 1 {
		side = strconv.Itoa(n)
	}
	text := fmt.Sprintf("control: %s more of the live version, from the raise until the live side is retired, or the "+
		"crossing has come to nothing; guards take about", side)
	for k, l := range p.Route {
		if !l.Control {
			break
		}
		if k > 0 {
			text += ","
		}
		text += fmt.Sprintf(" %.1f times as long at %v", forecast.BesideControl(l.Part), l.Part)
	}
	return text
}

func printForecast(w io.Writer, p *plan.Plan) error {
	before, each := p.Remembered()
	f := p.Route.Forecast(p.Keep, each)
	checks := 0
	for _, part := range p.Parts {
		checks += len(part.Smoke) + len(part.Needs)
	}
	fmt.Fprintf(w, "%s: instances %s blue, %s green; checks %d; key %v\n\n", p.Service, instances(p, split.Blue),
		instances(p, split.Green), checks, p.Front.Key)
	fmt.Fprintf(w, "  after     traffic on the new side\n")
	for _, s := range f.Stops {
		line := fmt.Sprintf("  %-9s %s%s", offset(s.Begins), s.Part, s.Terms())
		if s.Ask {
			line += "   ◇ asks a person first"
		}
		fmt.Fprintln(w, line)
	}
	end := map[plan.Then]string{
		plan.ThenRetire: "retire the old side", plan.ThenAsk: "◇ ask whether to retire the old side",
		plan.ThenLeave: "leave the old side standing",
	}[p.Then]
	fmt.Fprintf(w, "  %-9s %s\n\n", offset(f.Total), end)
	fmt.Fprintln(w, contentOf(p))
	if clients := clientsOf(p); clients != "" {
		fmt.Fprintln(w, clients)
	}
	if control := controlOf(p); control != "" {
		fmt.Fprintln(w, control)
	}
	for _, line := range append(rulesOf(p), words.Elsewhere(p.Elsewhere(place.IsHere))...) {
		fmt.Fprintln(w, line)
	}
	total := fmt.Sprintf("total %s from the first request that moves, %s of it keeping the old side",
		route.Short(f.Total), route.Short(f.Keep))
	switch {
	case f.Asks == 1:
		total += "; a person is waited for once"
	case f.Asks > 1:
		total += fmt.Sprintf("; people are waited for %d times", f.Asks)
	}
	if each > 0 {
		total += fmt.Sprintf("\nafter each change %s are waited until the last have heard of it, and before the "+
			"first up to %s", route.Short(each), route.Short(before))
	}
	_, err := fmt.Fprintln(w, total)
	return err
}

func offset(d time.Duration) string {
	if d == 0 {
		return "0s"
	}
	return route.Short(d)
}

package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
	"vaiven/internal/planfile"
	"vaiven/internal/section"
)

func planCommand() *cobra.Command {
	var asJSON, schema bool
	cmd := &cobra.Command{
		Use:   "plan FILE",
		Short: "Check a plan file, and forecast its route",
		Long: `Names every mistake of a plan file with its line and what would be right, looks
whether the programs and secrets that it names are there on this machine, and prints
the route as a forecast. --schema prints the JSON Schema of plan files, for editors.
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
				return e.Encode(planfile.Schema())
			}
			p, err := checkPlan(args[0])
			var problems section.Problems
			if asJSON && errors.As(err, &problems) {
				err = printJSON(cmd.OutOrStdout(), "mistakes", split.Green, mistakesJSON{problems.List})
				return errors.Join(err, &exitError{status: exitUsage})
			}
			if err != nil {
				return err
			}
			if asJSON {
				return printJSON(cmd.OutOrStdout(), "plan", split.Green, forecastOf(p))
			}
			return printForecast(cmd.OutOrStdout(), p)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
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

// forecastJSON is the forecast for scripts.
type forecastJSON struct {
	Service string        `json:"service"`
	Legs    []legJSON     `json:"legs"`
	Keep    time.Duration `json:"keep"`
	Then    plan.Then     `json:"then"`
	Total   time.Duration `json:"total"`
	Asks    int           `json:"asks"`
}

type legJSON struct {
	Part   split.Share   `json:"part"`
	Begins time.Duration `json:"begins"`
	Dwell  time.Duration `json:"dwell"`
	Ask    bool          `json:"ask,omitempty"`
}

// mistakesJSON is what is wrong with a plan.
type mistakesJSON struct {
	Mistakes []section.Problem `json:"mistakes"`
}

func forecastOf(p *plan.Plan) forecastJSON {
	f := p.Route.Forecast(p.Keep)
	out := forecastJSON{Service: p.Service, Keep: f.Keep, Then: p.Then, Total: f.Total, Asks: f.Asks}
	for _, s := range f.Stops {
		out.Legs = append(out.Legs, legJSON{s.Part, s.Begins, s.Dwell, s.Ask})
	}
	return out
}

func printForecast(w io.Writer, p *plan.Plan) error {
	f := p.Route.Forecast(p.Keep)
	checks := 0
	for _, part := range p.Parts {
		checks += len(part.Smoke) + len(part.Needs)
	}
	fmt.Fprintf(w, "%s: instances %d blue, %d green; checks %d; key %v\n\n",
		p.Service, p.Wanted(split.Blue), p.Wanted(split.Green), checks, p.Front.Key)
	fmt.Fprintf(w, "  after     share of the way\n")
	for _, s := range f.Stops {
		line := fmt.Sprintf("  %-9s %s", offset(s.Begins), s.Part)
		if s.Dwell > 0 {
			line += " for " + route.Short(s.Dwell)
		}
		if s.Ask {
			line += "   ◇ asks a person first"
		}
		fmt.Fprintln(w, line)
	}
	end := map[plan.Then]string{
		plan.ThenRetire: "retire the old side", plan.ThenAsk: "◇ ask whether to retire the old side", plan.ThenLeave: "leave the old side standing",
	}[p.Then]
	fmt.Fprintf(w, "  %-9s %s\n\n", offset(f.Total), end)
	total := fmt.Sprintf("total %s from the first request that moves, %s of it keeping the old side", route.Short(f.Total), route.Short(f.Keep))
	switch {
	case f.Asks == 1:
		total += "; a person is waited for once"
	case f.Asks > 1:
		total += fmt.Sprintf("; people are waited for %d times", f.Asks)
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

package main

import (
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
	"vaiven/internal/section"
)

func planCommand() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "plan FILE",
		Short: "Check a plan file, and forecast its route",
		Args:  onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := readPlan(args[0])
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
	return cmd
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

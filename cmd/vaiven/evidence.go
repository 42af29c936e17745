package main

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/split"
	"vaiven/internal/people/report"
	"vaiven/internal/words"
)

func evidenceCommand() *cobra.Command {
	var out output
	var chart, of string
	cmd := &cobra.Command{
		Use:   "evidence PLAN",
		Short: "Say what the guards that compare have come to since the crossing began",
		Long: `Prints for each guard that compares what both sides answered since requests began to
move, and how sure that made it. --chart draws one guard's moments, the first one's unless --guard
names another; --json has all of them.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := readPlan(args[0])
			if err != nil {
				return err
			}
			k, err := reach(cmd, args[0], false, true)
			if err != nil {
				return err
			}
			defer k.Close()
			stories, err := k.Evidence(cmd.Context())
			if err != nil {
				return err
			}
			if chart != "" {
				s, err := storyOf(stories, of)
				if err != nil {
					return err
				}
				v, err := k.View(cmd.Context())
				if err != nil {
					return err
				}
				return report.Evidence(chart, p.Service, v.Crossing.Target, s)
			}
			return out.print(cmd.OutOrStdout(), split.Green, evidenceJSON{p.Service, stories},
				func(w io.Writer) error { return printEvidence(w, stories) })
		},
	}
	out.flag(cmd)
	cmd.Flags().StringVar(&chart, "chart", "", "draw a guard's moments into a file that ends in .svg or .pdf")
	cmd.Flags().StringVar(&of, "guard", "", "which guard is drawn")
	return cmd
}

// evidenceJSON is what guards have come to, for scripts.
type evidenceJSON struct {
	Service string        `json:"service"`
	Guards  []guard.Story `json:"guards"`
}

func storyOf(list []guard.Story, name string) (guard.Story, error) {
	var names []string
	for _, s := range list {
		if s.Guard == name || name == "" {
			return s, nil
		}
		names = append(names, s.Guard)
	}
	return guard.Story{}, usage("there is no guard %q that compares; there are: %s", name, strings.Join(names, ", "))
}

func printEvidence(w io.Writer, list []guard.Story) error {
	for _, s := range list {
		var all evidence.Block
		for _, m := range s.Points {
			all = all.Plus(evidence.Block{Live: m.Live, Trial: m.Trial})
		}
		if len(s.Points) == 0 {
			if _, err := fmt.Fprintf(w, "%-24s nothing yet\n", s.Guard); err != nil {
				return err
			}
			continue
		}
		last := s.Points[len(s.Points)-1]
		if !s.Watch.Rates() {
			between := "not known how far yet"
			if r := last.Range; r != (evidence.Interval{}) {
				between = fmt.Sprintf("%s to %s", words.Measure(s.Watch, s.Figure, r.Low),
					words.Measure(s.Watch, s.Figure, r.High))
			}
			if _, err := fmt.Fprintf(w, "%-24s %s, %s; evidence %s, trips at %s\n", s.Guard,
				words.Differs(s.Watch, s.Figure, "", last.Difference), between, words.Odds(last.Evidence),
				words.Odds(last.Needed)); err != nil {
				return err
			}
			continue
		}
		_, err := fmt.Fprintf(w, "%-24s live %s of %d, new %s of %d %s; %+.1f to %+.1f points; evidence %s, "+
			"trips at %s\n",
			s.Guard, words.Percent(all.Live.Rate()), all.Live.Of, words.Percent(all.Trial.Rate()), all.Trial.Of, s.Unit,
			100*last.Range.Low, 100*last.Range.High, words.Odds(last.Evidence), words.Odds(last.Needed))
		if err != nil {
			return err
		}
	}
	return nil
}

package main

import (
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/engine"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/plan/tryout"
	"vaiven/internal/words"
	"vaiven/internal/world/section"
)

// weighing is what a route is weighed by, as the command line says it.
type weighing struct {
	rate, failing, log, chart string

	asked   forecast.Question
	suggest string // what to do where the plan's bound is not kept, "" if it is
	from    string // where it is from
}

func (w *weighing) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&w.rate, "rate", "",
		`requests a second, such as "340 /s", in place of what the keeper measures`)
	cmd.Flags().StringVar(&w.failing, "failing", "", `the part of them that fails now, such as "0.1 %"`)
	cmd.Flags().StringVar(&w.log, "log", "", "access log that clients are read from")
	cmd.Flags().StringVar(&w.chart, "chart", "", "draw what a bad release would cost into a file that ends in .svg "+
		"or .pdf")
}

// weigh is what a bad release would cost on the plan's route, nil if there is no traffic to reckon it
// from.
func (w *weighing) weigh(cmd *cobra.Command, p *plan.Plan) (*forecast.Weighed, error) {
	q := forecast.Question{Target: split.Green, Keep: p.Keep, Find: p.Find, Certainty: p.Sure,
		Guarding: engine.Guarding(p, p.Route, p.Keep)}
	if failing, ok := p.Guard(plan.Failing); ok && failing.Off {
		return nil, nil // nothing would be found
	}
	for side, stack := range p.Main().Stacks {
		q.Capacity[side] = stack.Capacity.All(stack.Planned())
	}
	if s := measured(cmd, p); s != nil {
		q.Traffic, q.Target, w.from = s.Traffic, s.Live.Other(), "measured by the keeper just now"
	}
	for _, f := range []struct {
		text  string
		to    *float64
		parse func(string) (float64, error)
		flag  string
	}{{w.rate, &q.Rate, section.PerSecond, "--rate"}, {w.failing, &q.Failing, section.Fraction, "--failing"}} {
		if f.text == "" {
			continue
		}
		v, err := f.parse(f.text)
		if err != nil {
			return nil, usage("%s: %v", f.flag, err)
		}
		*f.to, w.from = v, "as given"
	}
	own := w.log == ""
	if own {
		w.log = p.AccessLog()
	}
	if w.log != "" {
		clients, err := tryout.Clients(cmd.Context(), w.log)
		if err != nil && !own { // the plan's own may be on another machine, or not there yet
			return nil, err
		}
		q.Asks, q.Traffic = clients, q.Traffic.Of(clients)
	}
	if w.asked = q; q.Rate <= 0 {
		return nil, nil
	}
	weighed := q.Weigh(p.Route)
	if p.Harm > 0 && weighed.Harm > p.Harm {
		w.suggest = fmt.Sprintf("that is more than the plan's bound (harm: %.0f), and none of the usual routes stays "+
			"below it", p.Harm)
		if r, harm, ok := q.Suggest(p.Harm); ok {
			w.suggest = fmt.Sprintf("that is more than the plan's bound (harm: %.0f). The shortest of the usual "+
				"routes below it costs ~%.0f:\n\nroute:", p.Harm, harm)
			for _, l := range r {
				w.suggest += "\n  - " + l.String()
			}
		}
	}
	return &weighed, nil
}

// measured is what the service's keeper measures now, nil if none runs.
func measured(cmd *cobra.Command, p *plan.Plan) *engine.View {
	r, err := reaching(cmd, p, false, true)
	if err != nil {
		return nil
	}
	k, err := r.Open(cmd.Context())
	if err != nil {
		return nil
	}
	defer k.Close()
	s, err := k.View(cmd.Context())
	if err != nil {
		return nil
	}
	return &s.View
}

func printWeighed(w io.Writer, o forecast.Weighed, by weighing) error {
	fmt.Fprintf(w, "\nif the new side were bad, at %s, of which %s fail now (%s):\n\n", frame.Rate(by.asked.Rate),
		words.Percent(by.asked.Failing), by.from)
	fmt.Fprintf(w, "  %-36s %9s %8s %6s", "", "requests", "clients", "load")
	for _, fault := range forecast.Faults {
		fmt.Fprintf(w, "  %-20s", "a fault of "+words.Percent(fault))
	}
	fmt.Fprintf(w, "\n  %-36s %9s %8s %6s", "", "to it", "see it", "")
	for range forecast.Faults {
		fmt.Fprintf(w, "  %-20s", "found, fail (9 of 10)")
	}
	fmt.Fprintln(w)
	line := func(name, requests, clients, load string, hits []forecast.Hit) {
		fmt.Fprintf(w, "  %-36s %9s %8s %6s", name, requests, clients, load)
		for _, h := range hits {
			fmt.Fprintf(w, "  %-20s", words.Hit(h))
		}
		fmt.Fprintln(w)
	}
	for _, l := range o.Legs {
		load, clients := "", ""
		if l.Load > 0 {
			load = words.Percent(l.Load)
		}
		if l.Clients > 0 {
			clients = words.Thousands(int64(l.Clients))
		}
		name := l.Leg.Part.String() + l.Leg.Terms()
		if l.Leg.Dwell == 0 && l.Seconds > 0 {
			name += " for " + route.Short(time.Duration(l.Seconds*float64(time.Second)))
		}
		line(name, words.Thousands(int64(l.Requests)), clients, load, l.Hits)
	}
	line("the whole route, bad from the start", "", "", "", o.Whole)
	line("all at once", "", "", "", o.AtOnce)
	_, err := fmt.Fprintf(w, "\n%s\n", words.Harm(o))
	if by.suggest != "" {
		_, err = fmt.Fprintln(w, by.suggest)
	}
	return err
}

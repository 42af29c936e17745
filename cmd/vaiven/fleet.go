package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/fleet"
	"vaiven/internal/core/past"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper/remote"
	"vaiven/internal/plan/fleetfile"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/words"
)

// fleetJSON is a fleet with the order in which it crosses.
type fleetJSON struct {
	Name    string       `json:"name"`
	Members []memberJSON `json:"members"`
	AtOnce  int          `json:"at_once"`
	Stops   fleet.Stops  `json:"a_rollback_stops"`
	Rules   []string     `json:"rules,omitempty"`
	Course  fleet.Course `json:"course"`
	Could   []couldNeed  `json:"could_need,omitempty"` // what plans ask for that the fleet does not say

	// of a crossing that is to begin: what each goes from and to, which versions talk to each other meanwhile that have
	// not before, and who keeps both its sides for longer than its plan says
	From    map[string]string `json:"from,omitempty"`
	To      map[string]string `json:"to,omitempty"`
	Mixed   []fleet.Pair      `json:"mixed,omitempty"`
	Overlap []overlapJSON     `json:"overlap,omitempty"`
}

// overlapJSON is a member that keeps both its sides for longer than its plan says, because it arrives only with others.
type overlapJSON struct {
	Name      string        `json:"name"`
	Longer    time.Duration `json:"longer"`
	Instances int           `json:"instances"`     // of the side that is kept
	Cost      plan.Price    `json:"cost,omitzero"` // of that; its unit is empty if it is not known
}

// memberJSON is a member with how long its crossing is expected to take until all requests are on the new side.
type memberJSON struct {
	fleet.Member
	Takes   time.Duration `json:"takes"`
	History int           `json:"history"` // over so many crossings; 0: by its route alone, or not known
	Wrong   string        `json:"wrong,omitempty"`
}

// couldNeed is a member whose plan asks for another one.
type couldNeed struct {
	Name string     `json:"name"`
	Edge fleet.Edge `json:"edge"`
}

// planFleet checks a fleet file with the plans that it names, and says in which order its services cross.
func planFleet(cmd *cobra.Command, file string, out output) error {
	f, err := fleetfile.Read(file)
	if err != nil {
		return err
	}
	j, plans, wrong := fleetOf(cmd, f, f.Names())
	j.Could = suggested(f, plans)
	err = out.print(cmd.OutOrStdout(), split.Green, j, j.print)
	if err == nil && wrong > 0 {
		err = usage("%d of %d plans are not right", wrong, len(f.Members))
	}
	return err
}

// fleetOf is a fleet with the order in which some of its services cross, and their plans, as far as they are here and
// right.
func fleetOf(cmd *cobra.Command, f *fleet.Fleet, which []string) (j fleetJSON, plans map[string]*plan.Plan, wrong int) {
	j = fleetJSON{Name: f.Name, AtOnce: f.AtOnce, Stops: f.Stops, Rules: fleetRules(f)}
	takes := map[string]time.Duration{}
	plans = map[string]*plan.Plan{}
	for _, m := range f.Members {
		member := memberJSON{Member: m}
		p, err := planOf(m)
		switch {
		case err != nil:
			wrong++
			member.Wrong = err.Error()
		case p != nil:
			plans[m.Name] = p
			member.Takes, member.History = expected(cmd, p)
		}
		takes[m.Name] = member.Takes
		j.Members = append(j.Members, member)
	}
	j.Course = f.Course(which, takes)
	return j, plans, wrong
}

func fleetRules(f *fleet.Fleet) (rules []string) {
	for _, b := range f.Before {
		rules = append(rules, b.String())
	}
	for _, names := range f.Both {
		rules = append(rules, fleet.BothText(names))
	}
	return rules
}

// planOf is a member's plan, nil if it is on another machine.
func planOf(m fleet.Member) (*plan.Plan, error) {
	if _, elsewhere := remote.Parse(m.Plan); elsewhere {
		return nil, nil
	}
	p, err := planfile.Check(m.Plan)
	if err == nil && p.Service != m.Name {
		err = fmt.Errorf("%s is the plan of the service %s", m.Plan, p.Service)
	}
	return p, err
}

// historyLimit is how long a logbook is waited for: without it the route says how long it takes.
const historyLimit = 5 * time.Second

// expected is how long a crossing takes until all requests are on the new side: as it usually did, where that is known,
// else as long as its route.
func expected(cmd *cobra.Command, p *plan.Plan) (takes time.Duration, of int) {
	ctx, cancel := context.WithTimeout(cmd.Context(), historyLimit)
	defer cancel()
	if r, err := reaching(cmd, p, false, true); err == nil {
		if book, drop, err := r.Remembered(ctx); err == nil {
			all, errBook := book.Logbook(ctx)
			if u := past.UsualOf(all.Crossings); errors.Join(errBook, drop()) == nil && u.Shift.Of > 0 {
				return u.Raise.Median + u.Prove.Median + u.Shift.Median, u.Shift.Of
			}
		}
	}
	_, each := p.Remembered()
	return p.Route.Forecast(0, each).Total, 0
}

// suggested are members whose plans ask for the front of another one, which the fleet does not say that they need.
func suggested(f *fleet.Fleet, plans map[string]*plan.Plan) (list []couldNeed) {
	for _, m := range f.Members {
		p := plans[m.Name]
		if p == nil {
			continue
		}
		for _, other := range f.Members {
			q := plans[other.Name]
			if q == nil || q == p || slices.ContainsFunc(m.Needs,
				func(e fleet.Edge) bool { return e.To == other.Name }) {
				continue
			}
			if what := asksFor(p, q); what != "" {
				list = append(list, couldNeed{m.Name, fleet.Edge{To: other.Name, For: what}})
			}
		}
	}
	return list
}

// asksFor is which of a plan's needs asks for the front of another plan, "" for none.
func asksFor(p, other *plan.Plan) string {
	for _, part := range p.Parts {
		for _, need := range part.Needs {
			ask, ok := need.What.(plan.HTTP)
			if !ok {
				continue
			}
			u, err := url.Parse(ask.URL)
			if err != nil || u.Host == "" {
				continue
			}
			host, port := u.Hostname(), u.Port()
			if port == "" {
				port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
			}
			for _, f := range other.Fronts() {
				if f.Listen == net.JoinHostPort(host, port) {
					return need.Name
				}
			}
		}
	}
	return ""
}

func (j fleetJSON) print(w io.Writer) error {
	var b strings.Builder
	services := fmt.Sprintf("%d services", len(j.Members))
	if j.To != nil {
		services = fmt.Sprintf("%d of %s cross", len(j.Course.Turns), services)
	}
	fmt.Fprintf(&b, "%s: %s, %s; %s\n", j.Name, services, atOnceText(j.AtOnce), stopsText(j.Stops))
	for _, rule := range j.Rules {
		fmt.Fprintf(&b, "  %s\n", rule)
	}
	service := "service          "
	if j.To != nil {
		service = fmt.Sprintf("%-16s %-19s", "service", "version")
	}
	fmt.Fprintf(&b, "\n  begins   takes     %s after\n", service)
	for _, t := range j.Course.Turns {
		n := slices.IndexFunc(j.Members, func(m memberJSON) bool { return m.Name == t.Name })
		m, takes := j.Members[n], route.Short(t.Takes.Round(time.Second))
		switch {
		case m.Wrong != "":
			takes = "?"
		case m.History == 0 && t.Takes == 0:
			takes = "not known"
		case m.History == 0:
			takes += "*"
		}
		after := strings.Join(t.After, ", ")
		if t.Waits {
			after = strings.TrimPrefix(after+"; waits for room", "; ")
		}
		name := fmt.Sprintf("%-17s", t.Name)
		if j.To != nil {
			name = fmt.Sprintf("%-16s %-19s", t.Name, cmp.Or(j.From[t.Name], "?")+" → "+j.To[t.Name])
		}
		fmt.Fprintf(&b, "  %-8s %-9s %s %s\n", words.Clock(t.Begins), takes, name, after)
	}
	unknown := slices.ContainsFunc(j.Course.Turns, func(t fleet.Turn) bool { return t.Takes == 0 })
	least := ""
	if unknown {
		least = " at least"
	}
	if unknown && j.Course.Total == 0 {
		b.WriteString("\nhow long it takes in all is not known\n")
	} else {
		fmt.Fprintf(&b, "\nall have arrived after %s%s; the longest way is %s, %s\n", words.Clock(j.Course.Total), least,
			strings.Join(j.Course.Path, ", "), words.Clock(j.Course.Longest))
	}
	if slices.ContainsFunc(j.Members, func(m memberJSON) bool { return m.History == 0 && m.Takes > 0 }) {
		b.WriteString("* by its route alone: it has not crossed yet\n")
	}
	j.printTogether(&b, unknown)
	for _, c := range j.Could {
		fmt.Fprintf(&b, "%s asks for %s (%s): say \"needs: [%s for %s]\" if it has to be there before\n", c.Name,
			c.Edge.To,
			c.Edge.For, c.Edge.To, c.Edge.For)
	}
	for _, m := range j.Members {
		if m.Wrong != "" {
			fmt.Fprintf(&b, "\n%s: %s\n", m.Name, m.Wrong)
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// printTogether says what a crossing means for those that are there together meanwhile.
func (j fleetJSON) printTogether(b *strings.Builder, unknown bool) {
	if len(j.Mixed) > 0 {
		b.WriteString("\nversions that talk to each other and have not before\n")
	}
	for _, p := range j.Mixed {
		when := words.Clock(p.From) + " to " + words.Clock(p.Until)
		switch {
		case p.Stays && unknown:
			when = "for good"
		case p.Stays:
			when = words.Clock(p.From) + " on"
		case unknown:
			when = "meanwhile"
		}
		fmt.Fprintf(b, "  %-15s %s %s with %s %s\n", when, p.Name, cmp.Or(p.Version, "?"), p.To, cmp.Or(p.Other, "?"))
	}
	for _, o := range j.Overlap {
		cost := ""
		if o.Cost.Unit != "" {
			cost = fmt.Sprintf(", for %.2f %s", o.Cost.Amount, o.Cost.Unit)
		}
		fmt.Fprintf(b, "%s keeps the %d instances of its old side for %s longer than its plan says%s: it stays only with "+
			"others\n", o.Name, o.Instances, words.Clock(o.Longer), cost)
	}
}

func atOnceText(n int) string {
	if n == 1 {
		return "one after the other"
	}
	return fmt.Sprintf("at most %d at once", n)
}

func stopsText(s fleet.Stops) string {
	if s == fleet.StopsDependents {
		return "a rollback stops those that need it"
	}
	return "a rollback stops the rest"
}

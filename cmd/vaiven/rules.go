package main

import (
	"fmt"
	"strings"

	"vaiven/internal/core/people"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
)

// rulesOf says when traffic may move, what begins by itself, and who may do what; a line each, none where the plan says
// nothing of it.
func rulesOf(p *plan.Plan) (lines []string) {
	add := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	if p.Hours.Zone != nil {
		var spans []string
		for _, s := range p.Hours.Spans {
			spans = append(spans, s.String())
		}
		if p.Closed != "" {
			spans = append(spans, "not on the days of "+p.Closed)
		}
		add("hours: legs begin %s (%v)", strings.Join(spans, ", "), p.Hours.Zone)
	}
	if p.Embargo != "" {
		add("embargo: nothing leaves home as long as there is %s", p.Embargo)
	}
	if s := p.Start; s.On() {
		when := "when somebody says that it has arrived"
		if s.When == plan.StartAppears {
			when = fmt.Sprintf("when it appears, looked for every %s, or somebody says so", route.Short(s.Every))
		}
		if s.At.Any() {
			when += fmt.Sprintf(", at %02d:%02d (%v)", int(s.At.At.Hours()), int(s.At.At.Minutes())%60, s.At.Zone)
		}
		add("start: a version begins %s; by itself it goes as far as %s", when, s.Far)
	}
	if p.Build.On() {
		add("build: %s makes a version that there is not yet, within %s", strings.Join(p.Build.Words, " "),
			route.Short(p.Build.Within))
	}
	if p.People.Socket != "" {
		add("people: the keeper is reached by the group %s", p.People.Socket)
	}
	if p.People.On() {
		add("people: %s. Everybody may roll back", strings.Join(mayOf(p.People), "; "))
	}
	if p.People.FourEyes {
		add("people: who began a crossing does not say yes in it (four-eyes)")
	}
	lines = append(lines, asksOf(p)...)
	if n := len(p.Notices.Rules); n > 0 {
		list, _ := toldBy(p)
		link := "the command that answers a question stands in it"
		if p.Notices.Answers.Listen != "" {
			link = "a question can be answered by its link, at " + p.Notices.Answers.URL
		}
		add("notices: %d receivers (vaiven notices PLAN lists them); %s", len(list), link)
	}
	return lines
}

// asksOf says which guards ask others for figures and alerts, and what comes of it where they are silent.
func asksOf(p *plan.Plan) (lines []string) {
	for _, g := range p.Guards {
		if !g.Asked() || g.Off {
			continue
		}
		from := string(g.Figure.From)
		if g.Watch == plan.Alert {
			from = "Alertmanager"
		}
		silent := "while it is silent the leg is paused, and frozen after 30s"
		if g.Silent == plan.SilentGoOn {
			silent = "while it is silent the route goes on without"
		}
		line := fmt.Sprintf("figures: %s by %s, every %s; %s", g.Name, from, route.Short(g.Every), silent)
		if p.Route.Controls() && g.Watch.Beside() && !g.Figure.Query.Apart() {
			line += "; it compares with all of the live side, and not with the control group: {instances} would tell them apart"
		}
		lines = append(lines, line)
	}
	return lines
}

// mayOf is who has which right.
func mayOf(r people.Rules) (list []string) {
	for _, right := range people.Rights {
		who, everybody := r.Of(right, "")
		switch {
		case everybody:
			who = []string{people.Everybody}
		case len(who) == 0:
			who = []string{"nobody"}
		}
		list = append(list, fmt.Sprintf("%s %s", right, strings.Join(who, ", ")))
	}
	return list
}

package planfile

import (
	"fmt"
	"time"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/calendar"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/world/section"
)

// start reads when a version begins by itself, and how far it goes.
func (r *reader) start(n ast.Node, p *plan.Plan) {
	s := &p.Start
	s.When, s.Every, s.Far = plan.StartTold, time.Minute, plan.FarProven
	var at ast.Node
	r.Mapping(n, "start",
		section.May("when", section.Parsed(r.Reader, "when", &s.When, func(text string) (plan.StartWhen, error) {
			return section.OneOf(text, plan.StartTold, plan.StartAppears)
		})),
		section.May("every", section.Parsed(r.Reader, "every", &s.Every, section.Duration)),
		section.May("at", func(n ast.Node) {
			at = n
			section.Parsed(r.Reader, "at", &s.At.At, calendar.ParseClock)(n)
		}),
		section.May("zone", section.Parsed(r.Reader, "zone", &s.At.Zone, zone)),
		section.May("until", section.Parsed(r.Reader, "until", &s.Far, func(text string) (plan.StartFar, error) {
			return section.OneOf(text, plan.FarRaised, plan.FarProven, plan.FarLeg, plan.FarSettled)
		})))
	switch {
	case r.Discovering():
	case s.Every < time.Second:
		r.Wrong(n, fmt.Sprintf("looking for versions every %v asks too much of their source", s.Every), "1m is usual, 1s the least")
	case at != nil && s.At.Zone == nil && p.Hours.Zone == nil:
		r.Wrong(at, "in which time zone is not said", `add "zone: Europe/Rome"`)
	case at == nil:
		s.At = calendar.Clock{}
	}
}

// started completes what the plan says of starting when all of it is known.
func (r *reader) started(n ast.Node, p *plan.Plan) {
	if p.Start.At.At != 0 && p.Start.At.Zone == nil {
		p.Start.At.Zone = p.Hours.Zone
	}
	if r.Discovering() || len(r.Problems.List) > 0 || p.Start.When != plan.StartAppears {
		return
	}
	main := p.Main()
	if main.Versions.Kind == "" && main.Stacks[split.Green].Kind() == plan.Standing {
		r.Wrong(n, "nothing says where versions appear", `add "versions:" to the plan, or write "start: {when: told}"`)
	}
}

// zone reads a time zone.
func zone(text string) (*time.Location, error) {
	zone, err := time.LoadLocation(text)
	if err != nil || text == "" || text == "Local" {
		return nil, section.Mistake{What: fmt.Sprintf("%q is no time zone", text),
			Try: "as the IANA has them, such as Europe/Rome or UTC"}
	}
	return zone, nil
}

// build reads the command that makes a version.
func (r *reader) build(n ast.Node, b *plan.Build) {
	b.Within = 15 * time.Minute
	if !isMapping(n) || r.Discovering() {
		r.hookWords(n, &b.Words)
	}
	if !isMapping(n) && !r.Discovering() {
		return
	}
	r.Mapping(n, "build",
		section.Need("run", func(n ast.Node) { r.hookWords(n, &b.Words) }),
		section.May("within", section.Parsed(r.Reader, "within", &b.Within, section.Duration)),
		section.May("environment", func(n ast.Node) { r.secretStrings(n, "environment", &b.Environment) }))
}

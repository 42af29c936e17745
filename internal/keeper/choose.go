package keeper

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"vaiven/internal/core/crossing"
	"vaiven/internal/plan"
	"vaiven/internal/stack"
	"vaiven/internal/versions"
)

// Choose finds what each part is to be raised from, in the order of the plan. A part
// without a source of its own takes what the first part takes; one with its own, the
// version of the same name unless another is asked for. Errors wrap
// [crossing.ErrNotNow] where another choice would help.
func Choose(ctx context.Context, p *plan.Plan, sources map[string]versions.Source, version string, others map[string]string) ([]crossing.Choice, error) {
	for part := range others {
		if !slices.ContainsFunc(p.Parts, func(p plan.Part) bool { return p.Name == part }) {
			return nil, fmt.Errorf("%w: the plan has no part %q", crossing.ErrNotNow, part)
		}
	}
	var list []crossing.Choice
	for n, part := range p.Parts {
		source, own := sources[part.Name]
		name := others[part.Name]
		switch {
		case n == 0:
			name = version
		case !own && name != "" && name != list[0].Version:
			return nil, fmt.Errorf("%w: part %s has no versions of its own: it takes those of %s", crossing.ErrNotNow, part.Name, list[0].Part)
		case !own:
			choice := list[0]
			choice.Part = part.Name
			list = append(list, choice)
			continue
		case name == "":
			name = list[0].Version
		}
		v, err := versions.Find(ctx, source, name)
		if errors.Is(err, versions.ErrNone) {
			try := ""
			if n > 0 {
				try = fmt.Sprintf(" (choose one of them: --version %s=VERSION)", part.Name)
			}
			return nil, fmt.Errorf("%w: part %s: %w%s", crossing.ErrNotNow, part.Name, err, try)
		}
		if err != nil {
			return nil, fmt.Errorf("part %s: %w", part.Name, err)
		}
		list = append(list, crossing.Choice{Part: part.Name, Version: v.Name, Build: v.ID, Built: v.At})
	}
	return list, nil
}

// Offers are the versions of each part that has versions of its own.
func Offers(ctx context.Context, p *plan.Plan, sources map[string]versions.Source) ([]Offer, error) {
	var offers []Offer
	for _, part := range p.Parts {
		source, own := sources[part.Name]
		if !own {
			continue
		}
		list, err := source.List(ctx)
		if err != nil {
			return nil, fmt.Errorf("part %s: %w", part.Name, err)
		}
		offers = append(offers, Offer{Part: part.Name, Versions: list})
	}
	return offers, nil
}

// Builds are choices as the stacks want them.
func Builds(choices []crossing.Choice) map[string]stack.Build {
	m := map[string]stack.Build{}
	for _, c := range choices {
		m[c.Part] = stack.Build{Version: c.Version, ID: c.Build}
	}
	return m
}

package front

import (
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Standing are the instances that a plan names by their addresses, by side: what a front has under those is theirs,
// before anybody has told it so.
func Standing(p *plan.Plan) (known Known) {
	if len(p.Parts) == 0 {
		return known
	}
	for _, side := range split.Sides {
		for _, t := range p.Main().Stacks[side].Stands {
			if t.Address != "" {
				known[side] = append(known[side], reading.Server{Address: t.Address})
			}
		}
	}
	return known
}

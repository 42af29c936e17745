package crossing

import (
	"slices"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Choose finds what each part is to be raised from, in the order of the plan, among the
// versions that there are, given by the parts that have versions of their own. A part
// without takes what the first part takes; one with its own, the version of the same name
// unless another is asked for. live are the live side's instances, and target is the side that is
// to be raised, with as many as its plan says. The error is a
// [*Refusal].
func Choose(p *plan.Plan, offers map[string][]raise.Version, version string, others map[string]string,
	live []reading.Instance, target split.Side) ([]raise.Choice, error) {
	list, err := choose(p, offers, version, others, live)
	for n, part := range p.Parts[:len(list)] {
		c := &list[n]
		c.Instances, c.Until, c.Then = raise.Number(part.Stacks[target], running(live, part.Name))
		if c.Instances < 1 && part.Stacks[target].AsLive() {
			return nil, Refuse(NoneToMatch{target, part.Name})
		}
	}
	return list, err
}

// running is how many of a part's instances run.
func running(list []reading.Instance, part string) int {
	n := 0
	for _, i := range list {
		if i.Running && i.Part == part {
			n++
		}
	}
	return n
}

func choose(p *plan.Plan, offers map[string][]raise.Version, version string, others map[string]string,
	live []reading.Instance) ([]raise.Choice, error) {
	for part := range others {
		if !slices.ContainsFunc(p.Parts, func(q plan.Part) bool { return q.Name == part }) {
			return nil, Refuse(NoPart{part})
		}
	}
	if version == "" {
		return nil, Refuse(NoVersion{})
	}
	var list []raise.Choice
	for n, part := range p.Parts {
		offer, own := offers[part.Name]
		name := others[part.Name]
		switch {
		case n == 0:
			name = version
		case !own && name != "" && name != list[0].Version:
			return nil, Refuse(NotItsOwn{part.Name, list[0].Part})
		case !own:
			choice := list[0]
			choice.Part, choice.LiveBuild = part.Name, liveBuild(live, part.Name)
			list = append(list, choice)
			continue
		case name == "":
			name = list[0].Version
		}
		v, ok := raise.Pick(offer, name)
		if !ok {
			r := NoSuchVersion{Part: part.Name, Version: name, First: n == 0}
			for _, v := range offer {
				r.Offers = append(r.Offers, v.Name)
			}
			return nil, Refuse(r)
		}
		if v.Wrong != "" {
			return nil, Refuse(VersionWrong{v.Name, v.Wrong})
		}
		list = append(list, raise.Choice{Part: part.Name, Version: v.Name, Build: v.ID,
			LiveBuild: liveBuild(live, part.Name), Built: v.At})
	}
	return list, nil
}

// liveBuild is the build of a part's instances that run, the last one's if they differ.
func liveBuild(live []reading.Instance, part string) string {
	build := ""
	for _, i := range live {
		if i.Running && i.Part == part {
			build = i.Build
		}
	}
	return build
}

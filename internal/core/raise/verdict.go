package raise

import (
	"cmp"
	"slices"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Choice is the version that a part of a side is raised at.
type Choice struct {
	Part      string    `json:"part"`
	Version   string    `json:"version"`
	Build     string    `json:"build,omitempty"`      // its identity, if known beforehand
	LiveBuild string    `json:"live_build,omitempty"` // the build that the part is live with
	Built     time.Time `json:"built,omitzero"`       // when the build was made, if known

	Instances int `json:"instances,omitempty"` // how many; 0 in an older logbook, for what the plan says
	// with more of the traffic there are to be Then; 0 if there are always as many
	Until split.Share `json:"until,omitempty"`
	Then  int         `json:"then,omitempty"`
}

// Number is how many instances a part is raised with, where as many of it are live: at first, and with more than a
// part of the traffic. It is 0 if the plan wants as many as live, and none is.
func Number(s plan.Stack, live int) (first int, until split.Share, then int) {
	first, until, then = s.Instances, s.Until, s.Then
	if first == plan.AsLive {
		first = live
	}
	if then == plan.AsLive {
		then = live
	}
	if then <= first { // it never has fewer with more of the traffic
		return first, 0, 0
	}
	return first, until, then
}

// Grown are the choices with as many instances as a part of the traffic wants, and whether that is more than there are.
func Grown(choices []Choice, part split.Share) ([]Choice, bool) {
	grown, more := slices.Clone(choices), false
	for n, c := range grown {
		if c.Until > 0 && part > c.Until {
			grown[n].Instances, grown[n].Until, grown[n].Then = c.Then, 0, 0
			more = true
		}
	}
	return grown, more
}

// Wanted is how many instances choices have, of all parts.
func Wanted(choices []Choice) int {
	n := 0
	for _, c := range choices {
		n += c.Instances
	}
	return n
}

// made reports whether an instance was started from the choice.
func (c Choice) made(i reading.Instance) bool { return i.Version == c.Version && i.Build == c.Build }

// Stands reports whether an instance that somebody else started is at a version, as far as that is known: one of
// which nothing is known may be. Builds count where its version is not known.
func Stands(i reading.Instance, version, build string) bool {
	switch {
	case i.Version != "":
		return i.Version == version
	case i.Build != "" && build != "":
		return Short(i.Build) == Short(build)
	}
	return true
}

// Verdict is how far a raise is.
type Verdict struct {
	Names   []string                 `json:"names,omitempty"` // of the instances that are there
	Times   map[string]time.Duration `json:"times,omitempty"` // from start to healthy, of those that are
	Stuck   []Stuck                  `json:"stuck,omitempty"`
	Missing []Missing                `json:"missing,omitempty"`
}

// Stuck is an instance that is not up.
type Stuck struct {
	Name   string         `json:"name"`
	Health reading.Health `json:"health"`
	Said   string         `json:"said,omitempty"`   // what is wrong with its last answer
	Output string         `json:"output,omitempty"` // its last line
}

// Missing is a part with fewer instances than planned.
type Missing struct {
	Part   string `json:"part"`
	Have   int    `json:"have"`
	Wanted int    `json:"wanted"`
}

// Judge looks how far the raise of a side is: whether every part has its planned
// number of instances of what was chosen, all of them healthy.
func Judge(p *plan.Plan, side split.Side, choices []Choice, conditions []reading.Condition) Verdict {
	v := Verdict{Times: map[string]time.Duration{}}
	for _, part := range p.Parts {
		have := 0
		stands := part.Stacks[side].Kind() == plan.Standing
		choice := Of(choices, part.Name)
		for _, c := range conditions {
			if c.Part != part.Name || !stands && !choice.made(c.Instance) {
				continue
			}
			if stands && (!Stands(c.Instance, choice.Version, choice.Build) || c.State == reading.Exited) {
				// Somebody else may start it again, or renew it yet.
				have++
				v.Stuck = append(v.Stuck, Stuck{Name: c.Name, Health: reading.Starting, Said: standing(c)})
				continue
			}
			have++
			v.Names = append(v.Names, c.Name)
			if c.State == reading.Healthy {
				v.Times[c.Name] = c.Since.Sub(c.Started)
				continue
			}
			s := Stuck{Name: c.Name, Health: c.State, Said: c.Said}
			if n := len(c.Output); n > 0 {
				s.Output = c.Output[n-1]
			}
			v.Stuck = append(v.Stuck, s)
		}
		if wanted := cmp.Or(choice.Instances, part.Stacks[side].Planned()); have < wanted {
			v.Missing = append(v.Missing, Missing{part.Name, have, wanted})
		}
	}
	return v
}

// standing is why an instance that somebody else started is not what it is to be.
func standing(c reading.Condition) string {
	switch {
	case c.State == reading.Exited:
		return c.Exit
	case c.Version != "":
		return "it runs " + c.Version
	}
	return "it runs build " + Short(c.Build)
}

// Of is the choice for a part, or one that no instance was started from.
func Of(choices []Choice, part string) Choice {
	for _, c := range choices {
		if c.Part == part {
			return c
		}
	}
	return Choice{}
}

// Healthy reports whether the side is up.
func (v Verdict) Healthy() bool { return len(v.Stuck) == 0 && len(v.Missing) == 0 }

// Exited reports whether an instance has ended, so that waiting longer helps nobody.
func (v Verdict) Exited() bool {
	for _, s := range v.Stuck {
		if s.Health == reading.Exited {
			return true
		}
	}
	return false
}

// NothingNew reports whether every part would be raised from the build that it is live
// with, given the live side's instances. A part that is not live, or that runs more than
// one build, is new.
func NothingNew(choices []Choice, live []reading.Instance) bool {
	for _, c := range choices {
		known := false
		for _, i := range live {
			if i.Part != c.Part || !i.Running {
				continue
			}
			if c.Build == "" || i.Build != c.Build {
				return false
			}
			known = true
		}
		if !known {
			return false
		}
	}
	return len(choices) > 0
}

// Main is the choice for the part that the front sends requests to, which comes first.
func Main(choices []Choice) Choice {
	if len(choices) == 0 {
		return Choice{}
	}
	return choices[0]
}

// Odd is an instance of a side that a choice does not account for.
type Odd struct {
	Instance reading.Instance
	Wanted   int // instances of its part, if it is one too many of the right build; 0 if it is of another one
}

// Unchosen is an instance that runs and would be stopped by raising what was chosen, if there is one: of another
// version or build, or one more than its part is to have.
func Unchosen(choices []Choice, list []reading.Instance) (Odd, bool) {
	run := map[string]int{}
	for _, i := range list {
		if !i.Running {
			continue
		}
		var c Choice
		for _, of := range choices {
			if of.Part == i.Part {
				c = of
			}
		}
		if i.Version != c.Version || i.Build != c.Build {
			return Odd{Instance: i}, true
		}
		if run[i.Part]++; run[i.Part] > c.Instances {
			return Odd{Instance: i, Wanted: c.Instances}, true
		}
	}
	return Odd{}, false
}

package raise

import (
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
)

// Choice is the version that a part of a side is raised at.
type Choice struct {
	Part      string    `json:"part"`
	Version   string    `json:"version"`
	Build     string    `json:"build,omitempty"`      // its identity, if known beforehand
	LiveBuild string    `json:"live_build,omitempty"` // the build that the part is live with
	Built     time.Time `json:"built,omitzero"`       // when the build was made, if known
}

// made reports whether an instance was started from the choice.
func (c Choice) made(i reading.Instance) bool { return i.Version == c.Version && i.Build == c.Build }

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
		for _, c := range conditions {
			if c.Part != part.Name || !Of(choices, part.Name).made(c.Instance) {
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
		if wanted := part.Stacks[side].Instances; have < wanted {
			v.Missing = append(v.Missing, Missing{part.Name, have, wanted})
		}
	}
	return v
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

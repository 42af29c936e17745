package keeper

import (
	"fmt"
	"strings"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
	"vaiven/internal/stack"
)

// Verdict is how far a raise is.
type Verdict struct {
	Names   []string                 // of the instances that are there
	Times   map[string]time.Duration // from start to healthy, of those that are
	Exited  bool                     // one has ended, so waiting longer helps nobody
	stuck   []string
	missing []string
}

// Judge looks how far the raise of a side is: whether every part has its planned
// number of instances of the build, all of them healthy.
func Judge(p *plan.Plan, side split.Side, builds map[string]stack.Build, conditions []reading.Condition) Verdict {
	v := Verdict{Times: map[string]time.Duration{}}
	for _, part := range p.Parts {
		n := 0
		for _, c := range conditions {
			if c.Part != part.Name || !builds[part.Name].Made(c.Instance) {
				continue
			}
			n++
			v.Names = append(v.Names, c.Name)
			if c.State == reading.Healthy {
				v.Times[c.Name] = c.Since.Sub(c.Started)
				continue
			}
			v.Exited = v.Exited || c.State == reading.Exited
			v.stuck = append(v.stuck, describe(c))
		}
		if wanted := part.Stacks[side].Instances; n < wanted {
			v.missing = append(v.missing, fmt.Sprintf("%d of %d instances of %s were found", n, wanted, part.Name))
		}
	}
	return v
}

// Healthy reports whether the side is up.
func (v Verdict) Healthy() bool { return len(v.stuck) == 0 && len(v.missing) == 0 }

// Stuck names what is not up, each with what it last said.
func (v Verdict) Stuck() string { return strings.Join(append(v.stuck, v.missing...), "; ") }

// describe names a stuck instance with what it last said.
func describe(c reading.Condition) string {
	text := fmt.Sprintf("%s is %s", c.Name, c.State)
	if c.Said != "" {
		text += " (" + c.Said + ")"
	}
	if n := len(c.Output); n > 0 {
		text += fmt.Sprintf(", last output: %q", c.Output[n-1])
	}
	return text
}

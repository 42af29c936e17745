package crossing

import (
	"fmt"
	"slices"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
)

// Control is a group of instances of the version that is live, started beside those crossed to: guards compare with
// these, which are as cold, and get as much, and go through the same.
type Control struct {
	// of the live side, with those that stood and those of the group together
	Choices []raise.Choice `json:"choices,omitempty"`
	Stood   []string       `json:"stood,omitempty"` // the live side's instances before, of the front's part
	Begun   bool           `json:"begun,omitempty"` // some of it may have been started, and are not stopped
	Up      bool           `json:"up,omitempty"`    // all of it was healthy
}

// without are the choices that leave those that stood.
func (c Control) without() []raise.Choice {
	list := slices.Clone(c.Choices)
	if len(list) > 0 {
		list[0].Instances = len(c.Stood)
	}
	return list
}

// ControlOf finds what a control group is to be started from: what every part of the live side runs, with as many more
// instances of the front's part as the new side has. live are that side's instances, but for what is left of an
// earlier group. The error says why there can be none.
func ControlOf(p *plan.Plan, live []reading.Instance, choices []raise.Choice) (c Control, err error) {
	for n, part := range p.Parts {
		of := raise.Choice{Part: part.Name}
		for _, i := range live {
			if i.Part != part.Name {
				continue
			}
			if n == 0 {
				c.Stood = append(c.Stood, i.Name)
			}
			if !i.Running {
				continue
			}
			if of.Instances++; of.Instances > 1 && (i.Version != of.Version || i.Build != of.Build) && err == nil {
				err = fmt.Errorf("a control group is of what is live, and part %s is live with more than one build", part.Name)
			}
			of.Version, of.Build, of.LiveBuild = i.Version, i.Build, i.Build
		}
		if of.Instances == 0 && err == nil {
			err = fmt.Errorf("a control group is of what is live, and nobody of part %s runs on the live side", part.Name)
		}
		c.Choices = append(c.Choices, of)
	}
	if len(c.Choices) > 0 {
		c.Choices[0].Instances = len(c.Stood) + raise.Main(choices).Instances
	}
	return c, err
}

// OfControl reports whether an instance is of the control group.
func (s State) OfControl(i reading.Instance) bool {
	return s.Control.Begun && i.Side == s.Target.Other() && i.Part == raise.Main(s.Control.Choices).Part &&
		!slices.Contains(s.Control.Stood, i.Name)
}

// Beside reports whether the control group gets as much as the target, or will with the leg that is on its way.
func (s State) Beside() bool {
	leg := s.Leg
	if s.Task.Do == TaskMove && s.Task.Leg >= 0 {
		leg = s.Task.Leg
	}
	switch {
	case !s.Control.Begun || s.Stage.Over():
		return false
	case leg < 0:
		return s.Route.Controls()
	}
	return leg < len(s.Route) && s.Route[leg].Control
}

// LeavesControl reports whether a crossing has come to nothing, and may have left a control group behind. Where it came
// to something, that goes with its side.
func (s State) LeavesControl() bool {
	return (s.Stage == RolledBack || s.Stage == CalledOff) && s.Control.Begun
}

// besides has the control group come up, where the route wants one, before the target is proven.
func (d *decision) besides() {
	c := d.State.Control
	if !d.Route.Controls() || c.Up || len(c.Stood) == 0 || !d.spare() {
		d.prove()
		return
	}
	d.order(Task{Do: TaskRaise, Side: d.Target.Other(), Choices: c.Choices, More: true, Control: true})
}

// controlLeft has what is left of a control group stopped.
func (d *decision) controlLeft() {
	if !d.LeavesControl() || d.Task.ID != 0 {
		return
	}
	d.order(Task{Do: TaskRaise, Side: d.Target.Other(), Choices: d.State.Control.without(), More: true, Control: true,
		Act: true})
}

package tool

import (
	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/plan"
	"vaiven/internal/front"
	"vaiven/internal/world/place"
	"vaiven/internal/world/section"
)

// Kind is a front of the user's own.
var Kind = front.Kind{
	Name: "tool", Read: read,
	Open: func(on place.Machine, p *plan.Plan, f plan.Front) front.Driver { return New(on, p.Service, f, nil) },
}

// Settings is what a plan says of such a front: the command.
type Settings struct{ Command []string }

// Kind is the kind's name.
func (s *Settings) Kind() plan.FrontKind { return Kind.Name }

// Marks is always: the order of going home is Vaiven's own affair.
func (s *Settings) Marks() bool { return true }

// Compares is never: nobody knows what the tool does.
func (s *Settings) Compares() bool { return false }

// Reached is by the tool, and nobody knows what that needs.
func (s *Settings) Reached() (addresses []string, byFiles bool) { return nil, true }

// Resolve makes the command's program absolute where it stands beside the plan.
func (s *Settings) Resolve(_, program func(*string)) {
	if len(s.Command) > 0 {
		program(&s.Command[0])
	}
}

// Splits is for the command to say, which is told the key.
func (s *Settings) Splits(plan.Key) error { return nil }

// Sticks too.
func (s *Settings) Sticks() error { return nil }

// Controls is never.
func (s *Settings) Controls() error {
	return section.Mistake{What: "a tool's front is told of sides, and of no part of one",
		Try: "leave \"beside control\" out of the legs"}
}

// Opens is never: a tool's front has shares and nothing else.
func (s *Settings) Opens(plan.SpareDoor) error {
	return section.Mistake{What: "a front of a tool has no door of its own to the spare side",
		Try: "leave spare-door out"}
}

func read(r *section.Reader, n ast.Node) plan.FrontSettings {
	s := &Settings{}
	r.Words(n, "tool", &s.Command)
	if len(s.Command) == 0 && !r.Discovering() {
		r.Wrong(n, "the front's tool is not named", `write the command: "tool: ./pool --name sailings"`)
	}
	return s
}

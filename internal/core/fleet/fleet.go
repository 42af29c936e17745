package fleet

import (
	"fmt"
	"slices"
	"strings"
)

// Fleet is services that depend on each other, and how they cross together.
type Fleet struct {
	File    string
	Name    string
	Members []Member // in the order in which the file has them
	AtOnce  int      // how many cross at the same time at most
	Stops   Stops
	Before  []Before
	// names of members that all arrive, or none does
	Both [][]string
}

// Member is one service of a fleet.
type Member struct {
	Name   string   `json:"name"`
	Plan   string   `json:"plan"` // its file; user@host:FILE of one elsewhere
	Groups []string `json:"groups,omitempty"`
	Needs  []Edge   `json:"needs,omitempty"`
	// a program that says whether a version of it and one of what it needs work together; "" for none
	Together string `json:"together,omitempty"`
}

// Edge is a member that another one needs.
type Edge struct {
	To  string `json:"to"`
	For string `json:"for,omitempty"` // what it is needed for, in the plan's words
}

// Before is a rule: one member crosses before another, whatever they need.
type Before struct{ First, Then string }

// Stops is what a rollback of one member stops.
type Stops string

// The choices.
const (
	StopsAll        Stops = "all"        // nothing new begins any more
	StopsDependents Stops = "dependents" // nothing that needs it begins, itself or by way of others
)

// Member is the one of a name, and false if there is none.
func (f *Fleet) Member(name string) (Member, bool) {
	for _, m := range f.Members {
		if m.Name == name {
			return m, true
		}
	}
	return Member{}, false
}

// Names are those of the members, in the order of the file.
func (f *Fleet) Names() (names []string) {
	for _, m := range f.Members {
		names = append(names, m.Name)
	}
	return names
}

// After are the members that have to have arrived before one begins: what it needs, and what a rule says. They are in
// the order of the file.
func (f *Fleet) After(name string) []string {
	var before []string
	if m, ok := f.Member(name); ok {
		for _, e := range m.Needs {
			before = append(before, e.To)
		}
	}
	for _, r := range f.Before {
		if r.Then == name {
			before = append(before, r.First)
		}
	}
	return slices.DeleteFunc(f.Names(), func(n string) bool { return !slices.Contains(before, n) })
}

// Ring is members that wait for each other, the first one at the end again; nil if there is none.
func (f *Fleet) Ring() []string {
	const entered, left = 1, 2
	seen := map[string]int{}
	var path []string
	var visit func(string) []string
	visit = func(name string) []string {
		switch seen[name] {
		case left:
			return nil
		case entered:
			return append(slices.Clone(path[slices.Index(path, name):]), name)
		}
		seen[name] = entered
		path = append(path, name)
		for _, before := range f.After(name) {
			if ring := visit(before); ring != nil {
				return ring
			}
		}
		path = path[:len(path)-1]
		seen[name] = left
		return nil
	}
	for _, name := range f.Names() {
		if ring := visit(name); ring != nil {
			slices.Reverse(ring) // who crosses first stands first
			return ring
		}
	}
	return nil
}

// Dependents are the members that need one, themselves or by way of others, in the order of the file.
func (f *Fleet) Dependents(name string) []string {
	need := map[string]bool{name: true}
	for again := true; again; {
		again = false
		for _, m := range f.Members {
			for _, e := range m.Needs {
				if need[e.To] && !need[m.Name] {
					need[m.Name], again = true, true
				}
			}
		}
	}
	return slices.DeleteFunc(f.Names(), func(n string) bool { return n == name || !need[n] })
}

// String is the rule as the file has it.
func (b Before) String() string { return fmt.Sprintf("%s before %s", b.First, b.Then) }

// BothText is a rule of members that all arrive or none, as the file has it.
func BothText(names []string) string { return strings.Join(names, " and ") + ": both or neither" }

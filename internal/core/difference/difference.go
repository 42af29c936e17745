package difference

import (
	"cmp"
	"slices"
	"strings"

	"vaiven/internal/core/split"
)

// Fact is one thing that is known of a side.
type Fact struct {
	Part   string
	Area   Area
	Name   string // of the variable, the key, the limit; may be empty
	Value  string
	Secret bool // compared, never shown
	Text   bool // the whole of a text file, to be shown line by line
}

// Area is what kind of thing a fact is about.
type Area string

// The areas, in the order in which differences are shown.
const (
	Build         Area = "build"
	Runtime       Area = "runtime"
	Command       Area = "command"
	Environment   Area = "environment"
	Configuration Area = "configuration" // the name is the file, then the key
	Limits        Area = "limits"
	Instances     Area = "instances"
	Checks        Area = "checks"
)

// Areas lists all areas in their order.
var Areas = []Area{Build, Runtime, Command, Environment, Configuration, Limits, Instances, Checks}

// Rule declares differences as meant.
type Rule struct {
	Area Area
	Name string // with * for any text; "" and "*" are every name
}

// Difference is something that is not the same on both sides. A side that has no
// such thing has Has false there.
type Difference struct {
	Part  string    `json:"part"`
	Area  Area      `json:"area"`
	Name  string    `json:"name,omitempty"`
	Value [2]string `json:"value"` // by side; a secret one is only called so
	Has   [2]bool   `json:"has"`
	Meant bool      `json:"meant"`
	Lines []string  `json:"lines,omitempty"` // of a text file, as a unified difference
}

// What is the difference's place in words: "environment FARES_URL".
func (d Difference) What() string { return strings.TrimSpace(string(d.Area) + " " + d.Name) }

// Report is every difference, those that were not meant first.
type Report struct {
	List     []Difference `json:"differences"`
	Compared int          `json:"compared"` // facts that were compared
	Missing  []string     `json:"missing,omitempty"`
}

// Questioned are the differences that were not meant.
func (r Report) Questioned() []Difference {
	n := slices.IndexFunc(r.List, func(d Difference) bool { return d.Meant })
	if n < 0 {
		return r.List
	}
	return r.List[:n]
}

// Compare finds what differs. A fact that stands on a side more than once (its
// instances do not agree) has all of its values.
func Compare(facts [2][]Fact, meant []Rule) Report {
	type place struct {
		part string
		area Area
		name string
	}
	type pair struct {
		values [2][]string
		secret bool
	}
	all := map[place]*pair{}
	for _, side := range split.Sides {
		for _, f := range facts[side] {
			at := place{f.Part, f.Area, f.Name}
			p := all[at]
			if p == nil {
				p = &pair{}
				all[at] = p
			}
			p.secret = p.secret || f.Secret
			if !slices.Contains(p.values[side], f.Value) {
				p.values[side] = append(p.values[side], f.Value)
			}
		}
	}
	r := Report{Compared: len(all), List: []Difference{}}
	for at, p := range all {
		d := Difference{Part: at.part, Area: at.area, Name: at.name}
		for _, side := range split.Sides {
			slices.Sort(p.values[side])
			d.Value[side] = strings.Join(p.values[side], " | ")
			d.Has[side] = len(p.values[side]) > 0
		}
		if d.Value[split.Blue] == d.Value[split.Green] && d.Has[split.Blue] == d.Has[split.Green] {
			continue
		}
		if p.secret {
			for _, side := range split.Sides {
				if d.Has[side] {
					d.Value[side] = "secret, not shown"
				}
			}
		}
		d.Meant = slices.ContainsFunc(meant, func(r Rule) bool { return r.covers(d) })
		r.List = append(r.List, d)
	}
	slices.SortFunc(r.List, func(a, b Difference) int {
		return cmp.Or(order(a.Meant)-order(b.Meant), cmp.Compare(a.Part, b.Part),
			slices.Index(Areas, a.Area)-slices.Index(Areas, b.Area), cmp.Compare(a.Name, b.Name))
	})
	return r
}

func order(meant bool) int {
	if meant {
		return 1
	}
	return 0
}

func (r Rule) covers(d Difference) bool {
	return r.Area == d.Area && (r.Name == "" || Matches(r.Name, d.Name))
}

// Matches reports whether a text fits a pattern in which * stands for any text,
// also for none.
func Matches(pattern, text string) bool {
	head, rest, star := strings.Cut(pattern, "*")
	if !star {
		return pattern == text
	}
	if !strings.HasPrefix(text, head) {
		return false
	}
	text = text[len(head):]
	for {
		middle, after, more := strings.Cut(rest, "*")
		if !more {
			return strings.HasSuffix(text, middle)
		}
		at := strings.Index(text, middle)
		if at < 0 {
			return false
		}
		text, rest = text[at+len(middle):], after
	}
}

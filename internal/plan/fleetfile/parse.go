package fleetfile

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/fleet"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/world/section"
)

// IsFleet reports whether a file says a fleet.
func IsFleet(file string) (bool, error) { return planfile.Says(file, "fleet") }

// largest is how many bytes a fleet file may have.
const largest = 256 << 10

// Read reads a fleet file. The error is [section.Problems] if it is not right: all mistakes at once.
func Read(file string) (*fleet.Fleet, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	return Parse(file, data)
}

// Parse reads a fleet file's content. Paths of plans are made absolute, from the folder that the file stands in.
func Parse(file string, data []byte) (*fleet.Fleet, error) {
	r := &reader{Reader: section.New(file, data), at: map[string]ast.Node{}}
	f := &fleet.Fleet{File: file, AtOnce: 1, Stops: fleet.StopsAll}
	if len(data) > largest {
		r.At(1, 1, fmt.Sprintf("%d bytes are too many for a fleet", len(data)), "is this the right file?")
	} else if root := r.Tree(data); root != nil {
		r.fleet(root, f)
		r.holds(f)
	}
	if len(r.Problems.List) > 0 {
		r.Problems.Sort()
		return nil, r.Problems
	}
	return f, nil
}

// Schema is the JSON Schema (draft 2020-12) of fleet files.
func Schema() section.Shape {
	r := &reader{Reader: section.New("", nil), at: map[string]ast.Node{}}
	s := r.Discover(func(n ast.Node) { r.fleet(n, &fleet.Fleet{}) })
	s["$schema"], s["title"] = "https://json-schema.org/draft/2020-12/schema", "A fleet of Vaiven"
	return s
}

type reader struct {
	*section.Reader
	at    map[string]ast.Node // where something is said of a member, or a rule
	named []said
}

// said is a member that is named somewhere.
type said struct {
	name string
	at   ast.Node
}

func (r *reader) fleet(n ast.Node, f *fleet.Fleet) {
	r.Mapping(n, "the fleet",
		section.Need("fleet", section.Parsed(r.Reader, "fleet", &f.Name, section.Word)),
		section.Need("services", func(n ast.Node) { r.services(n, f) }),
		section.May("at-once", section.Parsed(r.Reader, "at-once", &f.AtOnce, section.Between(1, 1000))),
		section.May("a-rollback-stops", section.Parsed(r.Reader, "a-rollback-stops", &f.Stops,
			func(text string) (fleet.Stops, error) {
				return section.OneOf(text, fleet.StopsAll, fleet.StopsDependents)
			})),
		section.May("rules", func(n ast.Node) { r.List(n, "rules", func(n ast.Node) { r.rule(n, f) }) }))
}

// services reads each member: its plan alone, or with what it needs.
func (r *reader) services(n ast.Node, f *fleet.Fleet) {
	for name, e := range r.Named(n, "services") {
		m := fleet.Member{Name: name}
		if before, twice := r.at[name]; twice && !r.Discovering() {
			line, _ := r.Place(before)
			r.Wrong(e.Key, fmt.Sprintf("%q stands here a second time", name),
				fmt.Sprintf("it stands in line %d already: keep one", line))
			continue
		}
		r.at[name] = e.Key
		file := func(n ast.Node) { r.file(n, f.File, "plan", &m.Plan) }
		_, mapping := e.Value.(*ast.MappingNode)
		_, single := e.Value.(*ast.MappingValueNode)
		if mapping || single || r.Discovering() {
			r.Mapping(e.Value, "a service",
				section.Need("plan", file),
				section.May("needs", func(n ast.Node) { r.List(n, "needs", func(n ast.Node) { r.edge(n, &m) }) }),
				section.May("together", func(n ast.Node) { r.file(n, f.File, "together", &m.Together) }),
				section.May("groups", func(n ast.Node) { r.Words(n, "groups", &m.Groups) }))
		}
		if !mapping && !single || r.Discovering() {
			file(e.Value)
		}
		f.Members = append(f.Members, m)
	}
}

// elsewhere is a plan on another machine.
var elsewhere = regexp.MustCompile(`^[^/ ]+@[^/ ]+:.`)

// file reads the name of a file, from the folder that the fleet file stands in.
func (r *reader) file(n ast.Node, fleet, key string, to *string) {
	if !r.Text(n, key, to) {
		return
	}
	switch file := *to; {
	case elsewhere.MatchString(file):
		if key != "plan" {
			r.Wrong(n, fmt.Sprintf("%q is on another machine", file), "name a program of this one")
		}
	case !filepath.IsAbs(file):
		*to = filepath.Join(filepath.Dir(fleet), file)
	}
}

// edge reads "fares" or "fares for the prices".
func (r *reader) edge(n ast.Node, m *fleet.Member) {
	var text string
	if !r.Like(n, "needs", "[A-Za-z0-9_-]+( for .+)?", &text) {
		return
	}
	name, what, _ := strings.Cut(strings.TrimSpace(text), " for ")
	if _, err := section.Word(name); err != nil {
		r.Wrong(n, fmt.Sprintf("%q is no service", text), `write its name, or "fares for the prices"`)
		return
	}
	if slices.ContainsFunc(m.Needs, func(e fleet.Edge) bool { return e.To == name }) {
		r.Wrong(n, fmt.Sprintf("%s is needed twice", name), "say once what it is needed for")
		return
	}
	m.Needs = append(m.Needs, fleet.Edge{To: name, For: strings.TrimSpace(what)})
	r.named = append(r.named, said{name, n})
}

// ruleForm is what a rule is written like.
const ruleForm = `"fares before sailings" or "both or neither of fares, berths"`

func (r *reader) rule(n ast.Node, f *fleet.Fleet) {
	var text string
	if !r.Like(n, "rules", "[A-Za-z0-9_-]+ before [A-Za-z0-9_-]+|both or neither of .+", &text) {
		return
	}
	if list, both := strings.CutPrefix(text, "both or neither of "); both {
		var names []string
		for name := range strings.SplitSeq(list, ",") {
			name = strings.TrimSpace(name)
			if _, err := section.Word(name); err != nil || slices.Contains(names, name) {
				r.Wrong(n, fmt.Sprintf("%q is no rule", text), "write it like "+ruleForm)
				return
			}
			names = append(names, name)
			r.named = append(r.named, said{name, n})
		}
		if len(names) < 2 {
			r.Wrong(n, "one service alone arrives or does not", "name the others that it is to arrive with")
			return
		}
		f.Both = append(f.Both, names)
		return
	}
	first, then, ok := strings.Cut(text, " before ")
	_, errFirst := section.Word(first)
	_, errThen := section.Word(then)
	if !ok || errFirst != nil || errThen != nil {
		r.Wrong(n, fmt.Sprintf("%q is no rule", text), "write it like "+ruleForm)
		return
	}
	f.Before = append(f.Before, fleet.Before{First: first, Then: then})
	r.at[fleet.Before{First: first, Then: then}.String()] = n
	r.named = append(r.named, said{first, n}, said{then, n})
}

// holds says what does not hold together: names of nobody, and services that wait for each other.
func (r *reader) holds(f *fleet.Fleet) {
	if len(f.Members) == 0 && len(r.Problems.List) == 0 {
		r.At(1, 1, "the fleet has no services", `add "services:" with the plan of each`)
	}
	for _, s := range r.named {
		if _, ok := f.Member(s.name); !ok {
			try := "services are: " + strings.Join(f.Names(), ", ")
			if near := section.Nearest(s.name, f.Names()); near != "" {
				try = fmt.Sprintf("did you mean %q?", near)
			}
			r.Wrong(s.at, fmt.Sprintf("there is no service %q in the fleet", s.name), try)
		}
	}
	if len(r.Problems.List) > 0 {
		return
	}
	if ring := f.Ring(); ring != nil {
		r.Wrong(r.at[ring[0]], "they wait for each other: "+strings.Join(ring, " before "),
			"take one of these needs or rules away: what others need crosses before them")
	}
}

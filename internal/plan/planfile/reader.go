package planfile

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/world/section"
)

// reader reads a plan.
type reader struct {
	*section.Reader
	secretUses []secretUse
	portsAt    map[[2]int]ast.Node // where a range of ports stands
	portless   []portless          // where there is none
	part       int                 // that is being read
	commandAt  map[string]ast.Node // where a command stands, by its program
	secretAt   map[string]ast.Node // where a secret is declared
	legs       ast.Node            // where the route stands
	sources    plan.Sources        // of figures
	wanted     []wantedSource      // that guards ask
	hide       []string            // what stands in the plan and should not, to be shown in no mistake
	bounded    bool                // the guard that is being read has a bound
}

// portless is a side of a part without ports.
type portless struct {
	at   ast.Node
	part int
	side split.Side
}

// secretUse is a place where a secret is used.
type secretUse struct {
	at   ast.Node
	name string
}

var placeholder = regexp.MustCompile(`\{([A-Za-z_-]+)\}`)

// template reads a text with placeholders, all of which have to be known, and secrets.
func (r *reader) template(what string, to *string) func(ast.Node) {
	return func(n ast.Node) {
		if !r.Text(n, what, to) {
			return
		}
		r.placeholders(n, *to)
	}
}

// open reads a text with placeholders that others can see where it is used, such as a word
// of a command or the name of a file: a secret must not stand there.
func (r *reader) open(what string, to *string) func(ast.Node) {
	return func(n ast.Node) {
		r.template(what, to)(n)
		if m := secretPlaceholder.FindString(*to); m != "" {
			r.Wrong(n, fmt.Sprintf("%s cannot stand in %s: everybody on the machine can see it there", m, what),
				`put it into "environment", from where the command reads it`)
		}
	}
}

var secretPlaceholder = regexp.MustCompile(`\{secret ([^{}]*)\}`)

// noPlaceholder refuses placeholders where there is no instance that they could stand for.
func (r *reader) noPlaceholder(n ast.Node, text string) {
	known := placeholder.FindStringSubmatch(text)
	if secretPlaceholder.MatchString(text) || known != nil && slices.Contains(plan.Placeholders, known[1]) {
		r.Wrong(n, fmt.Sprintf("%q has a placeholder", text),
			"the prober asks at the front, which has no instance and no secret of its own: write the text itself")
	}
}

// secretStrings reads texts by their names, which may have placeholders for secrets, and none for an instance.
func (r *reader) secretStrings(n ast.Node, what string, to *map[string]string) {
	r.Strings(n, what, to)
	for _, text := range *to {
		for _, m := range secretPlaceholder.FindAllStringSubmatch(text, -1) {
			r.secretUses = append(r.secretUses, secretUse{n, m[1]})
		}
		if known := placeholder.FindStringSubmatch(text); known != nil && slices.Contains(plan.Placeholders, known[1]) {
			r.Wrong(n, fmt.Sprintf("%q has a placeholder of an instance", text),
				"this is said at the front, whoever answers: write the text itself")
		}
	}
}

func (r *reader) placeholders(n ast.Node, text string) {
	for _, m := range secretPlaceholder.FindAllStringSubmatch(text, -1) {
		r.secretUses = append(r.secretUses, secretUse{n, m[1]})
	}
	for _, m := range placeholder.FindAllStringSubmatch(text, -1) {
		if slices.Contains(plan.Placeholders, m[1]) {
			continue
		}
		try := "there are: {" + strings.Join(plan.Placeholders, "}, {") + "}"
		if near := section.Nearest(m[1], plan.Placeholders); near != "" {
			try = fmt.Sprintf("did you mean {%s}?", near)
		}
		r.Wrong(n, fmt.Sprintf("no placeholder is called {%s}", m[1]), try)
	}
}

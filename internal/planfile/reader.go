package planfile

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/plan"
	"vaiven/internal/section"
)

// reader reads a plan.
type reader struct {
	*section.Reader
	secretUses []secretUse
}

// secretUse is a place where a secret is used.
type secretUse struct {
	at   ast.Node
	name string
}

var placeholder = regexp.MustCompile(`\{([A-Za-z_-]+)\}`)

// template reads a text with placeholders, all of which have to be known.
func (r *reader) template(what string, to *string) func(ast.Node) {
	return func(n ast.Node) {
		if !r.Text(n, what, to) {
			return
		}
		r.placeholders(n, *to)
	}
}

var secretPlaceholder = regexp.MustCompile(`\{secret ([^{}]*)\}`)

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

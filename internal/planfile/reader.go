package planfile

import (
	"errors"
	"fmt"
	"iter"
	"regexp"
	"slices"
	"strings"
	"vaiven/internal/plan"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// reader walks a YAML tree and gathers mistakes instead of stopping at one.
type reader struct {
	lines      []string
	problems   Problems
	secretUses []secretUse
}

// secretUse is a place where a secret is used.
type secretUse struct {
	at   ast.Node
	name string
}

// key is one key that a mapping may have.
type key struct {
	name string
	need bool // its absence is a mistake
	read func(n ast.Node)
}

// tree parses a file into the node at its root, nil if there is none or the file
// is not YAML.
func (r *reader) tree(data []byte) ast.Node {
	file, err := parser.ParseBytes(data, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		r.syntax(err)
		return nil
	}
	var root ast.Node
	for i, doc := range file.Docs {
		switch {
		case doc.Body == nil:
		case i > 0:
			r.wrong(doc.Body, "a second document begins here", "a plan file holds one document")
		default:
			root = doc.Body
		}
	}
	if _, comment := root.(*ast.CommentGroupNode); root == nil || comment {
		r.at(1, 1, "the file is empty", `a plan begins with "service: NAME"; docs/plan.md has an example`)
		return nil
	}
	return root
}

func (r *reader) syntax(err error) {
	var syntax *yaml.SyntaxError
	if !errors.As(err, &syntax) || syntax.Token == nil {
		r.at(1, 1, "not YAML: "+err.Error(), "")
		return
	}
	p := syntax.Token.Position
	r.at(p.Line, p.Column, "not YAML: "+syntax.Message, "the rest of the file was not looked at")
}

// at records a mistake at a place.
func (r *reader) at(line, column int, what, try string) {
	p := Problem{Line: line, Column: column, What: what, Try: try}
	if line >= 1 && line <= len(r.lines) {
		p.Source = r.lines[line-1]
	}
	r.problems.List = append(r.problems.List, p)
}

// wrong records a mistake at a node.
func (r *reader) wrong(n ast.Node, what, try string) {
	line, column := place(n)
	r.at(line, column, what, try)
}

// place is where a node begins. A mapping's own token is a colon, so its first
// key counts.
func place(n ast.Node) (line, column int) {
	switch t := n.(type) {
	case *ast.MappingNode:
		if len(t.Values) > 0 && !t.IsFlowStyle {
			return place(t.Values[0].Key)
		}
	case *ast.MappingValueNode:
		return place(t.Key)
	}
	if n == nil || n.GetToken() == nil || n.GetToken().Position == nil {
		return 1, 1
	}
	p := n.GetToken().Position
	return p.Line, p.Column
}

// mapping reads a mapping key by key. What it does not know is a mistake, and so
// is what it misses.
func (r *reader) mapping(n ast.Node, what string, keys ...key) {
	names := make([]string, len(keys))
	byName := map[string]key{}
	for i, k := range keys {
		names[i] = k.name
		byName[k.name] = k
	}
	entries, ok := r.entries(n, what)
	if !ok {
		return
	}
	seen, meant := map[string]int{}, map[string]bool{}
	for _, e := range entries {
		name := scalar(e.Key)
		k, known := byName[name]
		line, _ := place(e.Key)
		switch {
		case !known:
			try := "it can have: " + strings.Join(names, ", ")
			if near := nearest(name, names); near != "" {
				try = fmt.Sprintf("did you mean %q?", near)
				meant[near] = true
			}
			r.wrong(e.Key, fmt.Sprintf("%s has no key %q", what, name), try)
		case seen[name] > 0:
			r.wrong(e.Key, fmt.Sprintf("%q stands here a second time", name), fmt.Sprintf("it stands in line %d already: keep one", seen[name]))
		default:
			seen[name] = line
			k.read(e.Value)
		}
	}
	for _, k := range keys {
		if k.need && seen[k.name] == 0 && !meant[k.name] {
			r.wrong(n, fmt.Sprintf("%s needs %q", what, k.name), fmt.Sprintf("add a line %q", k.name+": ..."))
		}
	}
}

// entries are a mapping's pairs.
func (r *reader) entries(n ast.Node, what string) ([]*ast.MappingValueNode, bool) {
	switch t := n.(type) {
	case *ast.MappingNode:
		return t.Values, true
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{t}, true
	}
	r.wrong(n, what+" has to be a mapping of keys to values", `write "key: value" lines, indented below it`)
	return nil, false
}

// named are the entries of a mapping from names, those whose names are good.
func (r *reader) named(n ast.Node, what string) iter.Seq2[string, *ast.MappingValueNode] {
	return func(yield func(string, *ast.MappingValueNode) bool) {
		entries, _ := r.entries(n, what)
		for _, e := range entries {
			name, err := word(scalar(e.Key))
			if err != nil {
				what, try := explain(err)
				r.wrong(e.Key, what, try)
				continue
			}
			if !yield(name, e) {
				return
			}
		}
	}
}

// strings reads a mapping of free names to texts.
func (r *reader) strings(n ast.Node, what string, to *map[string]string) {
	entries, ok := r.entries(n, what)
	if !ok {
		return
	}
	m := make(map[string]string, len(entries))
	for name, value := range *to {
		m[name] = value
	}
	for _, e := range entries {
		var text string
		if r.text(e.Value, "a value of "+what, &text) {
			m[scalar(e.Key)] = text
		}
	}
	*to = m
}

// list reads a sequence item by item.
func (r *reader) list(n ast.Node, what string, read func(ast.Node)) {
	seq, ok := n.(*ast.SequenceNode)
	if !ok {
		r.wrong(n, what+" has to be a list", `write each item on a line of its own, behind "- "`)
		return
	}
	for _, v := range seq.Values {
		read(v)
	}
}

// text reads a scalar as it is written.
func (r *reader) text(n ast.Node, what string, to *string) bool {
	switch n.(type) {
	case *ast.StringNode, *ast.LiteralNode, *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode:
		*to = scalar(n)
		return true
	case *ast.NullNode:
		r.wrong(n, what+" is empty", "give it a value, or leave the whole line out")
	case *ast.AnchorNode, *ast.AliasNode, *ast.TagNode, *ast.MergeKeyNode:
		r.wrong(n, "anchors, aliases and tags are not used in plans", "write the value itself")
	default:
		r.wrong(n, what+" has to be a single value", "")
	}
	return false
}

// parsed reads a scalar through a parser whose errors say what would be right.
func parsed[T any](r *reader, what string, to *T, parse func(string) (T, error)) func(ast.Node) {
	return func(n ast.Node) {
		var text string
		if !r.text(n, what, &text) {
			return
		}
		value, err := parse(text)
		if err != nil {
			what, try := explain(err)
			r.wrong(n, what, try)
			return
		}
		*to = value
	}
}

// mistake is an error with a remedy.
type mistake struct{ what, try string }

func (m mistake) Error() string { return m.what + ": " + m.try }

// explain splits an error into what is wrong and what would be right.
func explain(err error) (what, try string) {
	var m mistake
	if errors.As(err, &m) {
		return m.what, m.try
	}
	what, try, _ = strings.Cut(err.Error(), ": want ")
	if try != "" {
		try = "want " + try
	}
	return what, try
}

// scalar is a scalar's text.
func scalar(n ast.Node) string {
	switch t := n.(type) {
	case *ast.StringNode:
		return t.Value
	case *ast.LiteralNode:
		return t.Value.Value
	}
	if n == nil || n.GetToken() == nil {
		return ""
	}
	return strings.TrimSpace(n.GetToken().Value)
}

var placeholder = regexp.MustCompile(`\{([A-Za-z_-]+)\}`)

// template reads a text with placeholders, all of which have to be known.
func (r *reader) template(what string, to *string) func(ast.Node) {
	return func(n ast.Node) {
		if !r.text(n, what, to) {
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
		if near := nearest(m[1], plan.Placeholders); near != "" {
			try = fmt.Sprintf("did you mean {%s}?", near)
		}
		r.wrong(n, fmt.Sprintf("no placeholder is called {%s}", m[1]), try)
	}
}

package section

import (
	"encoding/json"
	"errors"
	"maps"
	"regexp"
	"slices"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/token"
)

// Shape is what a reader takes, as a JSON Schema: whatever it asks for is written down in place
// of being read, so that there is no second description of a file beside the code that reads it.
type Shape = map[string]any

// shapes gathers what is asked of one node; nil where a file is read.
type shapes struct{ list []Shape }

// Discovering reports whether the reader finds out what can be read, in place of reading.
func (r *Reader) Discovering() bool { return r != nil && r.found != nil }

// Discover is what a function would take.
func (r *Reader) Discover(read func(ast.Node)) Shape {
	outer := r.found
	r.found = &shapes{}
	defer func() { r.found = outer }()
	for _, n := range stands() {
		read(n)
	}
	return r.found.shape()
}

// Takes notes that a value of a shape may stand at a node, while discovering.
func (r *Reader) Takes(n ast.Node, s Shape) {
	if _, scalar := n.(*ast.StringNode); scalar && r.Discovering() {
		r.found.list = append(r.found.list, s)
	}
}

// stands are nodes of each kind that stand for any of theirs.
func stands() []ast.Node {
	at := &token.Position{Line: 1, Column: 1}
	t := func() *token.Token { return &token.Token{Position: at} }
	return []ast.Node{&ast.MappingNode{BaseNode: &ast.BaseNode{}, Start: t(), IsFlowStyle: true},
		&ast.SequenceNode{BaseNode: &ast.BaseNode{}, Start: t()},
		&ast.StringNode{BaseNode: &ast.BaseNode{}, Token: t()}}
}

// shape is one for all that was found.
func (s *shapes) shape() Shape {
	var seen []string
	var list []Shape
	for _, one := range s.list {
		text, _ := json.Marshal(one)
		if !slices.Contains(seen, string(text)) {
			seen = append(seen, string(text))
			list = append(list, one)
		}
	}
	switch len(list) {
	case 0:
		return Shape{}
	case 1:
		return list[0]
	}
	return Shape{"anyOf": list}
}

// scalar is what every single value is to YAML.
var scalar = Shape{"type": []string{"string", "number", "boolean"}}

// mapping notes an object, if the node stands for one.
func (r *Reader) mapping(n ast.Node, what string, keys []Key) {
	if _, ok := n.(*ast.MappingNode); !ok {
		return
	}
	properties, need := Shape{}, []string{}
	for _, k := range keys {
		properties[k.name] = r.Discover(k.read)
		if k.need {
			need = append(need, k.name)
		}
	}
	o := Shape{"type": "object", "title": what, "properties": properties, "additionalProperties": false}
	if len(need) > 0 {
		o["required"] = need
	}
	r.found.list = append(r.found.list, o)
}

// Names notes an object of free names, if the node stands for one, while discovering.
func (r *Reader) Names(n ast.Node, value func(ast.Node)) {
	if _, ok := n.(*ast.MappingNode); ok {
		r.found.list = append(r.found.list, Shape{"type": "object", "additionalProperties": r.Discover(value)})
	}
}

// shapeOf is what a parser takes, as far as its error for what it does not take tells.
func shapeOf(err error) Shape {
	var m Mistake
	var f formed
	switch {
	case errors.As(err, &m) && m.choices != nil:
		return Shape{"enum": m.choices}
	case errors.As(err, &f):
		s := maps.Clone(scalar)
		s["pattern"] = `^\s*(` + f.form + `)\s*$`
		whole := regexp.MustCompile(`^(` + f.form + `)$`)
		switch {
		case f.most > 0:
			s["type"], s["minimum"], s["maximum"] = []string{"integer", "string"}, f.least, f.most
		case whole.MatchString("0") && !whole.MatchString("1"):
			s["type"], s["minimum"], s["maximum"] = []string{"integer", "string"}, 0, 0
		case !whole.MatchString("1"):
			s["type"] = "string"
		}
		return s
	}
	return scalar
}

// Like reads a text of a form, which its reader parses. A schema tells it.
func (r *Reader) Like(n ast.Node, what, form string, to *string) bool {
	if r.Discovering() {
		r.Takes(n, shapeOf(Form(errors.ErrUnsupported, form)))
		return false
	}
	return r.Text(n, what, to)
}

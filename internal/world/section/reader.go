package section

import (
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// Reader walks a YAML tree and gathers mistakes instead of stopping at one.
type Reader struct {
	Problems Problems
	Files    []File // that have to be there
	lines    []string
	found    *shapes // while discovering
}

// File is one that a text names, as it names it.
type File struct {
	At   ast.Node
	What string // that it is
	Name string
}

// New makes a reader of a file.
func New(name string, data []byte) *Reader {
	return &Reader{Problems: Problems{File: name},
		lines: strings.Split(strings.ReplaceAll(string(data), "\r\n", "\n"), "\n")}
}

// Key is one key that a mapping may have.
type Key struct {
	name string
	need bool // its absence is a mistake
	read func(n ast.Node)
}

// May is a key that may be left out.
func May(name string, read func(ast.Node)) Key { return Key{name: name, read: read} }

// Need is a key whose absence is a mistake.
func Need(name string, read func(ast.Node)) Key { return Key{name: name, need: true, read: read} }

// Name is how a file writes the key.
func (k Key) Name() string { return k.name }

// Tree parses a file into the node at its root, nil if there is none or the file
// is not YAML.
func (r *Reader) Tree(data []byte) ast.Node {
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
			r.Wrong(doc.Body, "a second document begins here", "a plan file holds one document")
		default:
			root = doc.Body
		}
	}
	if _, comment := root.(*ast.CommentGroupNode); root == nil || comment {
		r.At(1, 1, "the file is empty", `a plan begins with "service: NAME"; docs/plan.md has an example`)
		return nil
	}
	return root
}

// indentation finds the line whose indentation a mistake of syntax at a line is about, 0 if it is
// about something else: among the lines around it that belong together, the one that begins in
// another column than the others.
func (r *Reader) indentation(at int) (line int, what string) {
	if at < 1 || at > len(r.lines) {
		return 0, ""
	}
	blank := func(n int) bool {
		text := strings.TrimSpace(r.lines[n-1])
		return text == "" || strings.HasPrefix(text, "#")
	}
	// The block: back to the line that it stands below, on to the next one like that.
	own := spaces(r.lines[at-1])
	top := at - 1
	for top > 0 && (blank(top) || spaces(r.lines[top-1]) > 0) {
		top--
	}
	columns := map[int][]int{} // lines by their indentation
	for n := top + 1; n <= len(r.lines) && (blank(n) || spaces(r.lines[n-1]) > 0); n++ {
		if !blank(n) {
			columns[spaces(r.lines[n-1])] = append(columns[spaces(r.lines[n-1])], n)
		}
	}
	for _, column := range slices.Sorted(maps.Keys(columns)) {
		lines := columns[column]
		for _, other := range slices.Sorted(maps.Keys(columns)) {
			if d := other - column; (d == 1 || d == -1) && (column == own || other == own) {
				few := lines
				if len(columns[other]) < len(lines) || len(columns[other]) == len(lines) && other == own {
					few = columns[other]
				}
				return few[0], fmt.Sprintf("line %d begins in column %d, and what belongs to it in column %d", few[0],
					spaces(r.lines[few[0]-1])+1, column+other-spaces(r.lines[few[0]-1])+1)
			}
		}
	}
	return 0, ""
}

// spaces is how many spaces a line begins with.
func spaces(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }

// At records a mistake at a place.
func (r *Reader) At(line, column int, what, try string) {
	if r.Discovering() {
		return
	}
	p := Problem{Line: line, Column: column, What: what, Try: try}
	if line >= 1 && line <= len(r.lines) {
		p.Source = r.lines[line-1]
	}
	r.Problems.List = append(r.Problems.List, p)
}

// Wrong records a mistake at a node.
func (r *Reader) Wrong(n ast.Node, what, try string) {
	line, column := place(n)
	r.At(line, column, what, try)
}

// Refuse records an error about a node, with what would be right.
func (r *Reader) Refuse(n ast.Node, err error) {
	what, try := Explain(err)
	r.Wrong(n, what, try)
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

// Place is where a node begins.
func (r *Reader) Place(n ast.Node) (line, column int) { return place(n) }

// Mapping reads a mapping key by key. What it does not know is a mistake, and so
// is what it misses.
func (r *Reader) Mapping(n ast.Node, what string, keys ...Key) {
	if r.Discovering() {
		r.mapping(n, what, keys)
		return
	}
	var names []string
	byName := map[string]Key{}
	for _, k := range keys {
		byName[k.name] = k
		names = append(names, k.name)
	}
	entries, ok := r.Entries(n, what)
	if !ok {
		return
	}
	seen, meant := map[string]int{}, map[string]bool{}
	for _, e := range entries {
		name := Scalar(e.Key)
		k, known := byName[name]
		line, _ := place(e.Key)
		switch {
		case !known:
			try := "it can have: " + strings.Join(names, ", ")
			if near := Nearest(name, names); near != "" {
				try = fmt.Sprintf("did you mean %q?", near)
				meant[near] = true
			}
			r.Wrong(e.Key, fmt.Sprintf("%s has no key %q", what, name), try)
		case seen[name] > 0:
			r.Wrong(e.Key, fmt.Sprintf("%q stands here a second time", name),
				fmt.Sprintf("it stands in line %d already: keep one", seen[name]))
		default:
			seen[name] = line
			k.read(e.Value)
		}
	}
	for _, k := range keys {
		if k.need && seen[k.name] == 0 && !meant[k.name] {
			r.Wrong(n, fmt.Sprintf("%s needs %q", what, k.name), fmt.Sprintf("add a line %q", k.name+": ..."))
		}
	}
}

// Entries are a mapping's pairs.
func (r *Reader) Entries(n ast.Node, what string) ([]*ast.MappingValueNode, bool) {
	switch t := n.(type) {
	case *ast.MappingNode:
		return t.Values, true
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{t}, true
	}
	r.Wrong(n, what+" has to be a mapping of keys to values", `write "key: value" lines, indented below it`)
	return nil, false
}

// Named are the entries of a mapping from names, those whose names are good.
func (r *Reader) Named(n ast.Node, what string) iter.Seq2[string, *ast.MappingValueNode] {
	return func(yield func(string, *ast.MappingValueNode) bool) {
		if r.Discovering() {
			r.Names(n, func(value ast.Node) {
				yield("name", &ast.MappingValueNode{BaseNode: &ast.BaseNode{}, Key: stands()[2].(*ast.StringNode),
					Value: value})
			})
			return
		}
		entries, _ := r.Entries(n, what)
		for _, e := range entries {
			name, err := Word(Scalar(e.Key))
			if err != nil {
				r.Refuse(e.Key, err)
				continue
			}
			if !yield(name, e) {
				return
			}
		}
	}
}

// Strings reads a mapping of free names to texts.
func (r *Reader) Strings(n ast.Node, what string, to *map[string]string) {
	if r.Discovering() {
		r.Names(n, func(n ast.Node) { r.Takes(n, scalar) })
		return
	}
	entries, ok := r.Entries(n, what)
	if !ok {
		return
	}
	m := make(map[string]string, len(entries))
	for name, value := range *to {
		m[name] = value
	}
	for _, e := range entries {
		var text string
		if r.Text(e.Value, "a value of "+what, &text) {
			m[Scalar(e.Key)] = text
		}
	}
	*to = m
}

// List reads a sequence item by item.
func (r *Reader) List(n ast.Node, what string, read func(ast.Node)) {
	if _, list := n.(*ast.SequenceNode); list && r.Discovering() {
		r.found.list = append(r.found.list, Shape{"type": "array", "items": r.Discover(read)})
		return
	}
	seq, ok := n.(*ast.SequenceNode)
	if !ok {
		r.Wrong(n, what+" has to be a list", `write each item on a line of its own, behind "- "`)
		return
	}
	for _, v := range seq.Values {
		read(v)
	}
}

// Text reads a scalar as it is written.
func (r *Reader) Text(n ast.Node, what string, to *string) bool {
	if r.Discovering() {
		r.Takes(n, scalar)
		return false
	}
	switch n.(type) {
	case *ast.StringNode, *ast.LiteralNode, *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode,
		*ast.NanNode:
		*to = Scalar(n)
		return true
	case *ast.NullNode:
		r.Wrong(n, what+" is empty", "give it a value, or leave the whole line out")
	case *ast.AnchorNode, *ast.AliasNode, *ast.TagNode, *ast.MergeKeyNode:
		r.Wrong(n, "anchors, aliases and tags are not used in plans", "write the value itself")
	default:
		r.Wrong(n, what+" has to be a single value", "")
	}
	return false
}

// Parsed reads a scalar through a parser whose errors say what would be right.
func Parsed[T any](r *Reader, what string, to *T, parse func(string) (T, error)) func(ast.Node) {
	return func(n ast.Node) {
		var text string
		if r.Discovering() {
			_, err := parse("\x00")
			r.Takes(n, shapeOf(err))
			return
		}
		if !r.Text(n, what, &text) {
			return
		}
		value, err := parse(text)
		if err != nil {
			r.Refuse(n, err)
			return
		}
		*to = value
	}
}

// Mistake is an error with a remedy.
type Mistake struct {
	What, Try string
	choices   []string // all that would be right, nil if there are others
}

func (m Mistake) Error() string { return m.What + ": " + m.Try }

// Explain splits an error into what is wrong and what would be right.
func Explain(err error) (what, try string) {
	var m Mistake
	if errors.As(err, &m) {
		return m.What, m.Try
	}
	what, try, _ = strings.Cut(err.Error(), ": want ")
	if try != "" {
		try = "want " + try
	}
	return what, try
}

// Scalar is a scalar's text.
func Scalar(n ast.Node) string {
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

// Words reads a command: a line, or a list of its words.
func (r *Reader) Words(n ast.Node, what string, to *[]string) {
	*to = nil
	if _, list := n.(*ast.SequenceNode); !list {
		var line string
		if r.Text(n, what, &line) {
			*to = strings.Fields(line)
		}
		return
	}
	r.List(n, what, func(n ast.Node) {
		var word string
		if r.Text(n, "a word of "+what, &word) {
			*to = append(*to, word)
		}
	})
}

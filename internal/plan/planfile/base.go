package planfile

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/world/section"
)

// files are a plan's file, and the one that it shares with others, if it names one ("base"). The lines of that follow
// those of the plan, so that a place in either is one number.
type files struct {
	name, base string // files as they are called; base is "" without one
	data, more []byte
	lines      int // of the plan: what stands behind them is the base's
}

// own are keys that each plan says itself: by accident two would share what must be one's.
var own = []string{"base", "service", "state", "secrets"}

// byName are mappings in which what the plan says of a name is all that is said of it.
var byName = []string{"guards", "hooks"}

// newFiles is a plan's text, with its base read. blank, which may be nil, empties what is not wanted.
func newFiles(name string, data []byte, blank func([]byte) []byte) (files, error) {
	if blank == nil {
		blank = func(data []byte) []byte { return data }
	}
	s := files{name: name, data: blank(bytes.TrimPrefix(data, []byte("\ufeff")))}
	s.lines = bytes.Count(s.data, []byte("\n")) + 1
	base, line := baseOf(s.data)
	if base == "" {
		return s, nil
	}
	s.base = within(filepath.Dir(name), base)
	more, err := []byte(nil), error(nil)
	if info, errStat := os.Stat(s.base); errStat != nil {
		err = errStat
	} else if !info.Mode().IsRegular() || info.Size() > largest {
		err = fmt.Errorf("%s is no file of a plan's size", s.base)
	} else {
		more, err = os.ReadFile(s.base)
	}
	if err != nil {
		return s, section.Problems{File: name, List: []section.Problem{{Line: line, Column: 1,
			What: fmt.Sprintf("the base cannot be read: %v", err), Try: "its name begins at the plan's folder"}}}
	}
	s.more = blank(bytes.TrimPrefix(more, []byte("\ufeff")))
	return s, nil
}

// baseOf is the base that a plan names, and the line; "" if it names none.
func baseOf(data []byte) (name string, line int) {
	for text := range bytes.Lines(data) {
		line++
		if m := topKey.FindSubmatchIndex(text); m != nil && string(text[m[2]:m[3]]) == "base" {
			value, _, _ := strings.Cut(string(text[m[1]:]), " #")
			return strings.Trim(strings.TrimSpace(value), `"'`), line
		}
	}
	return "", 0
}

// text is the lines of both.
func (s files) text() []byte {
	if s.base == "" {
		return s.data
	}
	return slices.Concat(s.data, []byte("\n"), s.more)
}

// below is the base with its lines where they are behind the plan's.
func (s files) below() []byte { return append(bytes.Repeat([]byte("\n"), s.lines), s.more...) }

// place is the file of a line, and its number there.
func (s files) place(line int) (file string, at int) {
	if s.base != "" && line > s.lines {
		return s.base, line - s.lines
	}
	return s.name, line
}

// tree is what both say together, nil if either cannot be read.
func (s files) tree(r *reader) ast.Node {
	if r.tabs(s.data, 0) {
		return nil
	}
	root := r.Tree(s.data)
	if len(bytes.TrimSpace(s.more)) == 0 || root == nil {
		return root
	}
	if r.tabs(s.more, s.lines) {
		return nil
	}
	under := r.Tree(s.below())
	if under == nil {
		return nil
	}
	entries, ok := r.Entries(under, "a base")
	if !ok {
		return nil
	}
	for _, e := range entries {
		if name := section.Scalar(e.Key); slices.Contains(own, name) {
			r.Wrong(e.Key, fmt.Sprintf("a base has no %q", name), "each plan says that itself")
		}
	}
	return merged(root, under, nil)
}

// merged is a mapping with what another says besides: what the first says wins, in all mappings within as well.
// Lists are one value.
func merged(over, under ast.Node, path []string) ast.Node {
	mine, ok := entriesOf(over)
	theirs, okUnder := entriesOf(under)
	if !ok || !okUnder {
		return over
	}
	if len(path) > 1 && slices.Contains(byName, path[0]) {
		return over
	}
	both, said := ast.Mapping(over.GetToken(), false), map[string]bool{}
	for _, e := range mine {
		name := section.Scalar(e.Key)
		said[name] = true
		for _, t := range theirs {
			if section.Scalar(t.Key) == name {
				e = &ast.MappingValueNode{BaseNode: &ast.BaseNode{}, Start: e.Start, Key: e.Key,
					Value: merged(e.Value, t.Value, append(slices.Clone(path), name))}
			}
		}
		both.Values = append(both.Values, e)
	}
	for _, t := range theirs {
		if !said[section.Scalar(t.Key)] {
			both.Values = append(both.Values, t)
		}
	}
	return both
}

func entriesOf(n ast.Node) ([]*ast.MappingValueNode, bool) {
	switch t := n.(type) {
	case *ast.MappingNode:
		return t.Values, true
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{t}, true
	}
	return nil, false
}

// IsPlan reports whether a file says a service, as a plan does and a base does not.
func IsPlan(file string) (bool, error) { return Says(file, "service") }

// Says reports whether a file has a key of its own, and not in a section.
func Says(file, key string) (bool, error) {
	data, err := os.ReadFile(file)
	for line := range bytes.Lines(data) {
		if m := topKey.FindSubmatch(line); m != nil && string(m[1]) == key {
			return true, nil
		}
	}
	return false, err
}

// Whole is a plan with what its base says, each value with the file and the line that it comes from. The plan has
// to be a good one.
func Whole(file string) (string, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return "", err
	}
	if _, err := Parse(file, data); err != nil {
		return "", err
	}
	s, err := newFiles(file, data, nil)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	s.write(&b, s.tree(newReader(file, s.text())), "")
	return b.String(), nil
}

// write writes a mapping.
func (s files) write(b *strings.Builder, n ast.Node, indent string) {
	entries, _ := entriesOf(n)
	for _, e := range entries {
		name := section.Scalar(e.Key)
		if list, ok := entriesOf(e.Value); ok && len(list) > 0 {
			fmt.Fprintf(b, "%s%s:\n", indent, name)
			s.write(b, e.Value, indent+"  ")
			continue
		}
		file, line := s.place(e.Key.GetToken().Position.Line)
		from := fmt.Sprintf("# %s:%d", filepath.Base(file), line)
		lines := strings.Split(strings.TrimRight(text(e.Value), "\n"), "\n")
		if _, list := e.Value.(*ast.SequenceNode); !list && len(lines) == 1 {
			fmt.Fprintf(b, "%s%s: %s   %s\n", indent, name, lines[0], from)
			continue
		}
		fmt.Fprintf(b, "%s%s:   %s\n", indent, name, from)
		for _, l := range lines {
			fmt.Fprintf(b, "%s  %s\n", indent, l)
		}
	}
}

// text is a value as it stands in its file, as far from the left as its first line is.
func text(n ast.Node) string {
	if n == nil {
		return ""
	}
	lines := strings.Split(n.String(), "\n")
	least := -1
	for _, l := range lines {
		if strings.TrimSpace(l) != "" && (least < 0 || spaces(l) < least) {
			least = spaces(l)
		}
	}
	for k, l := range lines {
		lines[k] = l[min(max(least, 0), len(l)):]
	}
	return strings.Join(lines, "\n")
}

func spaces(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }

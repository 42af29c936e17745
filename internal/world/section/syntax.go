package section

import (
	"errors"
	"regexp"
	"strings"

	"github.com/goccy/go-yaml"
)

// syntax records what makes a file no YAML, in words about the file: the parser's are about the parser.
func (r *Reader) syntax(err error) {
	var syntax *yaml.SyntaxError
	if !errors.As(err, &syntax) || syntax.Token == nil {
		r.At(1, 1, "not YAML: "+err.Error(), "")
		return
	}
	const rest = "; the rest of the file was not looked at"
	if line, column := r.find('\u00a0'); line > 0 {
		r.At(line, column, "a non-breaking space stands here", "type a plain space in its place"+rest)
		return
	}
	p := syntax.Token.Position
	if line, what := r.indentation(p.Line); line > 0 {
		r.At(line, 1+spaces(r.lines[line-1]), "not YAML: "+what,
			"let the keys of one mapping, and the items of one list, begin in the same column"+rest)
		return
	}
	message := syntax.Message
	has := func(parts ...string) bool {
		for _, part := range parts {
			if strings.Contains(message, part) {
				return true
			}
		}
		return false
	}
	switch {
	case has("must be specified", "flow sequence", "flow mapping", "unclosed", "could not find flow"):
		if line, column, bracket := r.unclosed(p.Line); line > 0 {
			closes := map[rune]string{'[': "]", '{': "}"}[bracket]
			r.At(line, column, "the "+string(bracket)+" here is not closed", "add the "+closes+" that belongs to it"+rest)
			return
		}
		if at := inner.FindStringSubmatchIndex(r.line(p.Line)); at != nil {
			r.At(p.Line, 1+len([]rune(r.line(p.Line)[:at[2]])), "within { } a { in a text without quotes begins a mapping of its own",
				"put the text in quotes, or write the keys in lines of their own"+rest)
			return
		}
	case has("end character of"):
		r.At(p.Line, p.Column, "the text that is quoted from here on does not end", "add the quote at its end"+rest)
		return
	case has("unexpected key name", "non-map value", "map key-value is pre-defined", "required ':'",
		"could not find the value"):
		r.At(p.Line, p.Column, "there is no \": \" in this line", "write \"key: value\", with a space after the colon"+rest)
		return
	case has("mapping value is not allowed", "value is not allowed in this context"):
		r.At(p.Line, p.Column, "what follows does not belong here: either it is indented too far, or a text has a \": \" in it",
			"begin it in the column of its neighbours, or put the text in quotes"+rest)
		return
	case has("reserved character"):
		r.At(p.Line, p.Column, "a text cannot begin with this sign", "put it in quotes"+rest)
		return
	case has("could not find alias", "anchor"):
		r.At(p.Line, p.Column, "a text that begins with & or * has a meaning of its own in YAML", "put it in quotes"+rest)
		return
	}
	r.At(p.Line, p.Column, "not YAML: "+message, strings.TrimPrefix(rest, "; "))
}

// inner is a placeholder behind a text that is not in quotes.
var inner = regexp.MustCompile(`[^\s"',:{\[] ?(\{)[a-z-]+\}`)

// line is a line of the file, "" if it has not so many.
func (r *Reader) line(n int) string {
	if n < 1 || n > len(r.lines) {
		return ""
	}
	return r.lines[n-1]
}

// find is where a sign stands first outside of comments, line 0 if nowhere.
func (r *Reader) find(sign rune) (line, column int) {
	for n, text := range r.lines {
		text, _, _ = strings.Cut(text, " #")
		if strings.HasPrefix(text, "#") {
			continue
		}
		if at := strings.IndexRune(text, sign); at >= 0 {
			return n + 1, len([]rune(text[:at])) + 1
		}
	}
	return 0, 0
}

// unclosed is the last bracket that opens at or before a line and is not closed by then, line 0 if all are.
func (r *Reader) unclosed(at int) (line, column int, bracket rune) {
	type place struct {
		line, column int
		bracket      rune
	}
	var open []place
	quote := rune(0)
lines:
	for n, text := range r.lines[:min(at, len(r.lines))] {
		before := ' '
		for c, sign := range []rune(text) {
			switch {
			case quote != 0:
				if sign == quote {
					quote = 0
				}
			case sign == '#' && before == ' ':
				continue lines // a comment
			case sign == '"' || sign == '\'':
				quote = sign
			case sign == '[' || sign == '{':
				open = append(open, place{n + 1, c + 1, sign})
			case (sign == ']' || sign == '}') && len(open) > 0:
				open = open[:len(open)-1]
			}
			before = sign
		}
	}
	if len(open) == 0 {
		return 0, 0, 0
	}
	last := open[len(open)-1]
	return last.line, last.column, last.bracket
}

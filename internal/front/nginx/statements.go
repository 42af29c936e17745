package nginx

import (
	"path/filepath"
	"slices"
	"strings"
)

// statement is one of a configuration: its words, those within its braces, and where it stands.
type statement struct {
	words  []string
	within []statement
	block  bool // it has braces

	file     string
	from, to int // bytes: of its first word, and behind its semicolon or closing brace
	begin    int // of a block: behind its opening brace
}

// is reports whether a statement is one of a name, with at least so many words behind it.
func (s statement) is(name string, words int) bool {
	return len(s.words) > words && s.words[0] == name
}

// scanner reads statements. Quotes and comments are nginx's.
type scanner struct {
	file, text string
	at         int
}

// parse reads the statements of a file.
func parse(file, text string) []statement {
	s := scanner{file: file, text: text}
	return s.statements()
}

// statements reads up to a closing brace or the end.
func (s *scanner) statements() (list []statement) {
	var words []string
	from := 0
	for {
		word, quoted, at := s.next()
		switch {
		case word == "" && !quoted:
			return list
		case !quoted && word == ";":
			if len(words) > 0 {
				list = append(list, statement{words: words, file: s.file, from: from, to: s.at})
			}
			words = nil
		case !quoted && word == "{":
			of := statement{words: words, block: true, file: s.file, from: from, begin: s.at}
			of.within = s.statements()
			of.to = s.at
			list, words = append(list, of), nil
		case !quoted && word == "}":
			return list
		default:
			if len(words) == 0 {
				from = at
			}
			words = append(words, word)
		}
	}
}

// next is the next word and where it begins, "" at the end.
func (s *scanner) next() (word string, quoted bool, at int) {
	for {
		rest := strings.TrimLeft(s.text[s.at:], " \t\r\n")
		s.at = len(s.text) - len(rest)
		if !strings.HasPrefix(rest, "#") {
			break
		}
		line, _, _ := strings.Cut(rest, "\n")
		s.at = min(s.at+len(line)+1, len(s.text))
	}
	text, at := s.text[s.at:], s.at
	switch {
	case text == "":
		return "", false, at
	case strings.ContainsRune(";{}", rune(text[0])):
		s.at++
		return text[:1], false, at
	case text[0] == '"' || text[0] == '\'':
		end := 1
		for end < len(text) && text[end] != text[0] {
			if text[end] == '\\' {
				end++
			}
			end++
		}
		end = min(end, len(text))
		s.at += min(end+1, len(text))
		return text[1:end], true, at
	}
	end := 0
	for end < len(text) && !strings.ContainsRune(" \t\r\n;", rune(text[end])) {
		if text[end] == '{' && (end == 0 || text[end-1] != '$') ||
			text[end] == '}' && !strings.Contains(text[:end], "${") {
			break
		}
		end++
	}
	s.at += end
	return text[:end], false, at
}

// whole is a configuration with what its files include in the place of the includes.
func whole(names []string, texts map[string]string) []statement {
	if len(names) == 0 {
		return nil
	}
	base := filepath.Dir(names[0])
	var fill func(list []statement, path []string) []statement
	fill = func(list []statement, path []string) (filled []statement) {
		for _, s := range list {
			if !s.is("include", 1) || s.block {
				s.within = fill(s.within, path)
				filled = append(filled, s)
				continue
			}
			pattern := s.words[1]
			if !filepath.IsAbs(pattern) {
				pattern = filepath.Join(base, pattern)
			}
			for _, name := range slices.Sorted(slices.Values(names)) {
				if ok, _ := filepath.Match(pattern, name); (ok || name == pattern) && !slices.Contains(path, name) {
					filled = append(filled, fill(parse(name, texts[name]), append(slices.Clone(path), name))...)
				}
			}
		}
		return filled
	}
	return fill(parse(names[0], texts[names[0]]), names[:1])
}

// each calls back with every statement of a name, and with those that it is within, the innermost last.
func each(list []statement, name string, do func(s statement, within []statement)) {
	var walk func(list, above []statement)
	walk = func(list, above []statement) {
		for _, s := range list {
			if len(s.words) > 0 && s.words[0] == name {
				do(s, above)
			}
			if s.within != nil {
				walk(s.within, append(above[:len(above):len(above)], s))
			}
		}
	}
	walk(list, nil)
}

// first is what stands behind the first word of the first statement of a name in some, nil if none does.
func first(list []statement, name string) []string {
	for _, s := range list {
		if s.is(name, 1) {
			return s.words[1:]
		}
	}
	return nil
}

// inherited are the statements of a name that hold within some blocks: those of the innermost that has any. Others
// are not added to them. own says that it is the innermost of all.
func inherited(list []statement, within []statement, name string) (of []statement, own bool) {
	blocks := append([]statement{{within: list}}, within...)
	for n, b := range slices.Backward(blocks) {
		for _, s := range b.within {
			if s.is(name, 1) {
				of = append(of, s)
			}
		}
		if of != nil {
			return of, n == len(blocks)-1
		}
	}
	return nil, false
}

package secret

import (
	"html"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// layer is a text with some of its escapings undone. What stands from at[n] to at[n+1] of the text as it came is now
// the byte n; several bytes that came of one escape have the same beginning.
type layer struct {
	text string
	at   []int // one more than bytes
}

// span is where the bytes from one to another of a layer stand in the text as it came.
func (l layer) span(from, to int) (int, int) {
	begin := l.at[from]
	for to < len(l.text) && l.at[to] == l.at[to-1] {
		to++ // the rest of an escape
	}
	return begin, l.at[to]
}

// deepest is how many escapings around one another are undone: JSON in JSON in a shell's quotes.
const deepest = 3

// layers are a text as it is, and with its escapings undone: each that there is, and what is under it.
func layers(text string) []layer {
	first := layer{text, make([]int, len(text)+1)}
	for n := range first.at {
		first.at[n] = n
	}
	all := []layer{first}
	for from, deep := 0, 0; deep < deepest; deep++ {
		until := len(all)
		for ; from < until; from++ {
			for _, e := range escapings {
				next, undone := e.undo(all[from])
				if undone && !slices.ContainsFunc(all, func(l layer) bool { return l.text == next.text }) {
					all = append(all, next)
				}
			}
		}
	}
	return all
}

// escaping is a way in which programs write characters that mean something to them.
type escaping struct {
	marks string // no text without one of them has it
	// read gives what a text begins with in another form, and how long that form is; 0 if it begins with none. before
	// is what stands before it.
	read func(before, text string) (string, int)
}

var escapings = []escaping{
	{`\`, backslashed}, {"%+", percented}, {"&", entity}, {`'"`, quoted}, {"\n", broken},
}

// undo undoes it once, from the left.
func (e escaping) undo(l layer) (layer, bool) {
	if !strings.ContainsAny(l.text, e.marks) {
		return l, false
	}
	var b strings.Builder
	at := make([]int, 0, len(l.at))
	undone := false
	for n := 0; n < len(l.text); {
		plain, long := l.text[n:n+1], 1
		if strings.IndexByte(e.marks, l.text[n]) >= 0 || e.marks == "\n" && l.text[n] == '\r' {
			if read, size := e.read(l.text[:n], l.text[n:]); size > 0 {
				plain, long, undone = read, size, true
			}
		}
		for range len(plain) {
			at = append(at, l.at[n])
		}
		b.WriteString(plain)
		n += long
	}
	return layer{b.String(), append(at, l.at[len(l.text)])}, undone
}

// backslashed reads the escapes of JSON, C, Go, shells and their like.
func backslashed(_, text string) (string, int) {
	if len(text) < 2 {
		return "", 0
	}
	if plain, ok := letters[text[1]]; ok {
		return plain, 2
	}
	switch text[1] {
	case 'x':
		if n, ok := digits(text[2:], 2, 16); ok {
			return string([]byte{byte(n)}), 4
		}
	case 'u':
		if inner, _, ok := strings.Cut(text[2:], "}"); ok && strings.HasPrefix(inner, "{") && len(inner) <= 7 {
			if n, ok := digits(inner[1:], len(inner)-1, 16); ok {
				return string(rune(n)), len(inner) + 3
			}
		}
		return units(text, `\u`)
	case 'U':
		if n, ok := digits(text[2:], 8, 16); ok {
			return string(rune(n)), 10
		}
	case '0', '1', '2', '3', '4', '5', '6', '7':
		for long := 3; long > 0; long-- {
			if n, ok := digits(text[1:], long, 8); ok {
				return string([]byte{byte(n)}), 1 + long
			}
		}
	}
	_, size := utf8.DecodeRuneInString(text[1:])
	return text[1 : 1+size], 1 + size
}

var letters = map[byte]string{'n': "\n", 't': "\t", 'r': "\r", 'b': "\b", 'f': "\f", 'v': "\v", 'a': "\a", 'e': "\x1b"}

// percented reads what is encoded for a URL, also as forms and old scripts have it.
func percented(_, text string) (string, int) {
	if text[0] == '+' {
		return " ", 1
	}
	if plain, size := units(text, "%u"); size > 0 {
		return plain, size
	}
	if n, ok := digits(text[1:], 2, 16); ok {
		return string([]byte{byte(n)}), 3
	}
	return "", 0
}

// units reads a character of one or two units of UTF-16, each behind a mark.
func units(text, mark string) (string, int) {
	if !strings.HasPrefix(text, mark) {
		return "", 0
	}
	size := len(mark) + 4
	one, ok := digits(text[len(mark):], 4, 16)
	if !ok {
		return "", 0
	}
	if utf16.IsSurrogate(rune(one)) && len(text) > size && strings.HasPrefix(text[size:], mark) {
		if two, ok := digits(text[size+len(mark):], 4, 16); ok {
			return string(utf16.DecodeRune(rune(one), rune(two))), 2 * size
		}
	}
	return string(rune(one)), size
}

// entity reads a character of HTML or XML.
func entity(_, text string) (string, int) {
	long := 1
	for long < len(text) && long < 32 && (text[long] == '#' || isCode(text[long])) {
		long++
	}
	if long < len(text) && text[long] == ';' {
		long++
	}
	if plain := html.UnescapeString(text[:long]); plain != text[:long] {
		return plain, long
	}
	return "", 0
}

// quoted reads a quote within quotes, as shells, databases and tables have it.
func quoted(_, text string) (string, int) {
	for _, q := range []struct{ text, plain string }{{`'\''`, "'"}, {`'"'"'`, "'"}, {`"'"'"`, `"`}, {`''`, "'"},
		{`""`, `"`}} {
		if strings.HasPrefix(text, q.text) {
			return q.plain, len(q.text)
		}
	}
	return "", 0
}

// fullLine is how long a line at least is that was broken because it was full.
const fullLine = 40

// broken reads the end of a full line, as base64 is broken into lines.
func broken(before, text string) (string, int) {
	rest := strings.TrimLeft(text, " \t\r\n")
	long := len(text) - len(rest)
	if len(before) < fullLine || rest == "" || !isCode(rest[0]) || strings.Count(text[:long], "\n") != 1 {
		return "", 0
	}
	for _, c := range []byte(before[len(before)-fullLine:]) {
		if !isCode(c) {
			return "", 0
		}
	}
	return "", long
}

// digits reads so many digits of a base.
func digits(text string, long, base int) (uint64, bool) {
	if len(text) < long || long == 0 || text[0] == '+' || text[0] == '-' {
		return 0, false
	}
	n, err := strconv.ParseUint(text[:long], base, 32)
	return n, err == nil
}

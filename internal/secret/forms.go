package secret

import (
	"cmp"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"html"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// The shortest values that are taken out of texts: shorter ones would be found in
// everything. Lines of a secret with several have to be longer, because such lines as "}"
// belong to nobody.
const (
	shortest     = 3
	shortestLine = 6
	shortestCode = 4  // of what is certain in base64
	longestCode  = 16 // that is needed to know a base64 text again
)

// form is one way in which a secret can stand in a text.
type form struct{ text, shown string }

// forms are all ways in which the secrets of a plan can stand in a text.
type forms struct {
	plain   []form            // the longest first, so that a part of one does not leave the rest of it
	replace *strings.Replacer // of plain
	codes   map[string]string // texts of base64 that only a secret can have led to, and whose they are
	lengths []int             // of codes
	begins  [256][128]bool    // the first two characters of codes
}

func newForms(byName map[string]string, shortest int) *forms {
	f := &forms{codes: map[string]string{}}
	seen := map[string]bool{}
	for _, name := range slices.Sorted(maps.Keys(byName)) {
		shown := "(secret " + name + ")"
		for _, part := range parts(byName[name]) {
			for _, text := range written(part) {
				if len(text) >= shortest && !seen[text] {
					seen[text] = true
					f.plain = append(f.plain, form{text, shown})
				}
			}
		}
		if len(byName[name]) >= shortest {
			f.addCodes(byName[name], shown)
		}
	}
	slices.SortFunc(f.plain, func(a, b form) int {
		return cmp.Or(len(b.text)-len(a.text), cmp.Compare(a.text, b.text))
	})
	pairs := make([]string, 0, 2*len(f.plain))
	for _, p := range f.plain {
		pairs = append(pairs, p.text, p.shown)
	}
	f.replace = strings.NewReplacer(pairs...)
	for code := range f.codes {
		f.begins[code[0]][code[1]] = true
		if !slices.Contains(f.lengths, len(code)) {
			f.lengths = append(f.lengths, len(code))
		}
	}
	return f
}

// parts are a secret as a whole, on one line, and line by line.
func parts(value string) []string {
	list := []string{value, strings.Join(strings.Fields(value), " ")}
	if !strings.Contains(value, "\n") {
		return list
	}
	list = append(list, strings.ReplaceAll(value, "\r\n", "\n"), strings.ReplaceAll(value, "\n", "\r\n"))
	for line := range strings.Lines(value) {
		// The frame of a key is the same for all keys.
		if line = strings.TrimSpace(line); len(line) >= shortestLine && !strings.HasPrefix(line, "-----") {
			list = append(list, line)
		}
	}
	return list
}

// written are the ways in which programs write a text.
func written(text string) []string {
	list := []string{
		text, url.PathEscape(text), url.QueryEscape(text), InURL(text), strings.ReplaceAll(url.QueryEscape(text), "+", "%20"),
		inner(strconv.Quote(text)), inner(strconv.QuoteToASCII(text)), html.EscapeString(text),
		strings.ReplaceAll(html.EscapeString(text), "&#34;", "&quot;"),
		strings.ReplaceAll(text, `'`, `''`), strings.ReplaceAll(text, `'`, `'\''`), strings.ReplaceAll(text, `'`, `'"'"'`),
		hex.EncodeToString([]byte(text)), strings.ToUpper(hex.EncodeToString([]byte(text))),
	}
	if data, err := json.Marshal(text); err == nil {
		list = append(list, inner(string(data)), strings.ReplaceAll(inner(string(data)), "/", `\/`))
	}
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if e.Encode(text) == nil {
		plain := inner(strings.TrimSuffix(b.String(), "\n"))
		list = append(list, plain, strings.ReplaceAll(plain, "/", `\/`), ascii(plain))
	}
	for _, t := range list {
		if strings.Contains(t, "%") {
			list = append(list, lowerHex(t))
		}
	}
	return list
}

// inner is a quoted text without its quotes.
func inner(quoted string) string { return quoted[1 : len(quoted)-1] }

// ascii writes what is not ASCII as JSON's \u escapes.
func ascii(text string) string {
	quoted := inner(strconv.QuoteToASCII(text))
	return strings.ReplaceAll(strings.ReplaceAll(quoted, `\\`, `\`), `\"`, `"`)
}

// lowerHex writes the digits of percent-encoding small.
func lowerHex(text string) string {
	b := []byte(text)
	for n := 0; n+2 < len(b); n++ {
		if b[n] == '%' {
			copy(b[n+1:], strings.ToLower(string(b[n+1:n+3])))
		}
	}
	return string(b)
}

// addCodes adds what a secret certainly leads to in base64 (RFC 4648), wherever in a
// longer text it begins: the characters at either end, which depend on what stands
// beside it, are left out. Long ones are known again by any piece.
func (f *forms) addCodes(value, shown string) {
	for before := range 3 {
		text := base64.RawStdEncoding.EncodeToString(append(make([]byte, before), value...))
		from, to := (before*8+5)/6, (before+len(value))*8/6
		if to-from < shortestCode {
			continue
		}
		code := text[from:to]
		n := min(len(code), longestCode)
		for at := 0; at+n <= len(code); at++ {
			f.codes[code[at:at+n]] = shown
		}
	}
}

func (f *forms) hide(text string) string { return f.hideCodes(f.replace.Replace(text)) }

// hideCodes takes out every run of base64 that a secret had a part in, in either alphabet.
func (f *forms) hideCodes(text string) string {
	if len(f.codes) == 0 {
		return text
	}
	var b strings.Builder
	written := 0
	for at := 0; at < len(text); {
		end := at
		for end < len(text) && isCode(text[end]) {
			end++
		}
		if shown := f.codeIn(text[at:end]); shown != "" {
			for end < len(text) && text[end] == '=' {
				end++
			}
			b.WriteString(text[written:at])
			b.WriteString(shown)
			written = end
		}
		at = max(end, at+1)
	}
	if written == 0 {
		return text
	}
	return b.String() + text[written:]
}

func isCode(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '+' || c == '/' || c == '-' || c == '_'
}

// codeIn says which secret had a part in a run of base64, "" for none.
func (f *forms) codeIn(run string) string {
	if len(run) < shortestCode {
		return ""
	}
	if strings.ContainsAny(run, "-_") {
		run = strings.NewReplacer("-", "+", "_", "/").Replace(run)
	}
	for at := 0; at+shortestCode <= len(run); at++ {
		if !f.begins[run[at]][run[at+1]&127] {
			continue // most places
		}
		for _, n := range f.lengths {
			if at+n > len(run) {
				continue
			}
			if shown, ok := f.codes[run[at:at+n]]; ok {
				return shown
			}
		}
	}
	return ""
}

// hideEdges takes out the end of a secret at the beginning of a text, and the beginning of
// one at its end.
func (f *forms) hideEdges(text string) string {
	most, shown := 0, ""
	for _, p := range f.plain {
		for n := min(len(p.text)-1, len(text)); n >= shortest && n > most; n-- {
			if strings.HasPrefix(text, p.text[len(p.text)-n:]) {
				most, shown = n, p.shown
			}
		}
	}
	text = shown + text[most:]
	most, shown = 0, ""
	for _, p := range f.plain {
		for n := min(len(p.text)-1, len(text)); n >= shortest && n > most; n-- {
			if strings.HasSuffix(text, p.text[:n]) {
				most, shown = n, p.shown
			}
		}
	}
	return text[:len(text)-most] + shown
}

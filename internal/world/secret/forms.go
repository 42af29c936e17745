package secret

import (
	"cmp"
	"encoding/base64"
	"encoding/hex"
	"maps"
	"slices"
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

// form is one way in which a secret can stand in a text whose escapings are undone.
type form struct{ text, shown string }

// forms are all ways in which the secrets of a plan can stand in such a text. Who wrote the text is not asked: the
// escapings of the text are undone, and what is under them is compared.
type forms struct {
	plain   []form            // the longest first
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
			f.addCodes(byName[name], shown, codesWithin)
		}
	}
	slices.SortFunc(f.plain, func(a, b form) int {
		return cmp.Or(len(b.text)-len(a.text), cmp.Compare(a.text, b.text))
	})
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

// written are a secret in hexadecimal digits, and as it is, also where something in it looks like an escape and is
// taken for one.
func written(text string) []string {
	digits := hex.EncodeToString([]byte(text))
	list := []string{digits, strings.ToUpper(digits)}
	for _, l := range layers(text) {
		if 2*len(l.text) >= len(text) {
			list = append(list, l.text)
		}
	}
	return list
}

// codesWithin is how often base64 is looked for within base64.
const codesWithin = 1

// addCodes adds what a secret certainly leads to in base64 (RFC 4648), wherever in a
// longer text it begins: the characters at either end, which depend on what stands
// beside it, are left out. Long ones are known again by any piece. within is how often that is encoded once more.
func (f *forms) addCodes(value, shown string, within int) {
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
		if within > 0 && len(code) >= 2*shortestCode {
			f.addCodes(code, shown, within-1)
			if other := urlCode.Replace(code); other != code {
				f.addCodes(other, shown, within-1)
			}
		}
	}
}

var urlCode = strings.NewReplacer("+", "-", "/", "_")

// found is where a secret stands in a text.
type found struct {
	from, to int
	shown    string
}

// find finds the secrets of a text under all its escapings, in order and apart from one another.
func (f *forms) find(text string) []found {
	var list []found
	for _, l := range layers(text) {
		add := func(from, to int, shown string) {
			from, to = l.span(from, to)
			list = append(list, found{from, to, shown})
		}
		for _, p := range f.plain {
			for at := 0; ; {
				n := strings.Index(l.text[at:], p.text)
				if n < 0 {
					break
				}
				add(at+n, at+n+len(p.text), p.shown)
				at += n + len(p.text)
			}
		}
		f.findCodes(l.text, add)
	}
	slices.SortStableFunc(list, func(a, b found) int { return cmp.Or(a.from-b.from, b.to-a.to) })
	return list
}

func (f *forms) hide(text string) string { return without(text, f.find(text)) }

// without is a text without what was found in it.
func without(text string, list []found) string {
	if len(list) == 0 {
		return text
	}
	var b strings.Builder
	end := 0
	for _, m := range list {
		if m.from >= end {
			b.WriteString(text[end:m.from])
			b.WriteString(m.shown)
		}
		end = max(end, m.to)
	}
	return b.String() + text[end:]
}

// findCodes finds every run of base64 that a secret had a part in, in either alphabet.
func (f *forms) findCodes(text string, add func(from, to int, shown string)) {
	if len(f.codes) == 0 {
		return
	}
	for at := 0; at < len(text); {
		end := at
		for end < len(text) && isCode(text[end]) {
			end++
		}
		if shown := f.codeIn(text[at:end]); shown != "" {
			for end < len(text) && text[end] == '=' {
				end++
			}
			add(at, end, shown)
		}
		at = max(end, at+1)
	}
}

func isCode(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '+' || c == '/' || c == '-' ||
		c == '_'
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
// one at its end. What an escape that was cut leaves there goes with it.
func (f *forms) hideEdges(text string) string {
	head, tail := found{}, found{from: len(text), to: len(text)}
	for _, l := range layers(text) {
		for cut := 0; cut <= longestCut && cut < len(l.text) &&
			(cut == 0 || strings.IndexByte(ofEscapes, l.text[cut-1]) >= 0); cut++ {
			for _, p := range f.plain {
				for n := min(len(p.text)-1, len(l.text)-cut); n >= shortest; n-- {
					if strings.HasPrefix(l.text[cut:], p.text[len(p.text)-n:]) {
						if _, to := l.span(0, cut+n); to > head.to {
							head = found{0, to, p.shown}
						}
						break
					}
				}
			}
		}
		for cut := 0; cut <= longestCut && cut < len(l.text) &&
			(cut == 0 || strings.IndexByte(ofEscapes, l.text[len(l.text)-cut]) >= 0); cut++ {
			for _, p := range f.plain {
				for n := min(len(p.text)-1, len(l.text)-cut); n >= shortest; n-- {
					if strings.HasSuffix(l.text[:len(l.text)-cut], p.text[:n]) {
						if from, _ := l.span(len(l.text)-cut-n, len(l.text)); from < tail.from {
							tail = found{from, len(text), p.shown}
						}
						break
					}
				}
			}
		}
	}
	var list []found
	for _, m := range []found{head, tail} {
		if m.to > m.from {
			list = append(list, m)
		}
	}
	return without(text, list)
}

// What an escape that was cut can leave at most, and of which characters.
const (
	longestCut = 6
	ofEscapes  = `\%&#;ux{}0123456789abcdefABCDEF`
)

package difference

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// The words in names of values that are secrets: PGPASSWORD, apiKey, db.auth.token.
var (
	secretWords = []string{
		"pass", "pw", "pwd", "pgpass", "pgpassfile", "passfile", "key", "keys", "apikey", "secretkey", "accesskey",
		"auth", "authorization", "bearer",
		"cred", "creds", "dsn", "cookie", "salt", "private",
	}
	secretParts = []string{"passw", "passphrase", "secret", "token", "credential", "requirepass", "masterauth"}
)

// Sensitive reports whether a name is one of a secret's by what it is called.
func Sensitive(name string) bool {
	for _, word := range nameWords(name) {
		if slices.Contains(secretWords, word) ||
			slices.ContainsFunc(secretParts, func(part string) bool { return strings.Contains(word, part) }) {
			return true
		}
	}
	return false
}

// nameWords are the words of a name in small letters: of "dbAuth.API_KEY" db, auth, api
// and key.
func nameWords(name string) []string {
	var words []string
	var word strings.Builder
	end := func() {
		if word.Len() > 0 {
			words = append(words, strings.ToLower(word.String()))
			word.Reset()
		}
	}
	runes := []rune(name)
	for n, r := range runes {
		letter := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
		upper := r >= 'A' && r <= 'Z'
		if !letter {
			end()
			continue
		}
		if upper && n > 0 && (runes[n-1] >= 'a' && runes[n-1] <= 'z' ||
			n+1 < len(runes) && runes[n+1] >= 'a' && runes[n+1] <= 'z') {
			end()
		}
		word.WriteRune(r)
	}
	end()
	return words
}

// Mask hides what is secret in texts by where it stands: passwords in URLs, values of
// options and settings whose names say it, private keys. The same value is the same
// "(hidden 1)" everywhere, so that what differs can be told without being shown. The zero
// value is ready. It is not safe for concurrent use.
type Mask struct {
	Names Names

	numbers map[string]int
}

// Names are what a plan adds to the well-known names of secrets, and what it takes from
// them, with * for any text.
type Names struct{ Secret, Shown []string }

// Sensitive reports whether the value of a name is to be hidden.
func (n Names) Sensitive(name string) bool {
	matches := func(pattern string) bool { return Matches(pattern, name) }
	if slices.ContainsFunc(n.Shown, matches) {
		return false
	}
	return Sensitive(name) || slices.ContainsFunc(n.Secret, matches)
}

func (m *Mask) hidden(value string) string {
	if m.numbers == nil {
		m.numbers = map[string]int{}
	}
	if m.numbers[value] == 0 {
		m.numbers[value] = len(m.numbers) + 1
	}
	return fmt.Sprintf("(hidden %d)", m.numbers[value])
}

var (
	// also of a password that should have been encoded
	userInURL  = regexp.MustCompile(`([A-Za-z][A-Za-z0-9+.-]*://[^\s/:@"']*):([^\s"<>]*)@`)
	portInURL  = regexp.MustCompile(`^[0-9]+/`)
	privateKey = regexp.MustCompile(`(?s)(-----BEGIN [A-Z ]*PRIVATE KEY-----)(.+?)(-----END [A-Z ]*PRIVATE KEY-----)`)
	// A name and what stands between it and a value; the value is read by hand, because most
	// names are no secret's.
	setting = regexp.MustCompile(`([A-Za-z][\w.-]*)(["']?[ \t]*[:=][ \t]*|[ \t]+)`)
	// A line of a file that is nothing but a setting: its value goes up to its end.
	line   = regexp.MustCompile(`(?m)^([ \t]*(?:- |export |set )?["']?)([A-Za-z][\w.-]*)(["']?(?:[ \t]*[:=][ \t]*|[ \t]+))([^\s{[|>][^\n]*)$`)
	header = regexp.MustCompile(`(?im)\b((?:proxy-)?authorization|(?:set-)?cookie)([ \t]*[:=][ \t]*)([^\n]+)`)
)

// Text is a value, a command or an answer with its secrets hidden.
func (m *Mask) Text(text string) string {
	text = privateKey.ReplaceAllStringFunc(text, func(found string) string {
		p := privateKey.FindStringSubmatch(found)
		return p[1] + " " + m.hidden(p[2]) + " " + p[3]
	})
	return m.settings(m.Headers(m.URLs(text)))
}

// URLs is a text with the passwords in its URLs hidden, and nothing else.
func (m *Mask) URLs(text string) string {
	return userInURL.ReplaceAllStringFunc(text, func(found string) string {
		p := userInURL.FindStringSubmatch(found)
		if portInURL.MatchString(p[2]) {
			return found // nobody is named: a host, a port and a path with an @ in it
		}
		return p[1] + ":" + m.hidden(p[2]) + "@"
	})
}

// Headers is the text of a request or an answer with its credentials and cookies hidden, and
// nothing else.
func (m *Mask) Headers(text string) string {
	return header.ReplaceAllStringFunc(text, func(found string) string {
		p := header.FindStringSubmatch(found)
		if !m.Names.Sensitive(p[1]) {
			return found
		}
		return p[1] + p[2] + m.hidden(p[3])
	})
}

// Value is what is shown of the value of a name, "" for one that is not there.
func (m *Mask) Value(name, value string) string {
	if value != "" && m.Names.Sensitive(name) {
		return m.hidden(value)
	}
	return m.Text(value)
}

// File is the text of a file of settings with its secrets hidden: such lines as
// "requirepass x" are settings there.
func (m *Mask) File(text string) string {
	text = line.ReplaceAllStringFunc(text, func(found string) string {
		p := line.FindStringSubmatch(found)
		if !m.Names.Sensitive(p[2]) {
			return found
		}
		return p[1] + p[2] + p[3] + m.hidden(p[4])
	})
	return m.Text(text)
}

// settings hides the values of settings and options. One that is not secret is looked at
// again from its value on: "-e PASSWORD=x" has no setting "e".
func (m *Mask) settings(text string) string {
	var b strings.Builder
	done := 0 // of text, in b
	for from := 0; ; {
		at := setting.FindStringSubmatchIndex(text[from:])
		if at == nil {
			return b.String() + text[done:]
		}
		name, between, value := text[from+at[2]:from+at[3]], text[from+at[4]:from+at[5]], from+at[5]
		// Only an option has a value behind a blank: elsewhere words just follow each other.
		option := strings.ContainsAny(between, ":=") || from+at[2] > 0 && text[from+at[2]-1] == '-'
		from = value
		if !option || !m.Names.Sensitive(name) {
			continue
		}
		end := value + valueLength(text[value:])
		if end == value || strings.HasPrefix(text[value:], "(hidden") {
			continue
		}
		b.WriteString(text[done:value])
		b.WriteString(m.hidden(strings.Trim(text[value:end], `"'`)))
		done, from = end, end
	}
}

// valueLength is how long the value at the beginning of a text is: up to its closing quote, or
// to a blank, a comma or the like.
func valueLength(text string) int {
	if text == "" {
		return 0
	}
	quote := text[0]
	if quote != '"' && quote != '\'' {
		if n := strings.IndexAny(text, " \t\r\n\f\v,;&}]\"'"); n >= 0 {
			return n
		}
		return len(text)
	}
	for n := 1; n < len(text) && text[n] != '\n'; n++ {
		switch {
		case text[n] == '\\' && quote == '"':
			n++
		case text[n] == quote:
			return n + 1
		}
	}
	return strings.IndexByte(text+"\n", '\n') // never closed: to the end of the line
}

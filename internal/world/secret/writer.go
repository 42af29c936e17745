package secret

import (
	"io"
	"strings"
	"sync/atomic"
	"unicode"
	"unicode/utf8"
)

// Writer passes on what is written to it without secrets and without control characters:
// what instances, tags and answers say must not steer a terminal. Each Write is looked at
// for itself, and cut off characters of its end become "?". It may be used by many at the
// same time if what it writes to may.
type Writer struct {
	to     io.Writer
	values atomic.Pointer[Values]
}

// NewWriter writes to somebody. It knows no secrets yet.
func NewWriter(to io.Writer) *Writer { return &Writer{to: to} }

// certain is the length from which on a secret is hidden in all that is written: a shorter one
// may be one of our own words, such as a key of JSON. In what came from the world it was hidden
// before.
const certain = 8

// Know tells which secrets are to be hidden from now on.
func (w *Writer) Know(v Values) { w.values.Store(&v) }

// Write takes everything; its number of bytes is that of what was given.
func (w *Writer) Write(p []byte) (int, error) {
	text := string(p)
	if v := w.values.Load(); v != nil && v.long != nil {
		text = v.long.hide(text)
	}
	if _, err := io.WriteString(w.to, Printable(text)); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Printable is a text with "?" in place of every character that would steer a terminal
// rather than show: control characters but tab and newline (also those from U+0080 to
// U+009F), marks that turn the direction of writing, and what is not UTF-8.
func Printable(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			return r
		case unicode.IsControl(r), r == utf8.RuneError, unicode.Is(unicode.Bidi_Control, r), r == 0x2028, r == 0x2029:
			return '?'
		}
		return r
	}, text)
}

package include

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"vaiven/internal/core/reading"
	"vaiven/internal/front"
)

// seal ends a text that Vaiven writes with a line by which it knows it again, also when
// a later Vaiven would write it in another way.
func seal(text []byte) []byte {
	sum := sha256.Sum256(text)
	return fmt.Appendf(text, "%s%x\n", sealed, sum[:6])
}

const sealed = "# as Vaiven wrote it: "

// withOrder adds the lines that say when somebody went home last, and which term it is.
func withOrder(text []byte, o reading.Order) []byte {
	if o.Term > 0 {
		text = fmt.Appendf(text, "%s%d\n", termIs, o.Term)
	}
	if o.Term = 0; o.Generation == 0 {
		return text
	}
	data, err := json.Marshal(o)
	if err != nil {
		panic(err) // numbers, texts and a time of this century
	}
	return fmt.Appendf(text, "%s%s\n", wentHome, data)
}

const (
	wentHome = "# went home: "
	termIs   = "# term: "
)

// orderOf reads those lines; none if there are none, or none that can be read.
func orderOf(data []byte) reading.Order {
	var o reading.Order
	var term uint64
	for line := range bytes.Lines(data) {
		if text, ok := bytes.CutPrefix(line, []byte(wentHome)); ok && json.Unmarshal(text, &o) != nil {
			o = reading.Order{}
		}
		if text, ok := bytes.CutPrefix(line, []byte(termIs)); ok {
			term, _ = strconv.ParseUint(string(bytes.TrimSpace(text)), 10, 64) // damaged, it is as if there were none
		}
	}
	o.Term = term
	return o
}

func isSealed(data []byte) bool {
	data = append(bytes.TrimRight(data, "\n"), '\n') // there may be more of them than were written
	at := bytes.LastIndex(data, []byte(sealed))
	return at >= 0 && bytes.Equal(seal(bytes.Clone(data[:at])), data)
}

// strange are the lines of a file that Vaiven did not write and has no place for, so
// that the next change would take them away. A share or an instance that somebody
// changed by hand is none.
func (f *Front) strange(data []byte, s Setting) []string {
	if isSealed(data) {
		return nil
	}
	have := map[string]int{}
	for line := range strings.Lines(string(f.Form.Render(s))) {
		have[shape(line)]++
	}
	var strange []string
	for line := range strings.Lines(string(data)) {
		if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, sealed) ||
			strings.HasPrefix(line, wentHome) || strings.HasPrefix(line, termIs) {
			continue
		}
		if have[shape(line)]--; have[shape(line)] < 0 {
			strange = append(strange, line)
		}
	}
	return unsaid(strange, s)
}

var figure = regexp.MustCompile(`[0-9.]+`)

// shape is a line without its figures and the space around its words.
func shape(line string) string {
	return figure.ReplaceAllString(strings.Join(strings.Fields(line), " "), "#")
}

// errStrange says of a file that a change would take lines away.
func (f *Front) errStrange(lines []string) error {
	more := ""
	if n := len(lines) - 1; n > 0 {
		more = fmt.Sprintf(" and %d more", n)
	}
	return fmt.Errorf("%w: %s has lines that are not Vaiven's and would be lost (%s%s): put them into another file",
		front.ErrChanged, f.File.Path, lines[0], more)
}

package section

import (
	"cmp"
	"fmt"
	"sort"
	"strings"
)

// Problem is one mistake in a plan file.
type Problem struct {
	File   string `json:"file,omitempty"`   // of the mistake, if it is another than the plan's
	Line   int    `json:"line"`             // from 1
	Column int    `json:"column"`           // from 1, in characters
	Source string `json:"source,omitempty"` // the line itself
	What   string `json:"what"`             // what is wrong
	Try    string `json:"try,omitempty"`    // what would be right
}

// Problems is every mistake in a plan file, in the order of their lines. It is
// an error.
type Problems struct {
	File string
	List []Problem
}

// Error shows each mistake with its place, its line and the remedy.
func (p Problems) Error() string {
	var b strings.Builder
	for i, q := range p.List {
		if i == mostShown {
			fmt.Fprintf(&b, "\nand %d more\n", len(p.List)-i)
			break
		}
		if i > 0 {
			b.WriteByte('\n')
		}
		fmt.Fprintf(&b, "%s:%d:%d: %s\n", cmp.Or(q.File, p.File), q.Line, q.Column, shortened(q.What))
		if q.Source != "" {
			number := fmt.Sprintf("%5d", q.Line)
			source, column := around([]rune(strings.ReplaceAll(q.Source, "\t", " ")), q.Column)
			fmt.Fprintf(&b, "%s │ %s\n", number, source)
			fmt.Fprintf(&b, "%s │ %s▲\n", strings.Repeat(" ", len(number)), strings.Repeat(" ", max(column-1, 0)))
		}
		if q.Try != "" {
			fmt.Fprintf(&b, "        %s\n", q.Try)
		}
	}
	mistakes := "mistakes"
	if len(p.List) == 1 {
		mistakes = "mistake"
	}
	fmt.Fprintf(&b, "%d %s in %s", len(p.List), mistakes, p.File)
	return b.String()
}

// How much of a file its mistakes show.
const (
	mostShown  = 60  // mistakes
	widestLine = 120 // characters of a line
	longest    = 400 // characters of what is wrong
)

// shortened is a text without the middle of what is too long.
func shortened(text string) string {
	r := []rune(text)
	if len(r) <= longest {
		return text
	}
	return string(r[:longest/2]) + " … " + string(r[len(r)-longest/2:])
}

// around is as much of a line as is shown, and the column in it.
func around(source []rune, column int) (string, int) {
	if len(source) <= widestLine {
		return string(source), column
	}
	from := min(max(column-1-widestLine/2, 0), len(source)-widestLine)
	text := string(source[from : from+widestLine])
	if from > 0 {
		text = "…" + text
		column++
	}
	if from+widestLine < len(source) {
		text += "…"
	}
	return text, column - from
}

// Sort brings mistakes into the order of their places.
func (p *Problems) Sort() {
	sort.SliceStable(p.List, func(i, j int) bool {
		a, b := p.List[i], p.List[j]
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
}

// Nearest is the candidate with the smallest edit distance to the word, "" if
// none is near.
func Nearest(word string, candidates []string) string {
	best, at := "", 1+len(word)/2
	for _, c := range candidates {
		if d := distance(strings.ToLower(word), c); d < at || d == at && best == "" {
			best, at = c, d
		}
	}
	return best
}

// distance is the number of single-character edits from a to b (Levenshtein
// 1966), by the two-row method.
func distance(a, b string) int {
	x, y := []rune(a), []rune(b)
	before, row := make([]int, len(y)+1), make([]int, len(y)+1)
	for j := range before {
		before[j] = j
	}
	for i := range x {
		row[0] = i + 1
		for j := range y {
			cost := 1
			if x[i] == y[j] {
				cost = 0
			}
			row[j+1] = min(before[j]+cost, before[j+1]+1, row[j]+1)
		}
		before, row = row, before
	}
	return before[len(y)]
}

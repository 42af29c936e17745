package report

import (
	"math"
	"strconv"
	"unicode"
	"unicode/utf8"

	"vaiven/internal/core/split"
	"vaiven/internal/people/drawing"
)

// A page is A4 across, in points.
const (
	pageWidth  = 842.0
	pageHeight = 595.0
	margin     = 36.0
)

// How words are set.
var (
	titled = drawing.Words{Size: 15, Ink: drawing.Black, Bold: true}
	plain  = drawing.Words{Size: 9.5, Ink: drawing.Black}
	beside = drawing.Words{Size: 8.5, Ink: drawing.Grey}
)

// inks are the sides'.
var inks = [2]drawing.Ink{split.Blue: drawing.Blue, split.Green: drawing.Green}

// page is a sheet with its title and a line below it, and where the drawing may begin.
func page(title, says, about string) (*drawing.Sheet, float64) {
	s := drawing.New(pageWidth, pageHeight, title, about)
	y := margin + titled.Size
	s.Text(margin, y, drawing.Fit(title, titled, pageWidth-2*margin), titled)
	for _, line := range drawing.Wrap(says, plain, pageWidth-2*margin) {
		y += 15
		s.Text(margin, y, line, plain)
	}
	return s, y + 14
}

// sentence is words as a sentence of their own.
func sentence(text string) string {
	first, size := utf8.DecodeRuneInString(text)
	return string(unicode.ToUpper(first)) + text[size:] + "."
}

// at is how words are set that end, or have their middle, at their place.
func at(set drawing.Words, where drawing.Side) drawing.Words {
	set.At = where
	return set
}

// hair is a scale's line.
func hair(s *drawing.Sheet, from, to drawing.Point) {
	s.Line(drawing.Stroke{Ink: drawing.Pale, Width: 0.6}, from, to)
}

// decimal is a number with no more digits than it needs.
func decimal(v float64) string {
	if v == 0 {
		return "0"
	}
	digits := max(0, 2-int(math.Floor(math.Log10(math.Abs(v)))))
	return strconv.FormatFloat(math.Round(v*math.Pow10(digits))/math.Pow10(digits), 'f', -1, 64)
}

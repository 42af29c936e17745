package cells

import (
	"image/color"
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// Style is how a cell looks. The zero value is the terminal's own. Colours have
// to be comparable.
type Style struct {
	Color color.Color // nil is the terminal's own
	Bold  bool
}

// In is the style in bold.
func (s Style) In(bold bool) Style {
	s.Bold = bold
	return s
}

type cell struct {
	r rune // 0 is a space
	s Style
}

// Grid is a drawing of fixed size. Drawing outside of it does nothing.
type Grid struct {
	w, h  int
	cells []cell
}

// New makes an empty grid. Sizes below zero count as zero.
func New(w, h int) *Grid {
	w, h = max(w, 0), max(h, 0)
	return &Grid{w, h, make([]cell, w*h)}
}

// Size is the grid's width and height.
func (g *Grid) Size() (w, h int) { return g.w, g.h }

// Set draws one rune.
func (g *Grid) Set(x, y int, r rune, s Style) {
	if x < 0 || y < 0 || x >= g.w || y >= g.h {
		return
	}
	if r < ' ' || r == 0x7f || r > 0x7e && ansi.StringWidth(string(r)) != 1 {
		r = '·'
	}
	g.cells[y*g.w+x] = cell{r, s}
}

// Text draws a text to the right of x and returns where the next one goes.
func (g *Grid) Text(x, y int, text string, s Style) int {
	for _, r := range text {
		g.Set(x, y, r, s)
		x++
	}
	return x
}

// Right draws a text so that it ends before x.
func (g *Grid) Right(x, y int, text string, s Style) {
	g.Text(x-Width(text), y, text, s)
}

// Within draws a text into a number of cells, with an ellipsis if it is longer,
// and returns where it ends.
func (g *Grid) Within(x, y, width int, text string, s Style) int {
	return g.Text(x, y, Cut(text, width), s)
}

// Line draws a rune from x up to and without end.
func (g *Grid) Line(x, y, end int, r rune, s Style) {
	for ; x < end; x++ {
		g.Set(x, y, r, s)
	}
}

// Width is how many cells a text takes.
func Width(text string) int { return len([]rune(text)) }

// Cut is the text with an ellipsis in place of what is beyond the width.
func Cut(text string, width int) string {
	runes := []rune(text)
	if len(runes) <= width {
		return text
	}
	if width < 1 {
		return ""
	}
	return string(runes[:width-1]) + "…"
}

// String is the grid as lines with escape sequences, without a line break at the
// end.
func (g *Grid) String() string {
	var b strings.Builder
	var run strings.Builder
	for y := range g.h {
		if y > 0 {
			b.WriteByte('\n')
		}
		row := g.cells[y*g.w : (y+1)*g.w]
		end := len(row)
		for end > 0 && row[end-1].r == 0 {
			end--
		}
		for x := 0; x < end; {
			style := row[x].s
			run.Reset()
			for x < end && (row[x].s == style || row[x].r == 0) {
				r := row[x].r
				if r == 0 {
					r = ' '
				}
				run.WriteRune(r)
				x++
			}
			b.WriteString(style.render(run.String()))
		}
	}
	return b.String()
}

func (s Style) render(text string) string {
	if s == (Style{}) {
		return text
	}
	var style ansi.Style
	if s.Bold {
		style = style.Bold()
	}
	if s.Color != nil {
		style = style.ForegroundColor(s.Color)
	}
	return style.Styled(text)
}

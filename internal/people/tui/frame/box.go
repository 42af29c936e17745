package frame

import (
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/theme"
	"vaiven/internal/words"
)

// Line is one line of a box: texts beside each other.
type Line []Span

// Span is a text with its style.
type Span struct {
	Text  string
	Style cells.Style
}

// Box lays lines over the middle of what lies between two rows, scrolled by some; the line
// below them says how to leave it. It returns how far it can be scrolled.
func Box(g *cells.Grid, t theme.Theme, top, bottom int, title string, lines []Line, foot string,
	by Scroll) (most int) {
	w, _ := g.Size()
	width := cells.Width(title)
	width = max(width, cells.Width(foot))
	for _, l := range lines {
		n := 0
		for _, s := range l {
			n += cells.Width(s.Text)
		}
		width = max(width, n)
	}
	width = min(width, w-6)
	rows := min(len(lines), bottom-top-6)
	if width < 8 || rows < 1 {
		return 0
	}
	most = len(lines) - rows
	scroll := by.Of(len(lines), rows)
	x, y := (w-width-4)/2, top+max((bottom-top-rows-6)/2, 0)
	Panel(g, t, x, y, width+4, rows+6)
	g.Within(x+2, y+1, width, title, t.Ink.In(true))
	for n, l := range lines[scroll : scroll+rows] {
		at := x + 2
		for _, s := range l {
			at = g.Within(at, y+3+n, x+2+width-at, s.Text, s.Style)
		}
	}
	if most > scroll {
		foot = cells.Cut(foot, width-14) + "   ↓ " + words.Thousands(int64(most-scroll)) + " more"
	}
	g.Within(x+2, y+rows+4, width, foot, t.Label)
	return most
}

// Panel empties a rectangle and draws its edge.
func Panel(g *cells.Grid, t theme.Theme, x, y, w, h int) {
	g.Blank(x, y, w, h)
	right, bottom := x+w-1, y+h-1
	g.Line(x+1, y, right, '─', t.Label)
	g.Line(x+1, bottom, right, '─', t.Label)
	for row := y + 1; row < bottom; row++ {
		g.Set(x, row, '│', t.Label)
		g.Set(right, row, '│', t.Label)
	}
	g.Set(x, y, '╭', t.Label)
	g.Set(right, y, '╮', t.Label)
	g.Set(x, bottom, '╰', t.Label)
	g.Set(right, bottom, '╯', t.Label)
}

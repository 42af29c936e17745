package tuitest

import (
	"testing"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
)

// Draw is a page with its header, as plain text. It fails the test where texts lie over each
// other, or reach beyond the screen.
func Draw(t testing.TB, p frame.Page, f frame.Frame) string {
	t.Helper()
	g := cells.New(f.W, f.H)
	p.Head(f, g, 1, f.W)
	p.Draw(f, g, 2, f.H-2)
	return Fits(t, g)
}

// Fits is what is on a grid, as plain text: nothing over anything else, nothing beyond it.
func Fits(t testing.TB, g *cells.Grid) string {
	t.Helper()
	for _, c := range g.Clashes() {
		t.Errorf("%s:\n%s", c, ansi.Strip(g.String()))
	}
	w, h := g.Size()
	text := g.String()
	if lipgloss.Width(text) > w || lipgloss.Height(text) > max(h, 1) {
		t.Errorf("%d×%d overflows: it is %d×%d", w, h, lipgloss.Width(text), lipgloss.Height(text))
	}
	return ansi.Strip(text)
}

package cells

import (
	"strings"
	"testing"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
)

func TestDrawingStaysWithinTheGrid(t *testing.T) {
	g := New(6, 2)
	g.Text(-2, 0, "abcdefghijk", Style{})
	g.Text(0, 5, "below", Style{})
	g.Right(6, 1, "right", Style{Bold: true})
	g.Set(0, 1, '\x1b', Style{})
	g.Line(2, 1, 0, '─', Style{})
	if got, want := ansi.Strip(g.String()), "cdefgh\n·right"; got != want {
		t.Errorf("drawn %q, want %q", got, want)
	}
	if New(-1, 3).String() != "\n\n" {
		t.Error("a grid without width is not empty")
	}
}

func TestWideRunesTakeOneCell(t *testing.T) {
	g := New(4, 1)
	g.Text(0, 0, "日本e\u0301", Style{})
	if got := ansi.Strip(g.String()); ansi.StringWidth(got) > 4 || !strings.HasPrefix(got, "··e") {
		t.Errorf("drawn %q", got)
	}
}

func TestRunsOfOneStyleAreDrawnTogether(t *testing.T) {
	red := Style{Color: lipgloss.Color("#ff0000")}
	g := New(20, 1)
	g.Text(0, 0, "one", red)
	g.Text(4, 0, "two", red)
	g.Text(8, 0, "three", red.In(true))
	if n := strings.Count(g.String(), "\x1b[38;2"); n != 1 {
		t.Errorf("%d colour changes in %q, want 1 and one with bold", n, g.String())
	}
}

func TestCut(t *testing.T) {
	for _, c := range []struct {
		text  string
		width int
		want  string
	}{{"sailings", 8, "sailings"}, {"sailings", 5, "sail…"}, {"sailings", 1, "…"}, {"sailings", 0, ""}, {"öäü", 2, "ö…"}} {
		if got := Cut(c.text, c.width); got != c.want {
			t.Errorf("Cut(%q, %d) = %q, want %q", c.text, c.width, got, c.want)
		}
	}
}

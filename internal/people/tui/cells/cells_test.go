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

// Wide runes take two cells, marks stay with their letter, and halves are never left over.
func TestOtherWritings(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"wide", "日本e\u0301x", "日本e\u0301x  |"},
		{"no half at the edge", "abcdefgh日", "abcdefgh|"},
		{"joined", "a👩\u200d🚀b", "a👩b    |"},
		{"Devanagari", "ना", "ना       |"},
		{"a heap of marks", "e" + strings.Repeat("\u0301", 40), "e       |"},
	} {
		g := New(9, 1)
		g.Line(0, 0, 8, ' ', Style{})
		g.Text(0, 0, c.text, Style{})
		g.Set(8, 0, '|', Style{})
		if got := g.String(); ansi.StringWidth(got) != 9 {
			t.Errorf("%s: drawn %q, %d cells", c.name, got, ansi.StringWidth(got))
		} else if c.name != "Devanagari" && got != c.want {
			t.Errorf("%s: drawn %q, want %q", c.name, got, c.want)
		}
	}
	for at, want := range map[int]string{0: "x 日", 1: " x日", 2: "日x ", 3: "日 x"} {
		g := New(4, 1)
		g.Text(0, 0, "日日", Style{})
		g.Set(at, 0, 'x', Style{})
		if got := g.String(); got != want {
			t.Errorf("over half of a wide one, at %d: %q, want %q", at, got, want)
		}
	}
}

// hostile are texts that would steer a terminal, or turn around what surrounds them.
var hostile = []string{"\x1b[31mred", "\x1b]0;title\a", "a\rb", "\u009b2J", "a\u202egpj.exe", "\u2066x\u2069",
	"\u200fx", "\x7f", "bad \xff utf", "soft\u00adhyphen", "\u2028"}

func TestNothingSteersTheTerminal(t *testing.T) {
	for _, text := range hostile {
		g := New(20, 1)
		g.Text(0, 0, text, Style{})
		for _, r := range g.String() {
			if hidden(r) {
				t.Errorf("%q is drawn %q", text, g.String())
			}
		}
	}
}

func FuzzDrawing(f *testing.F) {
	for _, text := range append(hostile, "日本", "e\u0301", "👩\u200d🚀", "plain") {
		f.Add(text, 5)
	}
	f.Fuzz(func(t *testing.T, text string, width int) {
		width = min(max(width, 0), 40)
		for _, got := range []string{Cut(text, width), CutLeft(text, width)} {
			if Width(got) > width {
				t.Errorf("%q cut to %d is %q, %d wide", text, width, got, Width(got))
			}
		}
		g := New(width, 1)
		g.Text(0, 0, text, Style{})
		if got := g.String(); ansi.StringWidth(got) > width || ansi.Strip(got) != got {
			t.Errorf("%q in %d cells is drawn %q", text, width, got)
		}
	})
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
	}{{"sailings", 8, "sailings"}, {"sailings", 5, "sail…"}, {"sailings", 1, "…"}, {"sailings", 0, ""},
		{"öäü", 2, "ö…"}, {"日本", 3, "日…"}, {"日本", 4, "日本"}, {"日本", 2, "…"}} {
		if c.width == 5 && CutLeft(c.text, 5) != "…ings" {
			t.Errorf("cut at its left it is %q", CutLeft(c.text, 5))
		}
		if got := Cut(c.text, c.width); got != c.want {
			t.Errorf("Cut(%q, %d) = %q, want %q", c.text, c.width, got, c.want)
		}
	}
}

// A terminal that knows no signs but ASCII gets marks that differ, in the same columns.
func TestASCII(t *testing.T) {
	g := New(30, 2)
	g.Text(0, 0, "● ◐ ○ ▲ × ◇ café 日本 → ж", Style{})
	g.Text(0, 1, "│ 5 % – 3 …", Style{})
	g.ASCII()
	if got, want := g.String(), "* o . ! x ? cafe ? ?  > ?\n| 5 % - 3 ~"; got != want {
		t.Errorf("drawn as\n%q, not\n%q", got, want)
	}
	seen := map[rune]rune{}
	for _, mark := range "●◐○▲×◇◆▸" {
		if p := ascii(mark); seen[p] != 0 || p == '?' && mark != '◇' {
			t.Errorf("%c and %c are both %c", mark, seen[p], p)
		} else {
			seen[p] = mark
		}
	}
}

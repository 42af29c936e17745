package theme

import (
	"image/color"
	"math"
	"testing"

	"vaiven/internal/core/split"
)

// luminance is the relative luminance of WCAG 2.
func luminance(c color.Color) float64 {
	r, g, b, _ := c.RGBA()
	linear := func(v uint32) float64 {
		x := float64(v) / 0xffff
		if x <= 0.04045 {
			return x / 12.92
		}
		return math.Pow((x+0.055)/1.055, 2.4)
	}
	return 0.2126*linear(r) + 0.7152*linear(g) + 0.0722*linear(b)
}

func contrast(a, b color.Color) float64 {
	x, y := luminance(a)+0.05, luminance(b)+0.05
	return max(x, y) / min(x, y)
}

// Every style has to be readable on its own paper, also where lipgloss would
// silently take a misspelt colour for none.
func TestEveryStyleCanBeRead(t *testing.T) {
	for _, dark := range []bool{true, false} {
		th := New(dark)
		for name, s := range map[string]color.Color{
			"ink": th.Ink.Color, "label": th.Label.Color, "amber": th.Amber.Color, "red": th.Red.Color,
			"blue": th.Side(split.Blue).Color, "green": th.Side(split.Green).Color, "between": th.Share(0.5).Color,
		} {
			if _, _, _, a := s.RGBA(); a == 0 {
				t.Errorf("dark %v: %s is no colour", dark, name)
			}
			if c := contrast(s, th.Paper); c < 4.5 {
				t.Errorf("dark %v: %s has a contrast of %.1f, want 4.5", dark, name, c)
			}
		}
	}
}

func TestShareRunsFromBlueToGreen(t *testing.T) {
	th := New(true)
	if th.Share(-1) != th.Share(0) || th.Share(2) != th.Share(1) || th.Share(0) == th.Share(1) {
		t.Error("the colours of shares do not end at blue and green")
	}
}

package theme

import (
	"image/color"
	"math"
	"testing"

	"charm.land/lipgloss/v2"

	"vaiven/internal/core/split"
	"vaiven/internal/people/tui/cells"
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

// papers are what terminals have behind their text.
var papers = map[bool][]string{
	true:  {"#000000", "#0B0F14", "#1E1E1E", "#282C34", "#002B36", "#300A24"},
	false: {"#FFFFFF", "#FAFBFC", "#FDF6E3", "#EEE8D5"},
}

// Every style has to be readable on its own paper and on those that are common, also where
// lipgloss would silently take a misspelt colour for none.
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
			for _, paper := range append(papers[dark], "") {
				on := th.Paper
				if paper != "" {
					on = lipgloss.Color(paper)
				}
				if c := contrast(s, on); c < 4.5 {
					t.Errorf("dark %v: %s has a contrast of %.1f on %s, want 4.5", dark, name, c, paper)
				}
			}
		}
	}
}

// deuteranope is a colour as somebody without the middle cones sees it, in CIE L*a*b*.
// Source: Viénot, Brettel and Mollon, "Digital video colourmaps for checking the legibility of
// displays by dichromats", Color Research and Application 24, 1999.
func deuteranope(c color.Color) [3]float64 {
	r16, g16, b16, _ := c.RGBA()
	linear := func(v uint32) float64 {
		x := float64(v) / 0xffff
		if x <= 0.04045 {
			return x / 12.92
		}
		return math.Pow((x+0.055)/1.055, 2.4)
	}
	r, g, b := linear(r16), linear(g16), linear(b16)
	l, s := 17.8824*r+43.5161*g+4.11935*b, 0.0299566*r+0.184309*g+1.46709*b
	m := 0.494207*l + 1.24827*s
	clip := func(v float64) float64 { return min(max(v, 0), 1) }
	r, g, b = clip(0.080944*l-0.130504*m+0.116721*s), clip(-0.0102485*l+0.0540194*m-0.113615*s),
		clip(-0.000365294*l-0.00412163*m+0.693513*s)
	f := func(t float64) float64 {
		if t > 0.008856 {
			return math.Cbrt(t)
		}
		return 7.787*t + 16.0/116
	}
	x, y, z := f((0.4124*r+0.3576*g+0.1805*b)/0.9505), f(0.2126*r+0.7152*g+0.0722*b),
		f((0.0193*r+0.1192*g+0.9505*b)/1.089)
	return [3]float64{116*y - 16, 500 * (x - y), 200 * (y - z)}
}

// What has to be told apart is told apart without red and green as well: a difference of 20 is
// seen at a glance.
func TestToldApartWithoutRedAndGreen(t *testing.T) {
	for _, dark := range []bool{true, false} {
		th := New(dark)
		for name, pair := range map[string][2]cells.Style{"amber and red": {th.Amber, th.Red},
			"blue and green": {th.Side(split.Blue), th.Side(split.Green)}, "ink and label": {th.Ink, th.Label}} {
			a, b := deuteranope(pair[0].Color), deuteranope(pair[1].Color)
			if d := math.Hypot(math.Hypot(a[0]-b[0], a[1]-b[1]), a[2]-b[2]); d < 20 {
				t.Errorf("dark %v: %s differ by %.0f", dark, name, d)
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

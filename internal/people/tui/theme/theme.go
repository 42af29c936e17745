package theme

import (
	"image/color"

	"charm.land/lipgloss/v2"

	"vaiven/internal/core/split"
	"vaiven/internal/people/tui/cells"
)

// Theme is a set of styles.
type Theme struct {
	Dark  bool
	Paper color.Color // behind everything, where the terminal's own is not used
	Ink   cells.Style // values
	Label cells.Style // what they are, and values that are not fresh
	Hair  cells.Style // lines
	Amber cells.Style // needs a person soon
	Red   cells.Style // needs a person now
	sides [2]cells.Style
	steps [gradient + 1]cells.Style
}

// gradient is how many colours lie between blue and green.
const gradient = 20

// New makes the theme for dark or light terminals. Texts have a contrast of 4.5 at least on the
// papers that are common, and who does not see red and green apart sees amber and red, and blue
// and green, apart; marks and words say the same.
func New(dark bool) Theme {
	pick := lipgloss.LightDark(dark)
	style := func(light, dark string) cells.Style {
		return cells.Style{Color: pick(lipgloss.Color(light), lipgloss.Color(dark))}
	}
	t := Theme{
		Dark:  dark,
		Paper: pick(lipgloss.Color("#FAFBFC"), lipgloss.Color("#0B0F14")),
		Ink:   style("#1C2733", "#D7DDE4"),
		Label: style("#56616D", "#919DAA"),
		Hair:  style("#C2CAD2", "#2E3842"),
		Amber: style("#885000", "#F2B14B"),
		Red:   style("#A4133C", "#F27C8C"),
	}
	t.sides = [2]cells.Style{split.Blue: style("#0B5FBD", "#5CA8FF"), split.Green: style("#0F6F41", "#4FD18B")}
	blue, green := t.sides[split.Blue].Color, t.sides[split.Green].Color
	for i := range t.steps {
		t.steps[i] = cells.Style{Color: mix(blue, green, float64(i)/gradient)}
	}
	return t
}

// Side is the style of a side.
func (t Theme) Side(s split.Side) cells.Style { return t.sides[s] }

// Share is the style for a share on green: blue at 0, green at 1.
func (t Theme) Share(green float64) cells.Style {
	return t.steps[int(min(max(green, 0), 1)*gradient+0.5)]
}

// mix is the colour between two, by components.
func mix(a, b color.Color, part float64) color.Color {
	ar, ag, ab, _ := a.RGBA()
	br, bg, bb, _ := b.RGBA()
	between := func(x, y uint32) uint8 { return uint8((float64(x)*(1-part) + float64(y)*part) / 257) }
	return color.RGBA{R: between(ar, br), G: between(ag, bg), B: between(ab, bb), A: 255}
}

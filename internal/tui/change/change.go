package change

import (
	"fmt"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"vaiven/internal/front"
	"vaiven/internal/tui/cells"
	"vaiven/internal/tui/frame"
	"vaiven/internal/tui/theme"
)

// Model is a change to be shown. It is a value.
type Model struct {
	theme  theme.Theme
	change front.Change
}

// New makes a view of a change.
func New(t theme.Theme, c front.Change) Model { return Model{t, c} }

// widest is how many cells the box takes at most.
const widest = 110

// View draws the box, small enough for a screen.
func (m Model) View(w, h int) string {
	width := min(w-10, widest)
	if width < 20 || h < 8 {
		return ""
	}
	style := func(c cells.Style) lipgloss.Style { return lipgloss.NewStyle().Foreground(c.Color).Bold(c.Bold) }
	ink, label, amber := style(m.theme.Ink), style(m.theme.Label), style(m.theme.Amber)
	c := m.change
	head := fmt.Sprintf("%v → %v on green", c.From, c.Reached)
	if c.Error() > 0 {
		head += fmt.Sprintf(", the nearest to %v that the front can do", c.Wanted)
	}
	if c.Usually > 0 {
		head += ", in force after usually " + usually(c.Usually)
	}
	lines := []string{style(m.theme.Ink.In(true)).Render(cut(head, width)), ""}
	var below []string
	for _, line := range frame.Wrap(c.Connections, width) {
		below = append(below, label.Render(line))
	}
	for _, note := range c.Notes {
		for _, line := range frame.Wrap(note, width) {
			below = append(below, amber.Render(line))
		}
	}
	room := max(h-8-len(below), 1)
	for n, step := range c.Steps {
		if n == room-1 && len(c.Steps) > room {
			lines = append(lines, label.Render(fmt.Sprintf("and %d more", len(c.Steps)-n)))
			break
		}
		lines = append(lines, ink.Render(cut(step, width)))
	}
	lines = append(append(lines, ""), below...)
	if len(lines) > h-4 {
		lines = lines[:h-4]
	}
	return lipgloss.NewStyle().Border(lipgloss.RoundedBorder()).BorderForeground(m.theme.Hair.Color).Padding(0, 2).Render(strings.Join(lines, "\n"))
}

func usually(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return frame.Age(d)
}

// cut shortens a line that is too long.
func cut(text string, width int) string {
	r := []rune(strings.ReplaceAll(text, "\t", "  "))
	if len(r) > width {
		return string(r[:width-1]) + "…"
	}
	return string(r)
}

package frame

import (
	"charm.land/bubbles/v2/textinput"
	"charm.land/lipgloss/v2"

	"vaiven/internal/people/tui/theme"
)

// Input is a line to type in, with the cursor in it.
func Input(t theme.Theme) textinput.Model {
	input := textinput.New()
	input.Prompt = ""
	styles := textinput.DefaultStyles(t.Dark)
	styles.Focused.Text = lipgloss.NewStyle().Foreground(t.Ink.Color).Bold(true)
	input.SetStyles(styles)
	input.Focus()
	return input
}

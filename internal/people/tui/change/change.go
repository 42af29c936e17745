package change

import (
	"fmt"
	"strings"

	"vaiven/internal/front"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/people/tui/theme"
)

// Change is what a front would do.
type Change = front.Change

// Title is the change in one line.
func Title(c Change) string {
	text := fmt.Sprintf("what the front does for %v → %v on green", c.From, c.Reached)
	if c.Error() > 0 {
		text += fmt.Sprintf(", the nearest to %v that it can do", c.Wanted)
	}
	if c.Usually > 0 {
		text += ", usually takes effect in " + frame.Milliseconds(c.Usually)
	}
	return text
}

// Lines are its steps, what becomes of connections, and notes, for a width.
func Lines(t theme.Theme, c Change, width int) []frame.Line {
	var lines []frame.Line
	for _, step := range c.Steps {
		lines = append(lines, frame.Line{{Text: strings.ReplaceAll(step, "\t", "  "), Style: t.Ink}})
	}
	lines = append(lines, nil)
	for _, line := range frame.Wrap(c.Connections, width) {
		lines = append(lines, frame.Line{{Text: line, Style: t.Label}})
	}
	for _, note := range c.Notes {
		for n, line := range frame.Wrap(note, width-2) {
			mark := "◇ "
			if n > 0 {
				mark = "  "
			}
			lines = append(lines, frame.Line{{Text: mark + line, Style: t.Amber}})
		}
	}
	return lines
}

package crossing

import (
	"time"

	"vaiven/internal/tui/cells"
	"vaiven/internal/tui/frame"
)

// aged is a figure with the style that its age gives it.
func (m Model) aged(text string, at time.Time, every time.Duration, fresh cells.Style) (string, cells.Style) {
	if at.IsZero() {
		return "—", m.theme.Label
	}
	return frame.Aged(m.theme, text, m.now.Sub(at), every, fresh)
}

// ifFresh is a style for what follows from the front's counts: dim when they are
// old.
func (m Model) ifFresh(s cells.Style) cells.Style {
	_, s = m.aged("", m.s.Front.At, m.s.Front.Every, s)
	return s
}

package chooser

import (
	"fmt"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"vaiven/internal/core/raise"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/tui/cells"
	"vaiven/internal/tui/frame"
	"vaiven/internal/tui/theme"
)

// Model is the list's state. It is a value.
type Model struct {
	theme theme.Theme
	offer keeper.Offer
	known bool // the offer has come
	s     keeper.Snapshot
	now   time.Time
	input textinput.Model
	at    int
}

// New makes a list that waits for its offer. What is offered is chosen before
// anybody types.
func New(t theme.Theme) Model {
	return Model{theme: t, input: frame.Input(t)}
}

// SetOffer says what there is; the cursor goes to the version of the name, if it is
// among it.
func (m Model) SetOffer(o keeper.Offer, name string) Model {
	m.offer, m.known, m.at = o, true, 0
	for n, v := range m.fitting() {
		if v.Name == name {
			m.at = n
		}
	}
	return m
}

// SetSnapshot says what runs, and what time it is.
func (m Model) SetSnapshot(s keeper.Snapshot, now time.Time) Model {
	m.s, m.now = s, now
	return m
}

// Part is whose versions they are.
func (m Model) Part() string { return m.offer.Part }

// Typed takes a key or a paste into the filter.
func (m Model) Typed(msg tea.Msg) Model {
	before := m.input.Value()
	m.input, _ = m.input.Update(msg)
	if m.input.Value() != before {
		m.at = 0
	}
	return m
}

// Move moves the cursor.
func (m Model) Move(by int) Model {
	m.at = min(max(m.at+by, 0), max(len(m.fitting())-1, 0))
	return m
}

// Chosen is the version at the cursor, false if none fits.
func (m Model) Chosen() (raise.Version, bool) {
	list := m.fitting()
	if m.at >= len(list) {
		return raise.Version{}, false
	}
	return list[m.at], true
}

// fitting are the versions that have what was typed in their name, identity or
// note.
func (m Model) fitting() []raise.Version {
	typed := strings.ToLower(strings.TrimSpace(m.input.Value()))
	var list []raise.Version
	for _, v := range m.offer.Versions {
		if strings.Contains(strings.ToLower(v.Name), typed) || strings.HasPrefix(raise.Short(v.ID), typed) || strings.Contains(strings.ToLower(v.Note), typed) {
			list = append(list, v)
		}
	}
	return list
}

// remark is what is to be known of a version beside itself: where it runs, and how
// it fared before.
func (m Model) remark(v raise.Version) (string, cells.Style) {
	t := m.theme
	for _, side := range []split.Side{m.s.Live, m.s.Live.Other()} {
		for _, i := range m.s.Sides[side].Instances {
			if i.Part != m.offer.Part || !i.Running || v.ID == "" || i.Build != v.ID {
				continue
			}
			role := "on " + side.String()
			if side == m.s.Live {
				role = "live on " + side.String()
			}
			if i.Version == v.Name {
				return role, t.Side(side)
			}
			return "same build as " + side.String(), t.Amber
		}
	}
	for _, p := range m.offer.Past {
		if v.ID != "" && p.Build == v.ID && p.Stage.Over() {
			return fmt.Sprintf("crossing %d: %s", p.Number, p.Stage), t.Label
		}
	}
	return v.Remark(), t.Label
}

// View draws the list as a box of at most a size.
func (m Model) View(w, h int) string {
	t := m.theme
	width := min(max(w-4, 16), 92)
	list := m.fitting()
	rows := min(max(h-9, 1), max(len(m.offer.Versions), 1))
	g := cells.New(width, rows+4)
	title := "which version is to be raised?"
	if m.known && len(m.s.Parts) > 1 {
		title = fmt.Sprintf("which version of %s is to be raised?", m.offer.Part)
	}
	g.Within(0, 0, width, title, t.Ink.In(true))
	g.Text(0, 1, "filter", t.Label)
	switch {
	case !m.known:
		g.Text(0, 3, "being looked for", t.Label)
	case len(m.offer.Versions) == 0:
		g.Text(0, 3, "there are no versions", t.Amber)
	case len(list) == 0:
		g.Text(0, 3, "none fits what you typed", t.Amber)
	}
	first := 0
	if len(list) > rows {
		first = min(max(m.at-rows/2, 0), len(list)-rows)
	}
	for n := first; n < min(first+rows, len(list)); n++ {
		m.row(g, 3+n-first, width, list[n], n == m.at)
	}
	g.Within(0, rows+3, width, "↑ ↓ choose   enter raises it   esc lets go", t.Label)
	m.input.SetWidth(max(width-10, 4))
	lines := strings.Split(g.String(), "\n")
	lines[1] += " " + m.input.View()
	return lipgloss.NewStyle().Border(lipgloss.RoundedBorder()).BorderForeground(t.Hair.Color).Padding(0, 1).
		Render(strings.Join(lines, "\n"))
}

func (m Model) row(g *cells.Grid, y, width int, v raise.Version, chosen bool) {
	t := m.theme
	ink := t.Ink
	if chosen {
		g.Set(0, y, '▸', t.Ink.In(true))
		ink = ink.In(true)
	}
	g.Within(2, y, 20, v.Name, ink)
	if v.Wrong != "" { // nothing else is known of it
		g.Within(23, y, width-23, v.Remark(), t.Amber)
		return
	}
	at, age := "", ""
	if !v.At.IsZero() {
		at, age = v.At.Local().Format("2006-01-02 15:04"), ageOf(m.now.Sub(v.At))
	}
	x := 23
	if width >= 60 {
		g.Text(x, y, at, t.Ink)
		x += 18
	}
	g.Right(x+6, y, age, t.Label)
	x += 8
	if width >= 76 {
		g.Text(x, y, fmt.Sprintf("%.7s", raise.Short(v.ID)), t.Label)
		x += 9
	}
	remark, style := m.remark(v)
	g.Within(x, y, width-x, remark, style)
}

// ageOf is an age in the largest unit that fits.
func ageOf(d time.Duration) string {
	switch {
	case d < time.Hour:
		return frame.Age(d.Truncate(time.Minute))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d d", int(d.Hours()/24))
}

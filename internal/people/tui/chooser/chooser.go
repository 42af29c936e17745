package chooser

import (
	"fmt"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"vaiven/internal/core/raise"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/people/tui/theme"
	"vaiven/internal/words"
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
		if strings.Contains(strings.ToLower(v.Name), typed) || strings.HasPrefix(raise.Short(v.ID), typed) ||
			strings.Contains(strings.ToLower(v.Note), typed) {
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

// Draw lays the list over the middle of what lies between two rows.
func (m Model) Draw(g *cells.Grid, top, bottom int) {
	t := m.theme
	w, _ := g.Size()
	width := min(max(w-4, 16), 92)
	list := m.fitting()
	rows := min(max(bottom-top-6, 1), max(len(m.offer.Versions), 1))
	x, y := max((w-width)/2, 0), top+max((bottom-top-rows-6)/2, 0)
	frame.Panel(g, t, x, y, width, rows+6)
	x, width = x+2, width-4
	title := "which version is to be raised?"
	if m.known && len(m.s.Parts) > 1 {
		title = fmt.Sprintf("which version of %s is to be raised?", m.offer.Part)
	}
	g.Within(x, y+1, width, title, t.Ink.In(true))
	at := g.Text(x, y+2, "type to filter: ", t.Label)
	at = g.Text(at, y+2, cells.Cut(m.input.Value(), width-17), t.Ink.In(true))
	g.Set(at, y+2, '▏', t.Ink)
	switch {
	case !m.known:
		g.Text(x, y+3, "being looked for", t.Label)
	case len(m.offer.Versions) == 0:
		g.Text(x, y+3, "there are no versions", t.Amber)
	case len(list) == 0:
		g.Text(x, y+3, "none fits what you typed", t.Amber)
	}
	first := frame.Window(m.at, len(list), rows)
	for n := first; n < min(first+rows, len(list)); n++ {
		m.row(g, x, y+3+n-first, width, list[n], n == m.at)
	}
	foot := "↑ ↓ choose   enter raises it   esc cancels"
	if more := len(list) - rows; more > 0 {
		foot += fmt.Sprintf("   %d of %d", m.at+1, len(list))
	}
	g.Within(x, y+rows+4, width, foot, t.Label)
}

func (m Model) row(g *cells.Grid, left, y, width int, v raise.Version, chosen bool) {
	t := m.theme
	ink := t.Ink
	if chosen {
		g.Set(left, y, '▸', t.Ink.In(true))
		ink = ink.In(true)
	}
	end := left + width
	name := 8
	for _, other := range m.offer.Versions {
		name = max(name, cells.Width(other.Name))
	}
	name = min(name, max(width*2/5, 20), width-2)
	g.Text(left+2, y, cells.CutLeft(v.Name, name), ink)
	x := left + 2 + name + 1
	if v.Wrong != "" { // nothing else is known of it
		g.Within(x, y, end-x, "▲ "+v.Remark(), t.Amber)
		return
	}
	if !v.At.IsZero() && width >= 70 {
		g.Text(x, y, v.At.Local().Format("2006-01-02 15:04"), t.Ink)
		x += 18
	}
	if !v.At.IsZero() {
		g.Right(x+6, y, ageOf(m.now.Sub(v.At)), t.Label)
	}
	x += 8
	if width >= 90 {
		g.Text(x, y, fmt.Sprintf("%.7s", raise.Short(v.ID)), t.Label)
		x += 9
	}
	remark, style := m.remark(v)
	g.Within(x, y, end-x, remark, style)
}

// ageOf is an age in the largest unit that fits.
func ageOf(d time.Duration) string {
	switch {
	case d < time.Hour:
		return words.Age(d.Truncate(time.Minute))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d d", int(d.Hours()/24))
}

package crossing

import (
	"fmt"
	"strings"

	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/keeper"
	"vaiven/internal/tui/cells"
	"vaiven/internal/tui/frame"
)

// guards draws the guards as a table: blue's figure left, green's right.
func (m Model) guards(g *cells.Grid, y int) {
	t := m.theme
	g.Text(3, y, "guards", t.Label)
	g.Text(37, y, "trips if", t.Label)
	for n, guard := range m.s.Guards {
		row := y + 1 + n
		g.Within(3, row, 15, guard.Name, t.Ink)
		values := m.guardValues(guard)
		g.Right(25, row, values[split.Blue], m.ifFresh(t.Side(split.Blue)))
		g.Right(34, row, values[split.Green], m.ifFresh(t.Side(split.Green)))
		x := max(g.Text(37, row, guard.Limit, t.Label)+2, 56)
		frame.Spark(g, m.w-52, row, 8, guard.Sureness, 1, m.guardStyle(guard), t.Red)
		g.Within(x, row, m.w-53-x, guard.Said, m.guardStyle(guard))
	}
}

func (m Model) guardStyle(g keeper.Guard) cells.Style {
	switch g.State {
	case keeper.Idle:
		return m.theme.Label
	case keeper.Watching:
		return m.ifFresh(m.theme.Amber)
	case keeper.Tripped:
		return m.theme.Red.In(true)
	}
	return m.ifFresh(m.theme.Ink)
}

// guardValues are a guard's figures by side.
func (m Model) guardValues(g keeper.Guard) [2]string {
	var v [2]string
	if g.State == keeper.Idle {
		return v
	}
	target := m.s.Crossing.Target
	if g.Count {
		v[target] = fmt.Sprint(g.Trial.Bad)
		return v
	}
	v[target], v[target.Other()] = "—", "—"
	if g.Trial.Of > 0 {
		v[target] = frame.Percent(g.Trial.Rate())
	}
	if g.Baseline.Of > 0 {
		v[target.Other()] = frame.Percent(g.Baseline.Rate())
	}
	return v
}

// wayBack draws the judgement on a rollback.
func (m Model) wayBack(g *cells.Grid, y, x int) {
	t, r := m.theme, m.s.WayBack
	at := g.Text(x, y, "way back", t.Label) + 2
	word, style := m.wayBackWord()
	g.Text(at, y, word, style)
	for n, c := range r.Conditions {
		g.Text(x, y+1+n, c.Name, t.Label)
		g.Within(x+19, y+1+n, m.w-x-20, c.Text, m.conditionStyle(c.State))
	}
}

func (m Model) wayBackWord() (string, cells.Style) {
	r := m.s.WayBack
	if r.State == "" {
		return "nothing to go back from", m.theme.Label
	}
	style := m.theme.Side(split.Green).In(true)
	switch r.State {
	case wayback.Narrow:
		style = m.theme.Amber.In(true)
	case wayback.Closed:
		style = m.theme.Red.In(true)
	}
	return strings.ToUpper(string(r.State)), style
}

func (m Model) conditionStyle(s wayback.State) cells.Style {
	switch s {
	case wayback.Narrow:
		return m.theme.Amber
	case wayback.Closed:
		return m.theme.Red
	}
	return m.theme.Ink
}

// guardsFolded draws guards and way back on one line each.
func (m Model) guardsFolded(g *cells.Grid, y int) {
	t := m.theme
	for n, guard := range m.s.Guards {
		row := y + n
		g.Within(1, row, 14, guard.Name, t.Label)
		values := m.guardValues(guard)
		g.Right(24, row, values[split.Blue], m.ifFresh(t.Side(split.Blue)))
		g.Right(33, row, values[split.Green], m.ifFresh(t.Side(split.Green)))
		g.Within(36, row, m.w-37, guard.Said, m.guardStyle(guard))
	}
	row := y + 4
	x := g.Text(1, row, "way back", t.Label) + 2
	word, style := m.wayBackWord()
	x = g.Text(x, row, word, style) + 2
	text := m.s.WayBack.Why
	if text == "" && len(m.s.WayBack.Conditions) > 0 {
		first := m.s.WayBack.Conditions[0]
		text = first.Name + " " + first.Text
		if last := m.s.WayBack.Conditions[len(m.s.WayBack.Conditions)-1]; last.Text != "" {
			text += ", " + last.Name + " " + last.Text
		}
	}
	g.Within(x, row, m.w-x-1, text, t.Label)
}

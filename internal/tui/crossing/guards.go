package crossing

import (
	"fmt"
	"slices"
	"strings"

	"vaiven/internal/core/guard"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/core/wayout"
	"vaiven/internal/tui/cells"
	"vaiven/internal/tui/frame"
	"vaiven/internal/words"
)

// guards draws the guards as a table: blue's figure left, green's right.
func (m Model) guards(g *cells.Grid, y int) {
	t := m.theme
	g.Text(3, y, "guards", t.Label)
	g.Text(37, y, "trips if", t.Label)
	rows := m.guardRows()
	list, rest := m.shown(rows)
	for n, status := range list {
		row := y + 1 + n
		g.Within(3, row, 15, status.Name, t.Ink)
		values := m.guardValues(status)
		g.Right(25, row, values[split.Blue], m.ifFresh(t.Side(split.Blue)))
		g.Right(34, row, values[split.Green], m.ifFresh(t.Side(split.Green)))
		x := max(g.Text(37, row, words.Limit(status), t.Label)+2, 56)
		frame.Spark(g, m.w-52, row, 8, status.Sureness, 1, m.guardStyle(status), t.Red)
		g.Within(x, row, m.w-53-x, words.Guard(status), m.guardStyle(status))
	}
	if rest != "" {
		g.Within(3, y+rows, m.w-56, rest, t.Label)
	}
}

// guardRows is how many rows there are for guards beside the way back, which needs the least
// of them, and foldedRows how many there are where both are folded.
func (m Model) guardRows() int {
	return min(max(min(len(m.s.Guards), 5), len(m.s.WayBack.Conditions), 4), 6)
}

const foldedRows = 4

// shown are the guards that have room in so many rows, in the plan's order, or the gravest
// of them and how the rest stands.
func (m Model) shown(rows int) (list []guard.Status, rest string) {
	list = m.s.Guards
	if len(list) <= rows {
		return list, ""
	}
	gravity := []guard.State{guard.Tripped, guard.Watching, guard.Unknown, guard.Clear, guard.Idle, guard.Off}
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b guard.Status) int {
		return slices.Index(gravity, a.State) - slices.Index(gravity, b.State)
	})
	list, others := list[:rows-1], list[rows-1:]
	rest = fmt.Sprintf("and %d more:", len(others))
	for _, state := range gravity {
		n := 0
		for _, s := range others {
			if s.State == state {
				n++
			}
		}
		if n > 0 {
			rest += fmt.Sprintf(" %d %s,", n, state)
		}
	}
	return list, strings.TrimSuffix(rest, ",")
}

func (m Model) guardStyle(g guard.Status) cells.Style {
	switch g.State {
	case guard.Idle, guard.Off:
		return m.theme.Label
	case guard.Watching, guard.Unknown:
		return m.ifFresh(m.theme.Amber)
	case guard.Tripped:
		return m.theme.Red.In(true)
	}
	return m.ifFresh(m.theme.Ink)
}

// guardValues are a guard's figures by side.
func (m Model) guardValues(g guard.Status) [2]string {
	var v [2]string
	if g.State == guard.Idle || g.State == guard.Off {
		return v
	}
	target := m.s.Crossing.Target
	if !g.Watch.Compares() {
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

// waysOut draws what helps where a side that gets requests is ill, with the keys that do it.
func (m Model) waysOut(g *cells.Grid, y, x int) {
	t := m.theme
	g.Text(x, y, "what helps", t.Red.In(true))
	for n, w := range m.s.WaysOut {
		style := t.Ink
		if n == 0 {
			style = t.Ink.In(true)
		}
		g.Text(x, y+1+n, wayKeys[w.Do], t.Label)
		do, fail := words.Way(w, m.s.Crossing.Target)
		g.Text(x+9, y+1+n, do, style)
		g.Right(m.w-2, y+1+n, fail, style)
	}
}

// wayKeys are the keys of each way out.
var wayKeys = map[wayout.Do]string{wayout.Forward: "f enter", wayout.Hold: "", wayout.Home: "b b"}

// wayBack draws the judgement on a rollback, or what helps where that is the question.
func (m Model) wayBack(g *cells.Grid, y, x int) {
	if len(m.s.WaysOut) > 0 {
		m.waysOut(g, y, x)
		return
	}
	t, r := m.theme, m.s.WayBack
	at := g.Text(x, y, "way back", t.Label) + 2
	word, style := m.wayBackWord()
	g.Text(at, y, word, style)
	for n, c := range r.Conditions {
		name, text := words.Condition(c, m.now)
		g.Text(x, y+1+n, name, t.Label)
		g.Within(x+19, y+1+n, m.w-x-20, text, m.conditionStyle(c.State))
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
	list, rest := m.shown(foldedRows)
	for n, status := range list {
		row := y + n
		g.Within(1, row, 14, status.Name, t.Label)
		values := m.guardValues(status)
		g.Right(24, row, values[split.Blue], m.ifFresh(t.Side(split.Blue)))
		g.Right(33, row, values[split.Green], m.ifFresh(t.Side(split.Green)))
		g.Within(36, row, m.w-37, words.Guard(status), m.guardStyle(status))
	}
	if rest != "" {
		g.Within(1, y+foldedRows-1, m.w-2, rest, t.Label)
	}
	row := y + foldedRows
	if list := m.s.WaysOut; len(list) > 0 {
		x := g.Text(1, row, "what helps", t.Red.In(true)) + 2
		g.Within(x, row, m.w-x-1, strings.TrimSpace(wayKeys[list[0].Do]+" "+words.WayOut(list[0], m.s.Crossing.Target)), t.Ink.In(true))
		return
	}
	x := g.Text(1, row, "way back", t.Label) + 2
	word, style := m.wayBackWord()
	x = g.Text(x, row, word, style) + 2
	text := words.WayBack(m.s.WayBack, m.now)
	if list := m.s.WayBack.Conditions; text == "" && len(list) > 0 {
		name, said := words.Condition(list[0], m.now)
		text = name + " " + said
		for _, c := range list {
			if c.Kind == wayback.Front {
				text += ", home takes " + words.Takes(c.Takes)
			}
		}
	}
	g.Within(x, row, m.w-x-1, text, t.Label)
}

package differences

import (
	"fmt"
	"strings"

	"vaiven/internal/core/difference"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/split"
	"vaiven/internal/pairs"
	"vaiven/internal/tui/cells"
	"vaiven/internal/tui/frame"
)

// Model is the view's state. It is a value.
type Model struct {
	frame.Frame

	at       int  // the chosen row
	unfolded bool // what was meant is shown as well
	scroll   int  // lines of the detail above its first one
}

// In is the view within a frame.
func (m Model) In(f frame.Frame) Model {
	m.Frame = f
	return m
}

// Move moves the cursor.
func (m Model) Move(by int) Model {
	m.at = min(max(m.cursor()+by, 0), max(len(m.rows())-1, 0))
	m.scroll = 0
	return m
}

// Scroll moves the text below the list.
func (m Model) Scroll(lines int) Model {
	m.scroll = max(m.scroll+lines, 0)
	return m
}

// Fold shows what was meant, or hides it again.
func (m Model) Fold() Model {
	m.unfolded = !m.unfolded
	return m
}

// Chosen is what the cursor stands on: the comparison of the sides, or the same
// request to both.
func (m Model) Chosen() proof.Kind {
	if rows := m.rows(); len(rows) > 0 && rows[m.cursor()].finding != nil {
		return proof.KindPairs
	}
	return proof.KindDifference
}

// row is one line of the list.
type row struct {
	difference *difference.Difference
	finding    *pairs.Finding
}

func (m Model) rows() []row {
	var list []row
	for n := range m.S.About.Differences.List {
		d := &m.S.About.Differences.List[n]
		if !d.Meant {
			list = append(list, row{difference: d})
		}
	}
	for n := range m.S.About.Pairs.Findings {
		list = append(list, row{finding: &m.S.About.Pairs.Findings[n]})
	}
	if m.unfolded {
		for n := range m.S.About.Differences.List {
			if d := &m.S.About.Differences.List[n]; d.Meant {
				list = append(list, row{difference: d})
			}
		}
	}
	return list
}

func (m Model) cursor() int { return min(m.at, max(len(m.rows())-1, 0)) }

// View draws the whole screen.
func (m Model) View() string {
	g := cells.New(m.W, m.H)
	m.header(g)
	bottom := m.Page(g)
	detail := min(max((m.H-6)*2/5, 4), 18)
	if m.H < 14 {
		detail = 0
	}
	m.list(g, 2, bottom-detail)
	if detail > 0 {
		m.detail(g, bottom-detail, bottom)
	}
	return g.String()
}

func (m Model) header(g *cells.Grid) {
	t := m.Theme
	x := g.Text(1, 0, "vaiven", t.Label)
	x = g.Text(x+2, 0, m.S.Service, t.Ink.In(true))
	x = g.Text(x+1, 0, "differences", t.Label)
	for _, side := range split.Sides {
		x = g.Text(x+2, 0, strings.ToUpper(side.String()), t.Side(side).In(true))
		x = g.Text(x+1, 0, m.S.Sides[side].Version, t.Ink.In(true))
	}
	verdict, style := m.verdict()
	g.Right(m.W-1, 0, cells.Cut(verdict, max(m.W-x-3, 0)), style)
}

func (m Model) verdict() (string, cells.Style) {
	t, d, p := m.Theme, m.S.About.Differences, m.S.About.Pairs
	if d.Compared == 0 {
		if m.S.Proving {
			return "being compared", t.Amber.In(true)
		}
		return "not compared yet", t.Label
	}
	text := fmt.Sprintf("%d not meant of %d compared", len(d.Questioned()), d.Compared)
	style := t.Ink.In(true)
	if len(d.Questioned()) > 0 {
		style = t.Amber.In(true)
	}
	if !p.At.IsZero() {
		text += "   " + frame.Age(m.Now.Sub(p.At)) + " ago"
	}
	return text, style
}

// columns are the places of the three columns: blue's values, what it is, green's.
func (m Model) columns() (value, name int) {
	name = min(max(m.W*30/100, 24), 44)
	return (m.W - name - 6) / 2, name
}

// list draws what differs between two rows of the screen.
func (m Model) list(g *cells.Grid, top, bottom int) {
	t := m.Theme
	value, name := m.columns()
	green := 2 + value + 1 + name + 1
	g.Right(2+value, top, "BLUE", t.Side(split.Blue).In(true))
	g.Text(green, top, "GREEN", t.Side(split.Green).In(true))
	top++
	rows := m.rows()
	meant := 0
	for _, d := range m.S.About.Differences.List {
		if d.Meant {
			meant++
		}
	}
	foot := m.foot(meant)
	room := bottom - top - len(foot)
	first := 0
	if len(rows) > room {
		first = min(max(m.cursor()-room/2, 0), len(rows)-max(room, 1))
	}
	y := top
	for n := first; n < len(rows) && n-first < room; n++ {
		m.row(g, y, rows[n], n == m.cursor())
		y++
	}
	if len(rows) == 0 {
		text := "nothing differs that was not meant"
		if m.S.About.Differences.Compared == 0 {
			text = "the sides are compared when the spare one is proven; r compares them now"
		}
		g.Within(2, y, m.W-3, text, t.Label)
		y++
	}
	for _, f := range foot {
		if y < bottom {
			g.Within(2, y, m.W-3, f, t.Label)
			y++
		}
	}
}

// foot are the lines below the list.
func (m Model) foot(meant int) []string {
	var lines []string
	p := m.S.About.Pairs
	if p.Pairs > 0 {
		lines = append(lines, fmt.Sprintf("same request to both: %d of %d answers are the same · p50 %.1f ms blue, %.1f ms green · p99 %.1f, %.1f",
			p.Same, p.Pairs, p.Times[0].P50, p.Times[1].P50, p.Times[0].P99, p.Times[1].P99))
	}
	if w := m.S.About.Warmth; w.Requests > 0 {
		lines = append(lines, fmt.Sprintf("warm-up: %d requests, p50 %.1f ms at first and %.1f ms at last", w.Requests, w.First, w.Last))
	}
	if meant > 0 {
		fold := fmt.Sprintf("▸ %d more were meant: m shows them", meant)
		if m.unfolded {
			fold = "▾ what was meant stands last: m folds it away"
		}
		lines = append(lines, fold)
	}
	for _, missing := range m.S.About.Differences.Missing {
		lines = append(lines, "not read: "+missing)
	}
	return lines
}

func (m Model) row(g *cells.Grid, y int, r row, chosen bool) {
	t := m.Theme
	value, name := m.columns()
	if chosen {
		g.Set(0, y, '▸', t.Ink.In(true))
	}
	what, style := m.what(r)
	center := cells.Cut(what, name)
	at := 2 + value + 1
	g.Text(at+(name-cells.Width(center))/2, y, center, style)
	shown := r.shown(value)
	for _, side := range split.Sides {
		text, ink := shown[side], t.Ink
		if _, has := r.value(side); !has {
			text, ink = "—", t.Label
		}
		text = cells.Cut(text, value)
		if side == split.Blue {
			g.Right(2+value, y, text, ink)
		} else {
			g.Text(at+name+1, y, text, ink)
		}
	}
}

// what is a row's name with its style: amber for what was not meant.
func (m Model) what(r row) (string, cells.Style) {
	if f := r.finding; f != nil {
		return fmt.Sprintf("%d× %s of %s", f.Count, f.What, f.Request), m.Theme.Amber
	}
	d := r.difference
	text := d.What()
	if d.Area == difference.Configuration {
		text = d.Name // a file says by its name what it is
	}
	if len(m.S.Parts) > 1 {
		text = d.Part + " " + text
	}
	if d.Meant {
		return "meant: " + text, m.Theme.Label
	}
	return text, m.Theme.Amber
}

func (r row) value(side split.Side) (string, bool) {
	if f := r.finding; f != nil {
		return f.Value[side], f.Value[side] != ""
	}
	return r.difference.Value[side], r.difference.Has[side]
}

// shown are both values as far as they fit. Of long ones that begin alike, what they
// share is left out, so that what differs is seen.
func (r row) shown(width int) [2]string {
	blue, _ := r.value(split.Blue)
	green, _ := r.value(split.Green)
	a, b := []rune(blue), []rune(green)
	const before = 10 // runes that are left of what they share
	same := 0
	for same < min(len(a), len(b)) && a[same] == b[same] {
		same++
	}
	if max(len(a), len(b)) <= width || same <= before+1 {
		return [2]string{blue, green}
	}
	cut := same - before
	return [2]string{"…" + string(a[cut:]), "…" + string(b[cut:])}
}

// detail is the chosen row in full: a text's difference line by line, or both values
// side by side.
func (m Model) detail(g *cells.Grid, top, bottom int) {
	t := m.Theme
	frame.Hair(g, t, top)
	rows := m.rows()
	if len(rows) == 0 {
		return
	}
	r := rows[m.cursor()]
	what, style := m.what(r)
	g.Within(1, top+1, m.W-2, what, style.In(true))
	if r.difference != nil && len(r.difference.Lines) > 0 {
		m.unified(g, top+2, bottom, r.difference.Lines)
		return
	}
	m.beside(g, top+2, bottom, r)
}

// unified draws a text's difference; lines say by their sign whose they are.
func (m Model) unified(g *cells.Grid, top, bottom int, lines []string) {
	t := m.Theme
	room := bottom - top
	first := min(m.scroll, max(len(lines)-room, 0))
	for n, text := range lines[first:min(first+room, len(lines))] {
		style := t.Label
		switch {
		case strings.HasPrefix(text, "---"), strings.HasPrefix(text, "+++"):
		case strings.HasPrefix(text, "-"):
			style = t.Side(split.Blue)
		case strings.HasPrefix(text, "+"):
			style = t.Side(split.Green)
		case strings.HasPrefix(text, " "):
			style = t.Ink
		}
		g.Within(1, top+n, m.W-2, text, style)
	}
	m.more(g, bottom, len(lines)-first-room)
}

// beside draws both sides' texts next to each other, scrolled together.
func (m Model) beside(g *cells.Grid, top, bottom int, r row) {
	width := (m.W - 5) / 2
	var columns [2][]string
	for _, side := range split.Sides {
		text, has := r.value(side)
		if f := r.finding; f != nil && f.Answer[side] != "" {
			text = f.Answer[side]
		} else if !has {
			text = "—"
		}
		for line := range strings.Lines(text) {
			columns[side] = append(columns[side], frame.Wrap(strings.TrimRight(line, "\r\n"), width)...)
		}
	}
	length := max(len(columns[0]), len(columns[1]))
	room := bottom - top
	first := min(m.scroll, max(length-room, 0))
	for n := range min(room, length-first) {
		for _, side := range split.Sides {
			if at := first + n; at < len(columns[side]) {
				style := m.Theme.Ink
				if at < len(columns[side.Other()]) && columns[side][at] != columns[side.Other()][at] {
					style = m.Theme.Side(side)
				}
				g.Text(1+int(side)*(width+3), top+n, columns[side][at], style)
			}
		}
	}
	m.more(g, bottom, length-first-room)
}

func (m Model) more(g *cells.Grid, bottom, lines int) {
	if lines > 0 {
		g.Right(m.W-1, bottom-1, fmt.Sprintf("%d more lines, pgdown", lines), m.Theme.Label)
	}
}

package differences

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/key"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/difference"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/proving/pairs"
	"vaiven/internal/words"
)

// Model is the page's state. It is a value.
type Model struct {
	at       int          // the chosen row
	unfolded bool         // planned differences are shown as well
	scroll   frame.Scroll // of the detail
}

// New makes the page.
func New() frame.Page { return Model{} }

// page is the model with what it draws.
type page struct {
	Model
	frame.Frame
}

// Take is for other pages.
func (m Model) Take(any) frame.Page { return m }

// Keys are the cursor, the fold, and comparing again.
func (m Model) Keys(f frame.Frame) []key.Binding {
	list := []key.Binding{
		frame.Bind("k", "compare again", "k"), frame.Bind("m", "planned differences", "m"),
		frame.Bind("↑ ↓", "choose", "up", "down"), frame.Bind("pgdown", "scroll", "pgdown", "pgup"),
	}
	side := f.S.Live.Other()
	if f.S.Crossing.Stage.UnderWay() {
		side = f.S.Crossing.Target
	}
	list[0].SetEnabled(len(f.S.Sides[side].Instances) > 0 && !f.S.Proving && !f.Others)
	return list
}

// Press moves the cursor, folds, or asks for a comparison.
func (m Model) Press(f frame.Frame, pressed string) (frame.Page, frame.Wish) {
	p := page{m, f}
	switch pressed {
	case "k":
		return m, frame.Wish{Do: keeper.Command{Act: crossing.Prove{Check: proof.Result{Kind: p.Chosen()}}}}
	case "m":
		m.unfolded = !m.unfolded
	case "up":
		return p.Move(-1), frame.Wish{}
	case "down":
		return p.Move(1), frame.Wish{}
	case "pgdown", "pgup":
		m.scroll = m.scroll.Press(pressed)
	}
	return m, frame.Wish{}
}

// Marks explain the list.
func (m Model) Marks() []frame.Mark {
	return []frame.Mark{
		{Glyph: "◇", Means: "a difference that the plan does not expect"},
		{Glyph: "planned:", Means: "a difference that the plan expects, such as the version"},
		{Glyph: "≠", Means: "this line differs"}, {Glyph: "- +", Means: "a line that only blue has, that only green " +
			"has"}, {Glyph: "▸", Means: "the difference that is shown in full below"},
	}
}

// Move moves the cursor.
func (m page) Move(by int) Model {
	m.at = min(max(m.cursor()+by, 0), max(len(m.rows())-1, 0))
	m.scroll = 0
	return m.Model
}

// Chosen is what the cursor stands on: the comparison of the sides, or the same
// request to both.
func (m page) Chosen() proof.Kind {
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

func (m page) rows() []row {
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

func (m page) cursor() int { return min(m.at, max(len(m.rows())-1, 0)) }

// Draw draws the list, and the chosen row in full below it.
func (m Model) Draw(f frame.Frame, g *cells.Grid, top, bottom int) {
	p := page{m, f}
	detail := min(max((f.H-6)*2/5, 4), 18)
	if f.H < 14 {
		detail = 0
	}
	p.list(g, top, bottom-detail)
	if detail > 0 {
		p.detail(g, bottom-detail, bottom)
	}
}

// Head says what is compared and how much differs.
func (m Model) Head(f frame.Frame, g *cells.Grid, x, end int) {
	p, t := page{m, f}, f.Theme
	verdict, style := p.verdict()
	room := min(cells.Width(verdict), (end-x)/2)
	x = g.Within(x, 0, end-x-room-2, "differences", t.Label)
	for _, side := range split.Sides {
		width := (end - x - room - 2) / 2
		if side == split.Green {
			width *= 2
		}
		at := g.Within(x+2, 0, width-2, strings.ToUpper(side.String()), t.Side(side).In(true))
		x = g.Within(at+1, 0, x+width-at-1, f.S.Sides[side].Version, t.Ink.In(true))
	}
	g.Right(end-1, 0, cells.Cut(verdict, max(end-x-3, 0)), style)
}

func (m page) verdict() (string, cells.Style) {
	t, d, p := m.Theme, m.S.About.Differences, m.S.About.Pairs
	if d.Compared == 0 {
		if m.S.Proving {
			return "being compared", t.Amber.In(true)
		}
		return "not compared yet", t.Label
	}
	text := fmt.Sprintf("%d unplanned of %d compared", len(d.Questioned()), d.Compared)
	style := t.Ink.In(true)
	if len(d.Questioned()) > 0 {
		style = t.Amber.In(true)
	}
	if !p.At.IsZero() {
		text += "   " + words.Age(m.Now.Sub(p.At)) + " ago"
	}
	return text, style
}

// columns are the places of the three columns: blue's values, what it is, green's.
func (m page) columns() (value, name int) {
	name = min(max(m.W*30/100, 24), 44)
	return (m.W - name - 6) / 2, name
}

// list draws what differs between two rows of the screen.
func (m page) list(g *cells.Grid, top, bottom int) {
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
	first := frame.Window(m.cursor(), len(rows), room)
	y := top
	for n := first; n < len(rows) && n-first < room; n++ {
		m.row(g, y, rows[n], n == m.cursor())
		y++
	}
	if len(rows) == 0 {
		text := "no unplanned difference"
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
func (m page) foot(meant int) []string {
	var lines []string
	p := m.S.About.Pairs
	if p.Pairs > 0 {
		lines = append(lines, fmt.Sprintf("same request to both: %d of %d answers are the same · p50 %.1f ms blue, "+
			"%.1f ms green · p99 %.1f, %.1f",
			p.Same, p.Pairs, p.Times[0].P50, p.Times[1].P50, p.Times[0].P99, p.Times[1].P99))
	}
	if w := m.S.About.Warmth; w.Requests > 0 {
		lines = append(lines, fmt.Sprintf("warm-up: %d requests, p50 %.1f ms at first and %.1f ms at last", w.Requests,
			w.First, w.Last))
	}
	if meant > 0 {
		fold := fmt.Sprintf("▸ %d planned differences: m shows them", meant)
		if m.unfolded {
			fold = "▾ planned differences stand last: m hides them"
		}
		lines = append(lines, fold)
	}
	for _, missing := range m.S.About.Differences.Missing {
		lines = append(lines, "not read: "+missing)
	}
	return lines
}

func (m page) row(g *cells.Grid, y int, r row, chosen bool) {
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
func (m page) what(r row) (string, cells.Style) {
	if f := r.finding; f != nil {
		return fmt.Sprintf("◇ %d× %s of %s", f.Count, f.What, f.Request), m.Theme.Amber
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
		return "planned: " + text, m.Theme.Label
	}
	return "◇ " + text, m.Theme.Amber
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
func (m page) detail(g *cells.Grid, top, bottom int) {
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
func (m page) unified(g *cells.Grid, top, bottom int, lines []string) {
	t := m.Theme
	room := rows(top, bottom, len(lines))
	first := m.scroll.Of(len(lines), room)
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
func (m page) beside(g *cells.Grid, top, bottom int, r row) {
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
	room := rows(top, bottom, length)
	first := m.scroll.Of(length, room)
	differs := func(at int) bool {
		return at >= len(columns[0]) || at >= len(columns[1]) || columns[0][at] != columns[1][at]
	}
	for n := range min(room, length-first) {
		if differs(first + n) {
			g.Set(1+width+1, top+n, '≠', m.Theme.Amber)
		}
		for _, side := range split.Sides {
			if at := first + n; at < len(columns[side]) {
				style := m.Theme.Ink
				if differs(at) {
					style = m.Theme.Side(side)
				}
				g.Text(1+int(side)*(width+3), top+n, columns[side][at], style)
			}
		}
	}
	m.more(g, bottom, length-first-room)
}

// rows is how many lines there is room for, with one for how many more there are.
func rows(top, bottom, lines int) int {
	room := bottom - top
	if lines > room {
		room--
	}
	return max(room, 0)
}

func (m page) more(g *cells.Grid, bottom, lines int) {
	if lines > 0 {
		g.Within(1, bottom-1, m.W-2, fmt.Sprintf("+%d lines, pgdown", lines), m.Theme.Label)
	}
}

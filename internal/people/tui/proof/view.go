package proof

import (
	"fmt"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"

	"vaiven/internal/core/crossing"
	core "vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/words"
)

// Model is the page's state. It is a value.
type Model struct {
	chosen core.Result  // the cell of the cursor; the zero one is none, and then the first that does not pass
	moved  bool         // somebody moved the cursor
	scroll frame.Scroll // of the detail
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

// Keys are the cursor, and checking again.
func (m Model) Keys(f frame.Frame) []key.Binding {
	p := page{m, f}
	toProve := len(f.S.Sides[p.target()].Instances) > 0 && !f.S.Proving && !f.Others
	list := []key.Binding{
		frame.Bind("k", "check again", "k"), frame.Bind("K", "check all again", "K"),
		frame.Bind("↑ ↓ ← →", "choose", "up", "down", "left", "right"),
		frame.Bind("pgdown", "scroll", "pgdown", "pgup"),
	}
	list[0].SetEnabled(toProve)
	list[1].SetEnabled(toProve)
	return list
}

// Press moves the cursor, or asks for checks.
func (m Model) Press(f frame.Frame, pressed string) (frame.Page, frame.Wish) {
	p := page{m, f}
	switch pressed {
	case "k":
		if cell, ok := p.Chosen(); ok {
			return m, frame.Wish{Do: keeper.Command{Act: crossing.Prove{Check: cell}}}
		}
		return m, frame.Wish{Do: keeper.Command{Act: crossing.Prove{}}}
	case "K":
		return m, frame.Wish{Do: keeper.Command{Act: crossing.Prove{}}}
	case "pgdown", "pgup":
		m.scroll = m.scroll.Press(pressed)
	case "up":
		return p.Move(0, -1), frame.Wish{}
	case "down":
		return p.Move(0, 1), frame.Wish{}
	case "left":
		return p.Move(-1, 0), frame.Wish{}
	case "right":
		return p.Move(1, 0), frame.Wish{}
	}
	return m, frame.Wish{}
}

// Marks explain the grid.
func (m Model) Marks() []frame.Mark {
	return []frame.Mark{
		{Glyph: "●", Means: "passes"}, {Glyph: "▲", Means: "fails"},
		{Glyph: "◇", Means: "differs, and a person has to accept it"}, {Glyph: "◆", Means: "a person accepted it"},
		{Glyph: "▸", Means: "the check that is shown in full below"},
		{Glyph: "▁▃▆", Means: "times of the last health checks; ▲ one that failed"},
	}
}

// target is the side that is proven.
func (m page) target() split.Side {
	if m.S.Crossing.Stage.UnderWay() {
		return m.S.Crossing.Target
	}
	return m.S.Live.Other()
}

// section is the grid of one part: its rows are checks, its columns instances.
type section struct {
	part    string
	columns []string
	rows    []row
}

// row is one check on all instances of a part, or on the side as a whole.
type row struct {
	kind  core.Kind
	check string
	whole *core.Result           // of the side, in place of cells
	cells map[string]core.Result // by instance
}

// sections arranges the results. Health is shown as it is now, beyond the proof.
func (m page) sections() []section {
	var list []section
	for _, part := range m.S.Parts {
		s := section{part: part.Name}
		for _, c := range m.S.Sides[m.target()].Instances {
			if c.Part == part.Name {
				s.columns = append(s.columns, c.Name)
			}
		}
		for _, r := range m.results() {
			if r.Part != part.Name {
				continue
			}
			s.take(r)
		}
		slices.SortStableFunc(s.rows,
			func(a, b row) int { return slices.Index(core.Kinds, a.kind) - slices.Index(core.Kinds, b.kind) })
		list = append(list, s)
	}
	return list
}

// take puts a result into its row.
func (s *section) take(r core.Result) {
	n := slices.IndexFunc(s.rows, func(w row) bool { return w.kind == r.Kind && w.check == r.Check })
	if n < 0 {
		s.rows = append(s.rows, row{kind: r.Kind, check: r.Check, cells: map[string]core.Result{}})
		n = len(s.rows) - 1
	}
	if _, err := split.ParseSide(r.Instance); err == nil {
		s.rows[n].whole = &r
		return
	}
	if !slices.Contains(s.columns, r.Instance) {
		s.columns = append(s.columns, r.Instance) // gone since
	}
	s.rows[n].cells[r.Instance] = r
}

// results are the proof's, with the health of every instance as last read.
func (m page) results() []core.Result {
	list := slices.Clone(m.S.Proof.Results)
	for _, c := range m.S.Sides[m.target()].Instances {
		r := core.Result{
			Part: c.Part, Kind: core.KindHealth, Check: "health", Instance: c.Name, Pass: c.State == reading.Healthy,
			Want: "healthy", Got: strings.TrimSpace(string(c.State) + " " + c.Said), Took: c.Took, At: c.At,
			Since: c.Since, History: c.History, Answer: c.Answer,
		}
		if n := slices.IndexFunc(list, r.SameCell); n >= 0 {
			r.Want = list[n].Want
			list[n] = r
		} else {
			list = append(list, r)
		}
	}
	return list
}

// order is every result as the cursor passes them: row by row.
func (m page) order() [][]core.Result {
	var grid [][]core.Result
	for _, s := range m.sections() {
		for _, w := range s.rows {
			if w.whole != nil {
				grid = append(grid, []core.Result{*w.whole})
				continue
			}
			var line []core.Result
			for _, name := range s.columns {
				if r, ok := w.cells[name]; ok {
					line = append(line, r)
				}
			}
			if len(line) > 0 {
				grid = append(grid, line)
			}
		}
	}
	return grid
}

// cursor is where the chosen cell stands: the first that does not pass, if nobody
// has chosen any.
func (m page) cursor(grid [][]core.Result) (y, x int) {
	for y, line := range grid {
		for x, r := range line {
			if m.moved && r.SameCell(m.chosen) {
				return y, x
			}
		}
	}
	for y, line := range grid {
		for x, r := range line {
			if !r.Pass {
				return y, x
			}
		}
	}
	return 0, 0
}

// Move moves the cursor.
func (m page) Move(dx, dy int) Model {
	grid := m.order()
	if len(grid) == 0 {
		return m.Model
	}
	y, x := m.cursor(grid)
	y = min(max(y+dy, 0), len(grid)-1)
	x = min(max(x+dx, 0), len(grid[y])-1)
	m.chosen, m.moved, m.scroll = grid[y][x], true, 0
	return m.Model
}

// Chosen is the result at the cursor, false if there is none.
func (m page) Chosen() (core.Result, bool) {
	grid := m.order()
	if len(grid) == 0 {
		return core.Result{}, false
	}
	y, x := m.cursor(grid)
	return grid[y][x], true
}

// Draw draws the grid, and the chosen result in full below it.
func (m Model) Draw(f frame.Frame, g *cells.Grid, top, bottom int) {
	p := page{m, f}
	detail := min(max((f.H-6)/3, 3), 14)
	if f.H < 12 {
		detail = 0
	}
	p.grid(g, top, bottom-detail)
	if detail > 0 {
		p.detail(g, bottom-detail, bottom)
	}
}

// Head says what is proven and how it stands.
func (m Model) Head(f frame.Frame, g *cells.Grid, x, end int) {
	p := page{m, f}
	t, side := f.Theme, p.target()
	verdict, style := p.verdict()
	x = g.Within(x, 0, end-x, "proof of", t.Label)
	x = g.Within(x+1, 0, end-x-1, strings.ToUpper(side.String()), t.Side(side).In(true))
	room := max(min(cells.Width(verdict), (end-x)*2/3), 0)
	x = g.Within(x+1, 0, end-x-room-4, f.S.Sides[side].Version, t.Ink.In(true))
	g.Right(end-1, 0, cells.Cut(verdict, max(end-x-3, 0)), style)
}

func (m page) verdict() (string, cells.Style) {
	t, p := m.Theme, m.S.Proof
	open := p.Open(m.S.Crossing.Accepted)
	asks := 0
	for _, r := range open {
		if r.Ask {
			asks++
		}
	}
	counts := fmt.Sprintf("%d of %d passing", p.Passing(), len(p.Results))
	age := ""
	if n := len(p.Results); n > 0 {
		at := slices.MaxFunc(p.Results, func(a, b core.Result) int { return a.At.Compare(b.At) }).At
		age = "   checked " + words.Age(m.Now.Sub(at)) + " ago"
	}
	switch {
	case m.S.Proving:
		return "being proven   " + counts + " so far", t.Amber.In(true)
	case len(p.Results) == 0:
		return "not proven yet", t.Label
	case len(open) == 0 && asks == 0 && p.Passing() == len(p.Results):
		return "proven   " + counts + age, t.Side(m.target()).In(true)
	case len(open) == 0:
		return "proven, with what was accepted   " + counts + age, t.Amber.In(true)
	case asks == len(open):
		return fmt.Sprintf("%d to be accepted   %s%s", asks, counts, age), t.Amber.In(true)
	}
	return fmt.Sprintf("not proven   %s%s", counts, age), t.Red.In(true)
}

// grid draws the sections between two rows, scrolled so that the cursor is seen.
func (m page) grid(g *cells.Grid, top, bottom int) {
	sections := m.sections()
	chosen, _ := m.Chosen()
	lines := m.lines(sections)
	at := 0
	for n, l := range lines {
		if l.holds(chosen) {
			at = n
		}
	}
	room := bottom - top
	if len(lines) > room {
		room-- // for how many more there are
	}
	first := frame.Window(at, len(lines), room)
	for n := first; n < len(lines) && n-first < room; n++ {
		m.line(g, top+n-first, lines[n], chosen)
	}
	if len(lines) == 0 {
		g.Within(2, top+1, m.W-3, "nothing has been raised: there is nothing to prove. s chooses a version",
			m.Theme.Label)
	}
	if more := len(lines) - first - room; more > 0 {
		g.Within(2, bottom-1, m.W-3, fmt.Sprintf("+%d more below", more), m.Theme.Label)
	}
}

// line is one row on the screen: the head of a section, or a check.
type line struct {
	section section
	row     *row // nil for a head
}

func (l line) holds(r core.Result) bool {
	return l.row != nil && l.section.part == r.Part && l.row.kind == r.Kind && l.row.check == r.Check
}

func (m page) lines(sections []section) []line {
	var list []line
	for _, s := range sections {
		if len(s.columns) == 0 && len(s.rows) == 0 {
			continue
		}
		list = append(list, line{section: s})
		for n := range s.rows {
			list = append(list, line{section: s, row: &s.rows[n]})
		}
	}
	return list
}

// widths are of the labels and of one instance's column.
func (m page) widths(columns int) (label, column int) {
	label = min(max(m.W*30/100, 20), 40)
	if columns == 0 {
		return label, 0
	}
	return label, min(max((m.W-label-3)/columns, 9), 34)
}

func (m page) line(g *cells.Grid, y int, l line, chosen core.Result) {
	t := m.Theme
	label, column := m.widths(len(l.section.columns))
	first := 0 // the first column that is drawn
	if fit := max((m.W-label-3)/max(column, 1), 1); len(l.section.columns) > fit {
		at := max(slices.Index(l.section.columns, chosen.Instance), 0)
		first = frame.Window(at, len(l.section.columns), fit)
	}
	if l.row == nil {
		part := l.section.part
		if fit := max((m.W-label-3)/max(column, 1), 1); len(l.section.columns) > fit {
			part += fmt.Sprintf(", +%d instances", len(l.section.columns)-fit)
		}
		g.Within(1, y, label, part, t.Ink.In(true))
		for n, name := range l.section.columns[first:] {
			g.Text(label+2+n*column, y, cells.CutLeft(name, min(column-1, m.W-label-3-n*column)), t.Side(m.target()))
		}
		return
	}
	g.Within(1, y, label, "  "+m.label(*l.row), t.Label)
	if w := l.row.whole; w != nil {
		glyph, style := m.glyph(*w)
		g.Set(label+2, y, glyph, style)
		value := t.Ink
		if !w.Pass {
			value = style
		}
		g.Within(label+4, y, m.W-label-5, w.Got, value)
		m.mark(g, label+1, y, *w, chosen)
		return
	}
	for n, name := range l.section.columns[first:] {
		r, ok := l.row.cells[name]
		if !ok {
			continue
		}
		x := label + 2 + n*column
		m.cell(g, x, y, column, r)
		m.mark(g, x-1, y, r, chosen)
	}
}

// mark shows where the cursor is, by a shape and not by colour alone.
func (m page) mark(g *cells.Grid, x, y int, r, chosen core.Result) {
	if r.SameCell(chosen) {
		g.Set(x, y, '▸', m.Theme.Ink.In(true))
	}
}

// label is a row in words.
func (m Model) label(w row) string {
	switch w.kind {
	case core.KindNeed:
		return "needs " + w.check
	case core.KindThrough:
		return w.check + ", by the front"
	}
	return w.check
}

// cell draws one result: its state, its time, and its last readings as far as there
// is room.
func (m page) cell(g *cells.Grid, x, y, width int, r core.Result) {
	glyph, style := m.glyph(r)
	g.Set(x, y, glyph, style)
	text := frame.Milliseconds(r.Took)
	if !r.Pass {
		text = r.Got
	}
	value := m.Theme.Ink
	if !r.Pass {
		value = style
	}
	bars := 0
	if width >= 20 {
		bars = min(8, width-16)
	}
	at := g.Within(x+2, y, width-3-bars, text, value)
	if bars > 0 && len(r.History) > 1 && at <= x+width-bars-2 {
		frame.Spark(g, x+width-bars-2, y, bars, r.History, 6, m.Theme.Side(m.target()), m.Theme.Red)
	}
	if since := words.Age(m.Now.Sub(r.Since)); !r.Since.IsZero() && width >= 30 && at+len(since)+2 < x+width-bars-2 {
		g.Right(x+width-bars-3, y, since, m.Theme.Label)
	}
}

// glyph is a result's state as a shape with its style.
func (m page) glyph(r core.Result) (rune, cells.Style) {
	t := m.Theme
	switch {
	case r.Pass:
		return '●', t.Side(m.target())
	case r.Ask && slices.ContainsFunc(m.S.Crossing.Accepted, r.Finding().Same):
		return '◆', t.Amber
	case r.Ask:
		return '◇', t.Amber.In(true)
	}
	return '▲', t.Red.In(true)
}

// detail is the chosen result in full.
func (m page) detail(g *cells.Grid, top, bottom int) {
	t := m.Theme
	frame.Hair(g, t, top)
	r, ok := m.Chosen()
	if !ok {
		return
	}
	state := "passes"
	_, style := m.glyph(r)
	switch {
	case !r.Pass && r.Ask && slices.ContainsFunc(m.S.Crossing.Accepted, r.Finding().Same):
		state = "accepted"
	case !r.Pass && r.Ask:
		state = "asks to be accepted"
	case !r.Pass:
		state = "fails"
	}
	y := top + 1
	x := g.Within(1, y, m.W/2, r.Check+" on "+r.Instance, t.Ink.In(true))
	x = g.Text(x+2, y, state, style)
	facts := fmt.Sprintf("since %s · %s · %s", words.Age(m.Now.Sub(r.Since)), frame.Milliseconds(r.Took),
		times(r.Tries))
	g.Within(x+2, y, m.W-x-3, facts, t.Label)
	lines := append(labelled("want", r.Want, m.W-10), labelled("got", r.Got, m.W-10)...)
	if r.Answer != "" && !r.Pass {
		label := "answer"
		for text := range strings.Lines(r.Answer) {
			lines = append(lines, labelled(label, strings.TrimRight(text, "\r\n"), m.W-10)...)
			label = ""
		}
	}
	room := bottom - y - 1
	if len(lines) > room {
		room-- // for how many more there are
	}
	room = max(room, 0)
	first := m.scroll.Of(len(lines), room)
	for n, l := range lines[first:min(first+room, len(lines))] {
		g.Text(1, y+1+n, l[0], t.Label)
		g.Text(8, y+1+n, l[1], t.Ink)
	}
	if more := len(lines) - first - room; more > 0 {
		g.Within(8, bottom-1, m.W-9, fmt.Sprintf("+%d lines, pgdown", more), t.Label)
	}
}

// labelled is a text in lines, with a label before the first.
func labelled(label, text string, width int) [][2]string {
	var lines [][2]string
	for _, piece := range frame.Wrap(text, width) {
		lines = append(lines, [2]string{label, piece})
		label = ""
	}
	return lines
}

func times(n int) string {
	if n == 1 {
		return "tried once"
	}
	return fmt.Sprintf("tried %d times", n)
}

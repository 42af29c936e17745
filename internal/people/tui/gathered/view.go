package gathered

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"charm.land/bubbles/v2/key"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/words"
)

// Model is the page's state. It is a value.
type Model struct {
	stories []guard.Story
	err     string
	at      int // the guard that is shown
	back    int // how many columns the cursor is from the newest
}

// New makes the page.
func New() frame.Page { return Model{} }

// read is what the keeper told.
type read struct {
	stories []guard.Story
	err     error
}

// Open reads what the guards have come to.
func (m Model) Open(frame.Frame) (frame.Page, frame.Wish) {
	return m, frame.Wish{Read: func(ctx context.Context, c keeper.Client) any {
		stories, err := c.Evidence(ctx)
		return read{stories, err}
	}}
}

// Take takes it.
func (m Model) Take(answer any) frame.Page {
	if r, ok := answer.(read); ok {
		if m.stories, m.err = r.stories, ""; r.err != nil {
			m.err = r.err.Error()
		}
	}
	return m
}

// Every is how often it is read again: guards keep a moment as often.
func (Model) Every() time.Duration { return 5 * time.Second }

// Keys choose a guard and a time.
func (m Model) Keys(frame.Frame) []key.Binding {
	return []key.Binding{frame.Bind("↑ ↓", "guard", "up", "down"),
		frame.Bind("← →", "time", "left", "right", "shift+left", "shift+right")}
}

// Press moves the cursor.
func (m Model) Press(_ frame.Frame, pressed string) (frame.Page, frame.Wish) {
	switch pressed {
	case "up":
		m.at = max(m.at-1, 0)
	case "down":
		m.at = min(m.at+1, max(len(m.stories)-1, 0))
	case "left", "right", "shift+left", "shift+right":
		m.back = max(m.back+map[string]int{"left": 1, "right": -1, "shift+left": 10, "shift+right": -10}[pressed], 0)
	}
	return m, frame.Wish{}
}

// Marks explain what is drawn.
func (m Model) Marks() []frame.Mark {
	return []frame.Mark{
		{Glyph: "○", Means: "the live side's rate in that time"}, {Glyph: "●", Means: "the new side's"},
		{Glyph: "│ ┃", Means: "the range of the live side's and of the new side's, with 95 % certainty"},
		{Glyph: "░", Means: "between the live side's own instances: what differs by no more may be noise"},
		{Glyph: "█ ▄ ·", Means: "at the front door: half or more bad, some bad, none"},
		{Glyph: "▪", Means: "the evidence that the new side is worse, as a power of ten"},
		{Glyph: "┄", Means: "where the guard trips"},
	}
}

// Head is how many moments there are.
func (m Model) Head(f frame.Frame, g *cells.Grid, x, end int) {
	x = g.Within(x, 0, end-x, "evidence", f.Theme.Label)
	said := ""
	if s, ok := m.story(); ok && len(s.Points) > 0 {
		said = fmt.Sprintf("since %s, ", s.Points[0].At.Local().Format("15:04:05"))
		if s.Figure != "" {
			said += s.Figure
		} else {
			said += fmt.Sprintf("in %s", s.Unit)
		}
	}
	g.Right(end-1, 0, cells.Cut(said, max(end-x-3, 0)), f.Theme.Ink)
}

func (m Model) story() (guard.Story, bool) {
	if len(m.stories) == 0 {
		return guard.Story{}, false
	}
	return m.stories[min(m.at, len(m.stories)-1)], true
}

// column is the moments that one column of the page stands for.
type column struct {
	guard.Point
	from time.Time // of the moment before it
}

// columns are a story's moments, so many to a column that all have room.
func columns(list []guard.Point, room int) []column {
	if room < 1 {
		return nil
	}
	each := (len(list) + room - 1) / room
	var cols []column
	for n := 0; n < len(list); n += max(each, 1) {
		last := min(n+max(each, 1), len(list))
		c := column{Point: list[last-1]}
		if n > 0 {
			c.from = list[n-1].At
		}
		c.Live, c.Trial = evidence.Count{}, evidence.Count{}
		for _, m := range list[n:last] {
			c.Live, c.Trial = c.Live.Plus(m.Live), c.Trial.Plus(m.Trial)
		}
		cols = append(cols, c)
	}
	return cols
}

// apart is how far apart columns are drawn: where there are few, they take more room.
func apart(f frame.Frame, cols []column) int {
	const most = 6
	return min(max((f.W-labels-3)/max(len(cols), 1), side), most)
}

const (
	labels = 9 // columns for what is written beside a chart
	least  = 4 // rows of a chart
	side   = 3 // columns of the terminal for one of the page: the live side's, the new one's and a gap
)

// Draw draws both charts, and what the cursor is on.
func (m Model) Draw(f frame.Frame, g *cells.Grid, top, bottom int) {
	t := f.Theme
	s, ok := m.story()
	switch {
	case m.err != "":
		g.Within(2, top+1, f.W-3, m.err, t.Amber)
		return
	case !ok || len(s.Points) == 0:
		g.Within(2, top+1, f.W-3, "no guard has come to anything yet: requests have to go to the new side", t.Label)
		return
	}
	x := 2
	for n, other := range m.stories {
		style := t.Label
		if n == min(m.at, len(m.stories)-1) {
			style = t.Ink.In(true)
			x = g.Text(x, top, "▸ ", style)
		}
		if x+cells.Width(other.Guard) >= f.W-1 {
			break
		}
		x = g.Text(x, top, other.Guard, style) + 3
	}
	cols := columns(s.Points, (f.W-labels-3)/side)
	at := max(len(cols)-1-m.back, 0)
	target := f.S.Crossing.Target
	room := bottom - top - 6 // heads of both, times, the door, and what the cursor is on
	at0 := top + 2
	if rows := room * 3 / 5; rows >= least && room-rows >= least-1 {
		if s.Watch.Figures() {
			differs(f, g, at0, rows, cols, at, s)
		} else {
			rates(f, g, at0, rows, cols, at, s)
		}
		at0, room = at0+rows+1, room-rows
	}
	if room >= least-1 {
		proof(f, g, at0, room, cols, at)
		m.door(f, g, at0+room+1, cols)
	}
	if bottom-1 > top {
		m.says(f, g, bottom-1, s, cols[at], target)
	}
}

// plot is the part of the page that something is drawn in, by columns and by heights from 0 to 1.
type plot struct {
	g       *cells.Grid
	y, rows int
	wide    int
}

func (p plot) row(height float64) int {
	return p.y + p.rows - 1 - int(math.Round(min(max(height, 0), 1)*float64(p.rows-1)))
}

func (p plot) x(n int) int { return labels + 2 + n*p.wide }

// cursor marks a column.
func (p plot) cursor(n int, style cells.Style) {
	for y := p.y; y < p.y+p.rows; y++ {
		p.g.Set(p.x(n), y, '┊', style)
	}
}

// span draws a range.
func (p plot) span(x int, low, high float64, glyph rune, style cells.Style) {
	for y := p.row(high); y <= p.row(low); y++ {
		p.g.Set(x, y, glyph, style)
	}
}

// rates draws both sides' rates with their ranges, and between which the live side's own instances are.
func rates(f frame.Frame, g *cells.Grid, y, rows int, cols []column, at int, s guard.Story) {
	t, target := f.Theme, f.S.Crossing.Target
	p := plot{g: g, y: y, rows: rows, wide: apart(f, cols)}
	highest := max(0.001, 1.5*s.Margin) // so that what is allowed is far from nothing
	for _, c := range cols {
		highest = max(highest, 1.3*c.Live.Rate(), 1.3*c.Trial.Rate())
	}
	highest = min(highest, 1)
	g.Text(2, y-1, "bad", t.Label)
	g.Right(labels, y, words.Percent(highest), t.Label)
	g.Right(labels, y+rows-1, "0", t.Label)
	p.cursor(at, t.Hair)
	for n, c := range cols {
		if a := c.Apart; a.High > 0 {
			for x := range p.wide {
				p.span(p.x(n)+x, a.Low/highest, a.High/highest, '░', t.Hair)
			}
		}
		for k, s := range []struct {
			evidence.Count
			wide, dot rune
			style     cells.Style
		}{{c.Live, '│', '○', t.Side(target.Other())}, {c.Trial, '┃', '●', t.Side(target)}} {
			if s.Of > 0 {
				in := evidence.Exact(s.Count, 0.05)
				p.span(p.x(n)+k, in.Low/highest, in.High/highest, s.wide, s.style)
				g.Set(p.x(n)+k, p.row(s.Rate()/highest), s.dot, s.style)
			}
		}
	}
}

// differs draws by how much a figure differs, with its range, and what is allowed.
func differs(f frame.Frame, g *cells.Grid, y, rows int, cols []column, at int, s guard.Story) {
	t := f.Theme
	p := plot{g: g, y: y, rows: rows, wide: apart(f, cols)}
	low, high := 0.0, 1.5*s.Margin
	for _, c := range cols {
		low, high = min(low, c.Difference), max(high, 1.2*c.Difference)
	}
	height := func(v float64) float64 { return (v - low) / (high - low) }
	g.Text(2, y-1, "by how much it differs", t.Label)
	g.Right(labels, p.row(1), words.Measure(s.Watch, s.Figure, high), t.Label)
	g.Right(labels, p.row(height(0)), "0", t.Label)
	p.cursor(at, t.Hair)
	for n, c := range cols {
		if c.Range != (evidence.Interval{}) {
			p.span(p.x(n), height(c.Range.Low), height(c.Range.High), '┃', t.Side(f.S.Crossing.Target))
		}
		g.Set(p.x(n)+1, p.row(height(s.Margin)), '┄', t.Red)
		g.Set(p.x(n), p.row(height(c.Difference)), '●', t.Side(f.S.Crossing.Target))
	}
}

// door draws what the prober found at the front door, as far as the guard on it has told.
func (m Model) door(f frame.Frame, g *cells.Grid, y int, cols []column) {
	n := slices.IndexFunc(m.stories, func(s guard.Story) bool { return s.Watch == plan.Door })
	if n < 0 {
		return
	}
	t := f.Theme
	p := plot{g: g, wide: apart(f, cols)}
	g.Text(2, y, "door", t.Label)
	for k, c := range cols {
		var all evidence.Count
		for _, d := range m.stories[n].Points {
			if d.At.After(c.from) && !d.At.After(c.At) {
				all = all.Plus(d.Live).Plus(d.Trial)
			}
		}
		switch {
		case all.Of == 0:
		case 2*all.Bad >= all.Of:
			g.Set(p.x(k), y, '█', t.Red)
		case all.Bad > 0:
			g.Set(p.x(k), y, '▄', t.Amber)
		default:
			g.Set(p.x(k), y, '·', t.Ink)
		}
	}
}

// proof draws the evidence on its scale, whose steps are powers of ten, and where the guard trips.
func proof(f frame.Frame, g *cells.Grid, y, rows int, cols []column, at int) {
	t, wide := f.Theme, apart(f, cols)
	p := plot{g: g, y: y, rows: rows, wide: wide}
	high, low := 1.0, -3.0
	for _, c := range cols {
		high = max(high, c.Needed+0.5, min(c.Evidence, 12))
	}
	row := func(v float64) int { return p.row((v - low) / (high - low)) }
	g.Text(2, y-1, "evidence that it is worse", t.Label)
	g.Right(labels, row(0), "1", t.Label)
	if n := len(cols); n > 0 {
		g.Right(labels, row(cols[n-1].Needed), words.Odds(cols[n-1].Needed), t.Red)
	}
	p.cursor(at, t.Hair)
	for n, c := range cols {
		x := p.x(n)
		g.Set(x, row(c.Needed), '┄', t.Red)
		style := t.Ink
		if c.Evidence >= c.Needed {
			style = t.Red.In(true)
		}
		g.Set(x, row(c.Evidence), '▪', style)
	}
	if n := len(cols); n > 0 {
		g.Text(labels+2, y+rows, cols[0].At.Local().Format("15:04:05"), t.Label)
		if end := cols[n-1].At.Local().Format("15:04:05"); n*wide > 20 {
			g.Right(labels+3+(n-1)*wide, y+rows, end, t.Label)
		}
	}
}

// says is what the cursor is on, in words.
func (m Model) says(f frame.Frame, g *cells.Grid, y int, s guard.Story, c column, target split.Side) {
	proof := fmt.Sprintf("evidence %s of %s", words.Odds(c.Evidence), words.Odds(c.Needed))
	if s.Watch.Figures() {
		text := c.At.Local().Format("15:04:05")
		if s.Watch != plan.Fewer {
			text += fmt.Sprintf("  %v %s   %v %s", target.Other(), words.Measure(plan.Higher, s.Figure, c.Beside),
				target, words.Measure(plan.Higher, s.Figure, c.Value))
		}
		text += "   " + words.Differs(s.Watch, s.Figure, "", c.Difference)
		if c.Range != (evidence.Interval{}) {
			text += fmt.Sprintf(", %s to %s", words.Measure(s.Watch, s.Figure, c.Range.Low),
				words.Measure(s.Watch, s.Figure, c.Range.High))
		}
		g.Within(2, y, f.W-3, text+"   "+proof, f.Theme.Ink)
		return
	}
	side := func(of evidence.Count) string {
		if of.Of == 0 {
			return "nothing"
		}
		return fmt.Sprintf("%d of %s, %s", of.Bad, frame.Thousands(of.Of), words.Percent(of.Rate()))
	}
	noise := ""
	if a := c.Apart; a.High > 0 {
		noise = fmt.Sprintf(" (its own %s to %s)", words.Percent(a.Low), words.Percent(a.High))
	}
	text := fmt.Sprintf("%s  %v %s%s   %v %s   difference %+.1f to %+.1f points   %s", c.At.Local().Format("15:04:05"),
		target.Other(), side(c.Live), noise, target, side(c.Trial), 100*c.Range.Low, 100*c.Range.High, proof)
	g.Within(2, y, f.W-3, text, f.Theme.Ink)
}

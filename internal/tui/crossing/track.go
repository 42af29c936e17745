package crossing

import (
	"fmt"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
	"vaiven/internal/tui/cells"
	"vaiven/internal/tui/frame"
	"vaiven/internal/words"
)

// track is the trace down the middle: across is the share on green, down is
// time. What happened lies above the rail, what is planned below it.
type track struct {
	left, right int // columns of 0 and 100 %
	top, bottom int // first row of the past, and the row after the last
	rail        int
	edge        int // column after the last that labels may use
}

// column is where a share lies.
func (t track) column(share split.Share) int {
	return t.left + int(share.Fraction()*float64(t.right-t.left)+0.5)
}

func (t track) at(fraction float64) int {
	return t.left + int(fraction*float64(t.right-t.left)+0.5)
}

// headRows are the title and the axis above the track.
const headRows = 2

// railRow is the row of the rail for a body that ends at a row.
func (m Model) railRow(bottom int) int { return m.rail(2+headRows, bottom) }

// rail divides the rows between past and route: the route gets what it needs, but
// not much more than half.
func (m Model) rail(top, bottom int) int {
	rows := bottom - top
	need := min(m.routeRows()+1, rows*6/11)
	return bottom - 1 - max(need-1, 0)
}

// track draws the middle of the screen.
func (m Model) track(g *cells.Grid, x, y, end, bottom int) {
	t := m.theme
	head := headRows
	if m.w < wideFrom || m.h < tallFrom {
		head = 1 // the axis only
	}
	tr := track{left: x + 10, right: end - 15, top: y + head, bottom: bottom, edge: end}
	if tr.right-tr.left < 8 || bottom-tr.top < 1 {
		return
	}
	tr.rail = m.rail(tr.top, bottom)
	if head == headRows {
		after := g.Text(x, y, "share of requests on green", t.Label) + 2
		said, style := words.Split(m.s.Split), t.Label
		if m.s.Split.Wrong {
			style = t.Amber.In(true)
			said, _, _ = strings.Cut(said, " where ") // what is seen instead is in the notice
			said += ", since " + m.s.Split.Since.Local().Format("15:04:05")
		}
		g.Within(after, y, end-after-2, said, style)
	}
	axis := tr.top - 1
	for _, share := range []split.Share{0, 25, 50, 75, 100} {
		label := fmt.Sprint(int(share))
		g.Text(tr.column(share*split.Percent)-cells.Width(label)/2, axis, label, t.Label)
	}
	for row := tr.top; row < tr.bottom; row++ {
		g.Set(tr.left, row, '▏', t.Hair)
		g.Set(tr.column(split.Whole/2), row, '┊', t.Hair)
		g.Set(tr.right, row, '▕', t.Hair)
	}
	m.past(g, tr, x)
	m.route(g, tr)
	m.railLine(g, tr, x)
}

// steps are the times that a row of the past may stand for.
var steps = []time.Duration{
	time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 15 * time.Second, 20 * time.Second, 30 * time.Second,
	time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute,
}

// past draws what happened, newest just above the rail. A row stands for a round
// time, chosen so that the crossing fits.
func (m Model) past(g *cells.Grid, tr track, x int) {
	rows := tr.rail - tr.top
	points := m.s.Track
	if rows < 1 || len(points) == 0 {
		return
	}
	span := 20 * time.Second
	if begun := m.s.Crossing.Begun; !begun.IsZero() {
		span += m.now.Sub(begun)
	}
	step := steps[len(steps)-1]
	for _, s := range steps {
		if s*time.Duration(rows) >= span {
			step = s
			break
		}
	}
	last := m.now.Truncate(step)
	i := len(points) - 1
	for n := range rows {
		begin := last.Add(-time.Duration(n) * step)
		var green, all, failing int64
		var planned split.Share
		any := false
		for ; i >= 0 && !points[i].At.Before(begin); i-- {
			p := points[i]
			if !any {
				planned, any = p.Planned, true
			}
			green, all, failing = green+p.Green, all+p.All, failing+p.Failing
		}
		row := tr.rail - 1 - n
		if h := m.s.Hole; !any && begin.Before(h.To) && begin.Add(step).After(h.From) {
			g.Within(tr.left+2, row, tr.right-tr.left-3, "┄┄ nobody watched ┄┄", m.theme.Amber)
		}
		if any {
			m.bucket(g, tr, row, planned, green, all, failing)
		}
		if any && begin.Unix()/int64(step/time.Second)%3 == 0 {
			g.Text(x, row, begin.Local().Format("15:04:05"), m.theme.Label)
		}
		if i < 0 {
			return
		}
	}
}

// bucket draws one row of the past: the planned share as a line, the observed one
// as a dot with its interval, and what failed.
func (m Model) bucket(g *cells.Grid, tr track, row int, planned split.Share, green, all, failing int64) {
	t := m.theme
	if all > 0 {
		i := evidence.Exact(evidence.Count{Bad: green, Of: all}, 0.05)
		for x := tr.at(i.Low); x <= tr.at(i.High); x++ {
			g.Set(x, row, '─', t.Label)
		}
	}
	g.Set(tr.column(planned), row, '│', t.Label)
	if all > 0 {
		seen := float64(green) / float64(all)
		g.Set(tr.at(seen), row, '●', t.Share(seen))
		if failing*100 > all {
			g.Within(tr.right+2, row, tr.edge-tr.right-2, fmt.Sprintf("%s failed", frame.Thousands(failing)), t.Amber)
		}
	}
}

// railLine draws the rail with the bob, its ghost and the observed share.
func (m Model) railLine(g *cells.Grid, tr track, x int) {
	t := m.theme
	g.Text(x, tr.rail, "now", t.Ink.In(true))
	for c := tr.left; c <= tr.right; c++ {
		g.Set(c, tr.rail, '━', t.Share(float64(c-tr.left)/float64(tr.right-tr.left)))
	}
	share := m.front()
	label, style := "not read yet", t.Label
	if !m.s.Front.At.IsZero() {
		bob(g, tr, tr.column(share), '●', t.Ink.In(true))
		label = share.String()
		if seen, ok := m.observed(); ok {
			label = fmt.Sprintf("%.1f %%", 100*seen)
		}
		label, style = m.aged(label, m.s.Front.At, m.s.Front.Every, t.Ink.In(true))
	}
	if m.moved {
		bob(g, tr, tr.column(m.ghost), '○', t.Amber.In(true))
		label, style = "→ "+m.ghost.String(), t.Amber.In(true)
	}
	g.Within(tr.right+2, tr.rail, tr.edge-tr.right-2, label, style)
}

// observed is the share on green of the last seconds' requests, and false if none
// were counted since the share was set.
func (m Model) observed() (float64, bool) {
	green, all := int64(0), int64(0)
	for i := len(m.s.Track) - 1; i >= max(0, len(m.s.Track)-5); i-- {
		if p := m.s.Track[i]; p.At.After(m.s.Front.Split.Since) {
			green += p.Green
			all += p.All
		}
	}
	return float64(green) / float64(max(all, 1)), all > 0
}

func bob(g *cells.Grid, tr track, x int, r rune, s cells.Style) {
	g.Set(x-1, tr.rail, '(', s)
	g.Set(x, tr.rail, r, s)
	g.Set(x+1, tr.rail, ')', s)
}

// ahead is the route that is still to come, from the next leg on.
func (m Model) ahead() (legs route.Route, target split.Side, under bool) {
	s := m.s.Crossing
	if !s.Stage.UnderWay() {
		return m.s.Planned, m.s.Live.Other(), false
	}
	target = s.Target
	for i, l := range s.Route {
		if l.Part > s.Part() || i > s.Leg && s.Leg < 0 {
			return s.Route[i:], target, true
		}
	}
	return nil, target, true
}

// routeRows is how many rows the whole route would like to have. What is behind
// counts too, so that the rail stays where it is.
func (m Model) routeRows() int {
	legs := m.s.Crossing.Route
	if m.s.Crossing.Stage == crossing.None {
		legs = m.s.Planned
	}
	rows := 3 // what is left of this leg, keep, retire
	for _, l := range legs {
		rows += 2
		if l.Ask {
			rows++
		}
	}
	return rows
}

// route draws what is to come.
func (m Model) route(g *cells.Grid, tr track) {
	t, s := m.theme, m.s.Crossing
	legs, target, under := m.ahead()
	p := pencil{g: g, tr: tr, theme: m, row: tr.rail + 1, x: tr.column(m.front())}
	roomy := m.routeRows() <= tr.bottom-tr.rail
	switch left, timed := m.s.Left, s.Timed(); {
	case under && s.GoingBack:
		p.leg(split.Toward(target, 0), "all back to "+target.Other().String(), t.Red)
		return
	case under && timed && s.Frozen():
		p.down("frozen, " + frame.Clock(left) + " left")
	case under && timed:
		p.down(frame.Clock(left) + " more")
	case under:
		p.down("")
	case s.Stage.Over():
		return // the next crossing is not planned before it begins
	default:
		p.down("planned, not begun")
	}
	for _, l := range legs {
		if l.Ask {
			p.words("◇ asks you first", t.Amber)
		}
		label := l.Part.String()
		if l.Dwell > 0 {
			label += " for " + route.Short(l.Dwell)
		}
		if l.Part == split.Whole {
			label += fmt.Sprintf(", keep %v %s", target.Other(), route.Short(m.keep()))
		}
		p.leg(split.Toward(target, l.Part), label, t.Label)
		if roomy {
			p.down("")
		}
	}
	end := "retire " + target.Other().String()
	switch m.then() {
	case plan.ThenAsk:
		end = "◇ asks before it retires " + target.Other().String()
	case plan.ThenLeave:
		end = target.Other().String() + " stays as it is"
	}
	p.words(end, t.Label)
}

func (m Model) keep() time.Duration {
	if m.s.Crossing.Stage == crossing.None {
		return m.s.Keep
	}
	return m.s.Crossing.Keep
}

func (m Model) then() plan.Then {
	if m.s.Crossing.Stage == crossing.None {
		return m.s.Then
	}
	return m.s.Crossing.Then
}

// pencil draws the route downwards.
type pencil struct {
	g     *cells.Grid
	tr    track
	theme Model
	row   int
	x     int
}

// down draws a piece of dwell, with a label beside it.
func (p *pencil) down(label string) {
	if p.row >= p.tr.bottom {
		return
	}
	p.g.Set(p.x, p.row, '╎', p.theme.theme.Ink)
	p.beside(label, p.theme.theme.Label)
	p.row++
}

// leg draws the way across to a share.
func (p *pencil) leg(share split.Share, label string, s cells.Style) {
	if p.row >= p.tr.bottom {
		return
	}
	to := p.tr.column(share)
	for x := min(p.x, to); x <= max(p.x, to); x++ {
		p.g.Set(x, p.row, '╌', p.theme.theme.Label)
	}
	from := p.x
	p.x = to
	p.g.Set(p.x, p.row, '╎', p.theme.theme.Ink)
	p.besideFrom(from, label, s)
	p.row++
}

// words draws a label on a row of its own.
func (p *pencil) words(label string, s cells.Style) {
	if p.row >= p.tr.bottom {
		return
	}
	p.g.Set(p.x, p.row, '╎', p.theme.theme.Ink)
	p.beside(label, s)
	p.row++
}

func (p *pencil) beside(label string, s cells.Style) { p.besideFrom(p.x, label, s) }

// besideFrom puts a label on the free side of the line: away from where it came
// from, or where there is room.
func (p *pencil) besideFrom(from int, label string, s cells.Style) {
	width := cells.Width(label)
	if width == 0 {
		return
	}
	left, right := min(from, p.x), max(from, p.x)
	if right+2+width <= p.tr.edge {
		p.g.Text(right+2, p.row, label, s)
		return
	}
	p.g.Text(max(left-1-width, 0), p.row, label, s)
}

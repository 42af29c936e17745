package crossing

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/people/tui/cells"
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

// rail divides the rows between past and route: the route gets what it needs, but
// not much more than half.
func (p page) rail(top, bottom int) int {
	rows := bottom - top
	need := min(p.routeRows()+1, rows*6/11)
	return bottom - 1 - max(need-1, 0)
}

// track draws the middle of the screen.
func (p page) track(x, y, end, bottom int) {
	g, t := p.g, p.Theme
	head := headRows
	if p.W < wideFrom || p.H < tallFrom {
		head = 1 // the axis only
	}
	tr := track{left: x + 10, right: end - min(15, max((end-x)/4, 6)), top: y + head, bottom: bottom, edge: end}
	if tr.right-tr.left < 8 || bottom-tr.top < 1 {
		return
	}
	tr.rail = p.rail(tr.top, bottom)
	if head == headRows {
		of := "share of " + words.Carried(p.S.View) + " on green"
		after := g.Within(x, y, end-x-2, of, t.Label) + 2
		said, style := words.Split(p.S.Split, words.Carried(p.S.View)), t.Label
		switch {
		case !p.S.Front.At.IsZero() && !p.S.Front.Fresh(p.Now):
			said = "not known: not read for " + route.Short(p.Now.Sub(p.S.Front.At).Truncate(time.Second))
		case p.S.Split.Wrong:
			style = t.Amber.In(true)
			said, _, _ = strings.Cut(said, " where ") // what is seen instead is in the sentence
			said = "▲ " + said + ", since " + p.S.Split.Since.Local().Format("15:04:05")
		}
		g.Within(after, y, end-after-2, said, style)
	}
	axis := tr.top - 1
	labels := []split.Share{0, 25, 50, 75, 100}
	if tr.right-tr.left < 20 {
		labels = []split.Share{0, 50, 100}
	}
	for _, share := range labels {
		label := fmt.Sprint(int(share))
		g.Text(tr.column(share*split.Percent)-cells.Width(label)/2, axis, label, t.Label)
	}
	for row := tr.top; row < tr.bottom; row++ {
		g.Set(tr.left, row, '▏', t.Hair)
		g.Set(tr.column(split.Whole/2), row, '┊', t.Hair)
		g.Set(tr.right, row, '▕', t.Hair)
	}
	p.past(tr, x)
	p.route(tr)
	p.railLine(tr, x)
}

// past draws what happened, newest just above the rail.
func (p page) past(tr track, x int) {
	points, s := p.S.Track, p.S.Crossing
	begun, leg := s.Begun, s.Since
	if begun.IsZero() {
		begun, leg = p.Now, p.Now
	}
	spans := timeline(tr.rail-tr.top, p.Now, leg, begun)
	if len(points) == 0 {
		return
	}
	rows := make([]bucket, len(spans))
	i := len(points) - 1
	for n, span := range spans {
		for ; i >= 0 && !points[i].At.Before(span.from); i-- {
			q, b := points[i], &rows[n]
			if !b.any {
				b.planned, b.any = q.Planned, true
			}
			b.green, b.all, b.failing = b.green+q.Green, b.all+q.All, b.failing+q.Failing
		}
	}
	for n, b := range rows {
		row, span := tr.rail-1-n, spans[n]
		if h := p.S.Hole; !b.any && span.from.Before(h.To) && span.to.After(h.From) {
			p.g.Within(tr.left+2, row, tr.right-tr.left-3,
				"┄┄ nobody watched for "+route.Short(h.To.Sub(h.From).Round(time.Second))+" ┄┄", p.Theme.Amber)
		}
		if b.any {
			before := b.planned
			if n+1 < len(rows) && rows[n+1].any {
				before = rows[n+1].planned
			}
			p.bucket(tr, row, b, before)
		}
		if b.any && span.whole && span.from.Unix()/int64(span.to.Sub(span.from)/time.Second)%3 == 0 {
			p.g.Text(x, row, span.from.Local().Format("15:04:05"), p.Theme.Label)
		}
	}
}

// bucket is what one row of the past comes to.
type bucket struct {
	any                 bool
	planned             split.Share
	green, all, failing int64
}

// interval is where the share lies, computed once for counts that do not change any more.
func (p page) interval(c evidence.Count) evidence.Interval {
	if i, ok := p.intervals[c]; ok {
		return i
	}
	const most = 4096
	if len(p.intervals) > most {
		clear(p.intervals)
	}
	i := evidence.Exact(c, 0.05)
	p.intervals[c] = i
	return i
}

// bucket draws one row of the past: the planned share as a line, the observed one
// as a dot with its interval, and what failed.
func (p page) bucket(tr track, row int, b bucket, before split.Share) {
	g, t := p.g, p.Theme
	to, from := tr.column(b.planned), tr.column(before)
	if b.all > 0 {
		i := p.interval(evidence.Count{Bad: b.green, Of: b.all})
		for x := tr.at(i.Low); x <= tr.at(i.High); x++ {
			g.Set(x, row, '─', t.Label)
		}
	}
	g.Set(to, row, '│', t.Label)
	if from != to { // the share was changed here
		for x := min(from, to); x <= max(from, to); x++ {
			g.Set(x, row, '╌', t.Label)
		}
		left, right := '└', '┐'
		if from > to {
			left, right = '┌', '┘'
		}
		g.Set(min(from, to), row, left, t.Label)
		g.Set(max(from, to), row, right, t.Label)
	}
	if b.all > 0 {
		seen := float64(b.green) / float64(b.all)
		g.Set(tr.at(seen), row, '●', t.Share(seen))
		if b.failing*100 > b.all {
			g.Within(tr.right+2, row, tr.edge-tr.right-2, fmt.Sprintf("%s failed", words.Thousands(b.failing)), t.Amber)
		}
	}
}

// railLine draws the rail with the bob, its ghost and the observed share.
func (p page) railLine(tr track, x int) {
	g, t := p.g, p.Theme
	g.Text(x, tr.rail, "now", t.Ink.In(true))
	for c := tr.left; c <= tr.right; c++ {
		g.Set(c, tr.rail, '━', t.Share(float64(c-tr.left)/float64(tr.right-tr.left)))
	}
	share := p.front()
	label, style := "not read yet", t.Label
	if !p.S.Front.At.IsZero() {
		bob(g, tr, tr.column(share), '●', t.Ink.In(true))
		label = share.String()
		// While some still go by what was before, what users get is beside the axis' title.
		if seen, ok := p.observed(); ok && !p.S.Front.Everywhere.After(p.Now) {
			label = fmt.Sprintf("%.1f %%", 100*seen)
		}
		label, style = p.aged(label, p.S.Front.At, p.S.Front.Every, t.Ink.In(true))
	}
	if p.Moved {
		bob(g, tr, tr.column(p.Ghost), '○', t.Amber.In(true))
		label, style = "→ "+p.Ghost.String(), t.Amber.In(true)
	}
	g.Within(tr.right+2, tr.rail, tr.edge-tr.right-2, label, style)
}

// observed is the share on green of the last seconds' requests, and false if none
// were counted since the share was set.
func (p page) observed() (float64, bool) {
	green, all := int64(0), int64(0)
	for i := len(p.S.Track) - 1; i >= max(0, len(p.S.Track)-5); i-- {
		if q := p.S.Track[i]; q.At.After(p.S.Front.Split.Since) {
			green += q.Green
			all += q.All
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
func (p page) ahead() (legs route.Route, target split.Side, under bool) {
	s := p.S.Crossing
	if !s.Stage.UnderWay() {
		return p.S.Planned, p.S.Live.Other(), false
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
func (p page) routeRows() int {
	legs := p.S.Crossing.Route
	if p.S.Crossing.Stage == crossing.None {
		legs = p.S.Planned
	}
	rows := 3 // what is left of this leg, keep, retire
	if slices.ContainsFunc(legs, func(l route.Leg) bool { return l.Sure }) {
		rows++ // it has two ends
	}
	for _, l := range legs {
		rows += 2
		if l.Ask {
			rows++
		}
	}
	return rows
}

// route draws what is to come.
func (p page) route(tr track) {
	t, s := p.Theme, p.S.Crossing
	legs, target, under := p.ahead()
	pen := pencil{page: p, tr: tr, row: tr.rail + 1, x: tr.column(p.front())}
	roomy := p.routeRows() <= tr.bottom-tr.rail
	switch left, timed := p.S.Left, s.Timed(); {
	case under && s.GoingBack:
		pen.leg(split.Toward(target, 0), "rolling back to "+target.Other().String(), t.Red)
		return
	case under && timed && s.Frozen():
		pen.down("frozen, " + words.Clock(left) + " left")
	case under && timed:
		if _, until := s.UntilSure(); until {
			if ends, known := p.S.Ends(); known {
				pen.down("sure in ~" + words.Clock(ends))
			} else {
				pen.down("until sure")
			}
			pen.down(words.Clock(left) + " at most")
			break
		}
		pen.down(words.Clock(left) + " more")
	case under:
		pen.down("")
	case s.Stage.Over():
		return // the next crossing is not planned before it begins
	default:
		pen.down("planned, not begun")
	}
	for n, l := range legs {
		need := 1
		if l.Ask {
			need++
		}
		if more := len(legs) - n; more > 1 && pen.row+need >= tr.bottom {
			pen.words(fmt.Sprintf("%d more legs", more), t.Label)
			return
		}
		if l.Ask {
			pen.words("◇ you are asked", t.Amber)
		}
		label := l.Part.String() + l.Terms()
		if l.Part == split.Whole && p.keep() > 0 {
			label += " for " + route.Short(p.keep())
		}
		pen.leg(split.Toward(target, l.Part), label, t.Label)
		if roomy {
			pen.down("")
		}
	}
	if under && s.First {
		pen.words("settled", t.Label)
		return
	}
	end := "retire " + target.Other().String()
	if p.S.Sides[target.Other()].Stands {
		end = target.Other().String() + " leaves the rotation"
	}
	switch p.then() {
	case plan.ThenAsk:
		end = "◇ you are asked, then " + target.Other().String() + " is retired"
	case plan.ThenLeave:
		end = target.Other().String() + " stays as it is"
	}
	pen.words(end, t.Label)
}

func (p page) keep() time.Duration {
	if p.S.Crossing.Stage == crossing.None {
		return p.S.Keep
	}
	return p.S.Crossing.Keep
}

func (p page) then() plan.Then {
	if p.S.Crossing.Stage == crossing.None {
		return p.S.Then
	}
	return p.S.Crossing.Then
}

// pencil draws the route downwards.
type pencil struct {
	page
	tr  track
	row int
	x   int
}

// down draws a piece of dwell, with a label beside it.
func (p *pencil) down(label string) { p.words(label, p.Theme.Label) }

// leg draws the way across to a share.
func (p *pencil) leg(share split.Share, label string, s cells.Style) {
	if p.row >= p.tr.bottom {
		return
	}
	to := p.tr.column(share)
	for x := min(p.x, to); x <= max(p.x, to); x++ {
		p.g.Set(x, p.row, '╌', p.Theme.Label)
	}
	from := p.x
	p.x = to
	p.g.Set(p.x, p.row, '╎', p.Theme.Ink)
	p.beside(from, label, s)
	p.row++
}

// words draws a label on a row of its own.
func (p *pencil) words(label string, s cells.Style) {
	if p.row >= p.tr.bottom {
		return
	}
	p.g.Set(p.x, p.row, '╎', p.Theme.Ink)
	p.beside(p.x, label, s)
	p.row++
}

// beside puts a label on the side of the line that has more room for it: away from where it
// came from, if that will do.
func (p *pencil) beside(from int, label string, s cells.Style) {
	left, right := min(from, p.x), max(from, p.x)
	width := cells.Width(label)
	after, before := p.tr.edge-right-2, left-1-(p.tr.left-9)
	if width <= after || after >= before {
		p.g.Within(right+2, p.row, after, label, s)
		return
	}
	label = cells.Cut(label, before)
	p.g.Text(left-1-cells.Width(label), p.row, label, s)
}

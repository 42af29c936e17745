package crossing

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/tui/cells"
	"vaiven/internal/tui/frame"
)

// role is what a side is at the moment.
func (m Model) role(side split.Side) string {
	s := m.s.Crossing
	under := s.Stage.UnderWay()
	switch {
	case side == m.s.Live && under && m.front().Of(side) != split.Whole:
		return "live · keeps " + m.front().Of(side).String()
	case side == m.s.Live:
		return "live"
	case under:
		return "candidate"
	case len(m.s.Sides[side].Instances) > 0:
		return "spare"
	}
	return "spare · empty"
}

// front is the share on green that the front was last read to have.
func (m Model) front() split.Share { return m.s.Front.Split.Share }

// outlook is what the ghost's share would mean.
func (m Model) outlook() route.Outlook {
	return m.s.Traffic.Look(m.ghost, m.s.Crossing.Target, m.s.Bound)
}

// figure is one line of a side: what, how much, and what the ghost would make of
// it.
type figure struct {
	label string
	text  string
	style cells.Style
	ghost string
	worse string // by how much it is worse than on the live side
}

func (m Model) figures(side split.Side) []figure {
	t, v := m.theme, m.s.Sides[side]
	f := v.Figures
	load := "—"
	if v.Capacity > 0 {
		load = frame.Percent(f.Rate / v.Capacity)
	}
	list := []figure{
		{label: "requests", text: frame.Rate(f.Rate)},
		{label: "failing", text: frame.Percent(f.FailingCount().Rate())},
		{label: "p50", text: frame.Milliseconds(f.P50)},
		{label: "p99", text: frame.Milliseconds(f.P99)},
		{label: "load of capacity", text: load},
	}
	for i := range list {
		list[i].text, list[i].style = m.aged(list[i].text, m.s.Front.At, m.s.Front.Every, t.Ink)
		if f.Requests == 0 && i > 0 && i < 4 || f.Timed == 0 && (i == 2 || i == 3) {
			list[i].text, list[i].style = "—", t.Label // nothing was answered, or timed, so there is nothing to say
		}
	}
	if other := m.s.Sides[side.Other()].Figures; f.Requests > 0 && other.Requests > 0 && side != m.s.Live {
		if more := f.P99 - other.P99; more > other.P99/4 && more.Milliseconds() >= 5 {
			list[3].worse = fmt.Sprintf("  ▲%d", more.Milliseconds())
			list[3].style = t.Amber
		}
	}
	if m.moved {
		o := m.outlook()
		list[0].ghost = frame.Rate(o.Rate[side])
		if o.Load[side] > 0 {
			list[4].ghost = frame.Percent(o.Load[side])
		}
	}
	return list
}

// sidePanel draws a side into a column.
func (m Model) sidePanel(g *cells.Grid, side split.Side, x, y, width, bottom int) {
	t, v := m.theme, m.s.Sides[side]
	end := x + width
	g.Set(x-2, y, '▌', t.Side(side))
	at := g.Text(x, y, strings.ToUpper(side.String()), t.Side(side).In(true))
	role := m.role(side)
	if at+2+cells.Width(v.Version)+2 > end-cells.Width(role) {
		role = strings.TrimPrefix(role, "live · ") // the version says more than that
	}
	g.Right(end, y, role, t.Label)
	g.Within(at+2, y, end-cells.Width(role)-at-4, v.Version, t.Ink.In(true))
	y += 2
	for _, f := range m.figures(side) {
		if y >= bottom {
			return
		}
		g.Text(x, y, f.label, t.Label)
		right := end
		if f.ghost != "" {
			g.Right(right, y, "→ "+f.ghost, t.Amber)
			right -= cells.Width(f.ghost) + 3
		}
		g.Right(right, y, f.text+f.worse, f.style)
		y++
	}
	if y++; y >= bottom {
		return
	}
	healthy, style := m.aged(fmt.Sprintf("%d of %d up", v.Healthy, max(v.Wanted, len(v.Instances))), v.At, v.Every, t.Ink)
	g.Text(x, y, "health checks", t.Label)
	g.Right(end, y, healthy, style)
	y++
	facts := m.facts(side)
	room := bottom - y - len(facts) - 1
	for n, c := range v.Instances {
		if n == room-1 && len(v.Instances) > room {
			g.Text(x, y, fmt.Sprintf("and %d more", len(v.Instances)-n), t.Label)
			y++
			break
		}
		m.instance(g, v, c, side, x, y, width)
		y++
		if last := lastWords(c); last != "" && n+1 < room {
			g.Within(x+2, y, width-2, last, t.Label)
			y++
			room--
		}
	}
	for _, name := range m.askedFor(side) {
		if y >= bottom-len(facts)-1 {
			break
		}
		g.Set(x, y, '·', t.Label)
		at := g.Text(x+2, y, name, t.Label)
		g.Right(end, y, cells.Cut("asked for", end-at-1), t.Label)
		y++
	}
	y = max(y+1, min(m.railRow(bottom), bottom-len(facts)))
	for _, f := range facts {
		if y >= bottom {
			return
		}
		g.Text(x, y, f.label, t.Label)
		g.Within(x+10, y, width-10, f.text, f.style)
		y++
	}
}

// lastWords is what an instance that is not healthy last answered and printed, as far
// as its line does not say it.
func lastWords(c reading.Condition) string {
	var words []string
	if c.State == reading.Answering && c.Said != "" {
		words = append(words, c.Said)
	}
	if n := len(c.Output); n > 0 && c.State != reading.Healthy {
		words = append(words, c.Output[n-1])
	}
	return strings.Join(words, " · ")
}

// askedFor are the instances that a raise has asked for and that are not there yet.
func (m Model) askedFor(side split.Side) []string {
	s := m.s.Crossing
	if s.Stage != crossing.Raise || side != s.Target || s.Question.ID != 0 {
		return nil
	}
	var names []string
	for n, part := range m.s.Parts {
		there := 0
		for _, c := range m.s.Sides[side].Instances {
			if c.Part == part.Name {
				there++
			}
		}
		for k := there; k < part.Wanted[side]; k++ {
			name := fmt.Sprintf("%v-%d", side, k+1)
			if n > 0 {
				name = fmt.Sprintf("%v-%s-%d", side, part.Name, k+1)
			}
			names = append(names, name)
		}
	}
	return names
}

// facts are the lines at the height of the rail.
func (m Model) facts(side split.Side) []figure {
	t, v := m.theme, m.s.Sides[side]
	proof := figure{label: "proof", text: "none yet", style: t.Label}
	if side == m.s.Crossing.Target && len(m.s.Proof.Results) > 0 {
		proof.text, proof.style = fmt.Sprintf("%d of %d passing", m.s.Proof.Passing(), len(m.s.Proof.Results)), t.Ink
		if !m.s.Proof.Pass() {
			proof.style = t.Red
		}
	} else if side == m.s.Live {
		proof.text = "live"
	}
	build := figure{label: "build", text: v.Build, style: t.Ink}
	if len(v.Build) > 7 && !strings.Contains(v.Build, " ") {
		build.text = v.Build[:7]
	}
	if v.Build == "" {
		build.text, build.style = "—", t.Label
	}
	list := []figure{proof, build}
	if o := m.s.Overlap; !o.Since.IsZero() && side == m.s.Live.Other() {
		both := frame.Clock(m.now.Sub(o.Since))
		if o.Cost.Unit != "" {
			both += fmt.Sprintf(" · %.4f %s", o.Cost.Amount, o.Cost.Unit)
		}
		list = append(list, figure{label: "both up", text: both, style: t.Ink})
	}
	if r, failed := m.s.Proof.Failed(); failed && side == m.s.Crossing.Target {
		list = append(list, figure{label: "failed", text: r.Check + " on " + r.Instance, style: t.Red},
			figure{label: "wants", text: r.Want, style: t.Ink}, figure{label: "got", text: r.Got, style: t.Ink})
	}
	return list
}

// instance draws one instance on a line.
func (m Model) instance(g *cells.Grid, v engine.SideView, c reading.Condition, side split.Side, x, y, width int) {
	t := m.theme
	dot, style, said := m.dot(c, side)
	text, style2 := m.aged(said, v.At, v.Every, t.Ink)
	if c.State != reading.Healthy {
		style2 = style
	}
	g.Set(x, y, dot, style)
	at := g.Text(x+2, y, c.Name, t.Ink)
	if n := slices.IndexFunc(v.Restarts, func(r engine.Restart) bool { return r.Instance == c.Name }); n >= 0 {
		at = g.Text(at+1, y, fmt.Sprintf("again %d", v.Restarts[n].Count), t.Amber)
	}
	end := x + width
	bars := min(10, end-at-cells.Width("0000 ms")-2)
	switch {
	case bars < 3:
	case c.State == reading.Healthy:
		frame.Spark(g, end-cells.Width("0000 ms")-1-bars, y, bars, c.History, 6, t.Side(side), t.Red)
	case m.s.Typical > 0 && (c.State == reading.Starting || c.State == reading.Answering):
		m.progress(g, at+1, y, min(6, end-at-cells.Width(text)-2), m.now.Sub(c.Started))
	}
	text = cells.Cut(text, end-at-1)
	g.Right(end, y, text, style2)
}

// progress draws how long an instance has been coming up, against how long that
// typically takes: full is the typical time.
func (m Model) progress(g *cells.Grid, x, y, width int, waited time.Duration) {
	style := m.theme.Ink
	if waited > m.s.Typical {
		style = m.theme.Amber
	}
	done := int(float64(width) * min(waited.Seconds()/m.s.Typical.Seconds(), 1))
	for n := range width {
		line := m.theme.Hair
		if n < done {
			line = style
		}
		g.Set(x+n, y, '━', line)
	}
}

// dot is an instance's state as a glyph, its style, and in words.
func (m Model) dot(c reading.Condition, side split.Side) (rune, cells.Style, string) {
	t := m.theme
	switch c.State {
	case reading.Healthy:
		return '●', t.Side(side), frame.Milliseconds(c.Took)
	case reading.Failing:
		return '▲', t.Red, "failing: " + c.Said
	case reading.Exited:
		return '×', t.Red, c.Said
	}
	text := fmt.Sprintf("%s %s", c.State, frame.Clock(m.now.Sub(c.Since)))
	if waited := m.now.Sub(c.Started); raise.Overdue(waited, m.s.Typical) {
		return '○', t.Red, fmt.Sprintf("stuck %s of %s", frame.Clock(waited), frame.Clock(m.s.Typical))
	}
	if c.State == reading.Answering {
		return '◐', t.Amber, text
	}
	return '○', t.Amber, text
}

// sideLine is a side folded to one line.
func (m Model) sideLine(g *cells.Grid, side split.Side, y int) {
	t, v := m.theme, m.s.Sides[side]
	g.Set(1, y, '▌', t.Side(side))
	g.Text(2, y, strings.ToUpper(side.String()), t.Side(side).In(true))
	g.Within(8, y, 9, v.Version, t.Ink.In(true))
	list := m.figures(side)
	for _, column := range []struct {
		label, end int
		f          figure
		text       string
	}{{0, 26, list[0], ""}, {28, 41, list[1], "fails"}, {43, 54, list[3], "p99"}} {
		text, style := column.f.text, column.f.style
		if column.f.ghost != "" {
			text, style = "→ "+column.f.ghost, t.Amber
		}
		g.Text(column.label, y, column.text, t.Label)
		g.Right(column.end, y, text, style)
	}
	healthy, style := m.aged(fmt.Sprintf("%d of %d", v.Healthy, max(v.Wanted, len(v.Instances))), v.At, v.Every, t.Ink)
	x := g.Text(57, y, healthy+" ", style)
	for _, c := range v.Instances[:min(len(v.Instances), 8)] {
		dot, style, _ := m.dot(c, side)
		g.Set(x, y, dot, style)
		x++
	}
	role := m.role(side)
	if m.w-1-cells.Width(role) <= x {
		role, _, _ = strings.Cut(role, " ·")
	}
	if m.w-1-cells.Width(role) > x {
		g.Right(m.w-1, y, role, t.Label)
	}
}

package weighing

import (
	"context"
	"fmt"
	"slices"
	"time"

	"charm.land/bubbles/v2/key"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/words"
)

// Model is the page's state. It is a value.
type Model struct {
	edited  route.Route // nil where nobody has edited anything
	at      int         // the leg that is chosen
	weighed weighed
	clients *forecast.Clients // nil before they were asked for
	asked   int               // how often a route was to be weighed: what is older is dropped
}

// weighed is a route that was.
type weighed struct {
	nth    int
	legs   route.Route
	by     forecast.Question
	result forecast.Weighed
}

// New makes the page.
func New() frame.Page { return Model{} }

// page is the model with what it draws.
type page struct {
	Model
	frame.Frame
}

// planned is the route that is under way, or the plan's.
func planned(f frame.Frame) route.Route {
	if c := f.S.Crossing; c.Stage.UnderWay() {
		return c.Route
	}
	return f.S.Planned
}

// legs are those that are shown.
func (m Model) legs(f frame.Frame) route.Route {
	if m.edited != nil {
		return m.edited
	}
	return planned(f)
}

// first is the first leg that may be edited: what is behind, and the present one, stay.
func first(f frame.Frame) int {
	if c := f.S.Crossing; c.Stage.UnderWay() {
		return c.Leg + 1
	}
	return 0
}

// question is what the route is weighed by.
func question(f frame.Frame) forecast.Question {
	target := f.S.Live.Other()
	if c := f.S.Crossing; c.Stage.UnderWay() {
		target = c.Target
	}
	t := f.S.Traffic.Rough()
	t.Capacity = f.S.Traffic.Capacity
	return forecast.Question{Traffic: t, Guarding: f.S.Guarding, Target: target, Keep: f.S.Keep, Find: f.S.Sure.Find,
		Certainty: f.S.Sure.Of}
}

// weigh asks for the legs to be weighed.
func (m Model) weigh(f frame.Frame) (frame.Page, frame.Wish) {
	m.asked++
	nth, legs, by := m.asked, slices.Clone(m.legs(f)), question(f)
	if by.Rate <= 0 || len(legs) == 0 {
		return m, frame.Wish{}
	}
	known := m.clients
	return m, frame.Wish{Read: func(ctx context.Context, c keeper.Client) any {
		if known == nil { // without a log, or with one that cannot be read, nothing is said of clients
			of, err := c.Clients(ctx)
			if known = &of; err != nil {
				known = &forecast.Clients{}
			}
		}
		by.Clients = *known
		return weighed{nth, legs, by, by.Weigh(legs)}
	}}
}

// Open weighs the route by the clients that there are now.
func (m Model) Open(f frame.Frame) (frame.Page, frame.Wish) {
	m.clients = nil
	return m.weigh(f)
}

// Take takes what a route came to.
func (m Model) Take(answer any) frame.Page {
	if w, ok := answer.(weighed); ok && w.nth > m.weighed.nth {
		m.weighed, m.clients = w, &w.by.Clients
	}
	return m
}

// Keys edit the legs.
func (m Model) Keys(f frame.Frame) []key.Binding {
	under := f.S.Crossing.Stage.UnderWay()
	use := frame.Bind("enter", "use it for this crossing", "enter")
	if !under {
		use.SetHelp("enter", "use it for the next crossing")
	}
	_, err := m.legs(f).Check()
	use.SetEnabled(m.edited != nil && err == nil)
	undo := frame.Bind("u", "undo", "u")
	undo.SetEnabled(m.edited != nil)
	write := frame.Bind("w", "into a copy of the plan", "w")
	write.SetEnabled(m.edited != nil && err == nil)
	mine := m.at >= first(f) && m.at < len(m.legs(f))
	last := m.at == len(m.legs(f))-1
	bind := func(on bool, name, does string, keys ...string) key.Binding {
		b := frame.Bind(name, does, keys...)
		b.SetEnabled(on)
		return b
	}
	return []key.Binding{
		use, write, frame.Bind("↑ ↓", "choose", "up", "down"),
		bind(mine && !last, "← →", "share", "left", "right", "shift+left", "shift+right"),
		bind(mine && !last, "- +", "time", "-", "+"),
		bind(mine && !last, "v", "until sure", "v"), bind(mine, "m", "ask", "m"), bind(mine, "i", "insert", "i"),
		bind(mine && !last, "del", "remove", "delete", "backspace"), undo,
		bind(f.S.Traffic.Rate > 0, "k", "weigh again", "k"),
	}
}

// times are the times that a leg is lengthened and shortened by.
var times = []time.Duration{
	10 * time.Second, 20 * time.Second, 30 * time.Second, time.Minute, 90 * time.Second, 2 * time.Minute,
	3 * time.Minute, 5 * time.Minute, 7 * time.Minute, 10 * time.Minute, 15 * time.Minute,
	20 * time.Minute, 30 * time.Minute, 45 * time.Minute, time.Hour, 2 * time.Hour,
}

// Press edits a leg, and has the route weighed again.
func (m Model) Press(f frame.Frame, pressed string) (frame.Page, frame.Wish) {
	legs := slices.Clone(m.legs(f))
	m.at = min(m.at, len(legs)-1)
	switch pressed {
	case "up":
		m.at = max(m.at-1, 0)
		return m, frame.Wish{}
	case "down":
		m.at++
		return m, frame.Wish{}
	case "k":
		return m.weigh(f)
	case "w":
		return m, frame.Wish{Copy: legs}
	case "u":
		m.edited = nil
		return m.weigh(f)
	case "enter":
		wish := frame.Wish{Legs: legs}
		if f.S.Crossing.Stage.UnderWay() {
			wish = frame.Wish{Do: keeper.Command{Act: crossing.Reroute{Route: legs}}}
		}
		m.edited = nil
		return m, wish
	}
	l := &legs[m.at]
	switch pressed {
	case "left", "right", "shift+left", "shift+right":
		l.Part = moved(legs, m.at,
			map[string]split.Share{"left": -100, "right": 100, "shift+left": -1000, "shift+right": 1000}[pressed], f)
	case "-":
		l.Dwell = step(l.Dwell, -1)
	case "+":
		l.Dwell = step(l.Dwell, 1)
	case "v":
		if l.Sure = !l.Sure; l.Sure && l.Dwell == 0 {
			l.Dwell = 20 * time.Minute
		}
		l.Least = 0
	case "m":
		l.Ask = !l.Ask
	case "i":
		before := f.S.Crossing.Part()
		if m.at > 0 {
			before = legs[m.at-1].Part
		}
		part := (before + l.Part) / 2 / 100 * 100
		if part <= before {
			return m, frame.Wish{}
		}
		legs = slices.Insert(legs, m.at, route.Leg{Part: part, Dwell: 2 * time.Minute})
	case "delete", "backspace":
		legs = slices.Delete(legs, m.at, m.at+1)
	}
	m.edited = legs
	return m.weigh(f)
}

// moved is a leg's share after a step, between its neighbours'.
func moved(legs route.Route, at int, by split.Share, f frame.Frame) split.Share {
	low, high := split.Share(100), legs[at+1].Part-100
	if at > 0 {
		low = legs[at-1].Part + 100
	}
	if f.S.Crossing.Stage.UnderWay() && first(f) == at {
		low = max(low, f.S.Crossing.Part()+100)
	}
	return max(min(legs[at].Part+by, high), min(low, legs[at].Part))
}

// step is the next of [times] in a direction.
func step(d time.Duration, by int) time.Duration {
	n, found := slices.BinarySearch(times, d)
	if by > 0 && found {
		n++
	} else if by < 0 {
		n--
	}
	return times[min(max(n, 0), len(times)-1)]
}

// Marks explain the table.
func (m Model) Marks() []frame.Mark {
	return []frame.Mark{
		{Glyph: "●", Means: "the new side's share on that leg; the line before it is what it gains"},
		{Glyph: "68 %, 71 (99)", Means: "a fault that begins with the leg is found in 68 of 100 cases; until then, " +
			"or until the leg ends, 71 requests fail in the middle, and 99 in nine of ten cases at most"},
		{Glyph: "◇", Means: "a person is asked before it"},
	}
}

// Head is what the route is weighed by.
func (m Model) Head(f frame.Frame, g *cells.Grid, x, end int) {
	x = g.Within(x, 0, end-x, "route", f.Theme.Label)
	said := ""
	if by := m.weighed.by; m.weighed.nth > 0 {
		said = fmt.Sprintf("calculated for %s, of which %s fail", frame.Rate(by.Rate), words.Percent(by.Failing))
		if m.weighed.nth < m.asked {
			said = "weighing ..."
		}
	}
	g.Right(end-1, 0, cells.Cut(said, max(end-x-3, 0)), f.Theme.Ink)
}

// The columns, from the left.
const (
	colLeg      = 3
	colRail     = 50
	railWidth   = 16
	narrowRail  = 8  // where clients are known
	colRequests = 78 // its right end; with clients theirs
	colLoad     = 86 // its right end
	colFaults   = 88
	faultWidth  = 18
)

// Draw draws the legs, and what they mean.
func (m Model) Draw(f frame.Frame, g *cells.Grid, top, bottom int) {
	p, t := page{m, f}, f.Theme
	legs := m.legs(f)
	if len(legs) == 0 {
		g.Within(2, top+1, f.W-3, "nothing is known of the route yet", t.Label)
		return
	}
	p.heads(g, top)
	y := top + 1
	from := 0 // so that the chosen leg is seen
	if room := bottom - y - 5; room > 0 && min(m.at, len(legs)-1) >= room {
		from = min(m.at, len(legs)-1) - room + 1
	}
	for n := from; n < len(legs) && y < bottom-4; n++ {
		p.leg(g, y, legs, n)
		y++
	}
	y++
	if w, ok := p.fresh(legs); ok && y+2 < bottom {
		p.hits(g, y, "the whole route, bad from the first request", w.Whole)
		p.hits(g, y+1, "all at once", w.AtOnce)
		y += 3
		if y < bottom {
			g.Within(colLeg, y, f.W-colLeg-1, words.Harm(w), t.Ink)
			y++
		}
		for _, line := range frame.Wrap("A fault that begins with a leg is found on it in so many of 100 cases; "+
			"until then, or until the leg ends, so many requests fail (in nine of ten cases at most so many).",
			min(f.W-colLeg-2, 110)) {
			if y+1 < bottom {
				g.Within(colLeg, y+1, f.W-colLeg-1, line, t.Label)
				y++
			}
		}
	} else if f.S.Traffic.Rate <= 0 && y < bottom {
		g.Within(colLeg, y, f.W-colLeg-1, "there is no traffic that it could be weighed by", t.Label)
		y++
	}
	if _, err := legs.Check(); err != nil && y < bottom {
		g.Within(colLeg, y, f.W-colLeg-1, "◇ "+err.Error(), t.Amber)
	}
}

// fresh is what the legs that are shown came to, and whether they were weighed.
func (p page) fresh(legs route.Route) (forecast.Weighed, bool) {
	return p.weighed.result, slices.Equal(p.weighed.legs, legs)
}

// faults are those that the plan does not allow, as places in [forecast.Faults], as many as have room.
func (p page) faults() []int {
	var list []int
	for n, fault := range forecast.Faults {
		if fault > p.S.Guarding.Margin && p.left()+(len(list)+1)*faultWidth <= p.W {
			list = append(list, n)
		}
	}
	return list
}

// wide reports whether there is room for the legs' shares.
func (p page) wide() bool { return p.W >= 120 }

// left is where the faults begin: where there is little room, beside the legs.
func (p page) left() int {
	if p.wide() {
		return colFaults
	}
	return 40
}

// clientsKnown reports whether it is known how many clients there are.
func (p page) clientsKnown() bool { return p.clients != nil && p.clients.Of > 0 }

// rails is how wide the legs' shares are drawn.
func (p page) rails() int {
	if p.clientsKnown() {
		return narrowRail
	}
	return railWidth
}

func (p page) heads(g *cells.Grid, y int) {
	l := p.Theme.Label
	g.Text(colLeg, y, "leg", l)
	if p.wide() {
		g.Text(colRail, y, "0", l)
		g.Right(colRail+p.rails()+1, y, "100 %", l)
		if p.clientsKnown() {
			g.Right(colRequests-9, y, "requests", l)
			g.Right(colRequests, y, "clients", l)
		} else {
			g.Right(colRequests, y, "requests", l)
		}
		g.Right(colLoad, y, "load", l)
	}
	for n, k := range p.faults() {
		text := "of " + words.Percent(forecast.Faults[k])
		if n == 0 {
			text = "a fault " + text
		}
		g.Within(p.left()+n*faultWidth, y, faultWidth-1, text, l)
	}
}

// leg draws one.
func (p page) leg(g *cells.Grid, y int, legs route.Route, n int) {
	t, l := p.Theme, legs[n]
	chosen := n == min(p.at, len(legs)-1)
	style := t.Ink
	if n < first(p.Frame) {
		style = t.Label
	}
	if chosen {
		style = style.In(true)
		g.Set(1, y, '▸', t.Ink.In(true))
	}
	text := l.Part.String() + l.Stay()
	if n == len(legs)-1 && p.S.Keep > 0 {
		text += " for " + route.Short(p.S.Keep)
	}
	if l.Ask {
		text = "◇ " + text
	}
	w, ok := p.fresh(legs)
	if ok && w.Legs[n].Sure > 0 {
		text += fmt.Sprintf(" (sure in ~%s)",
			route.Short(time.Duration(w.Legs[n].Sure*float64(time.Second)).Round(time.Second)))
	}
	end := p.left() - 2
	if p.wide() {
		end = colRail - 2
	}
	g.Within(colLeg, y, end-colLeg, text, style)
	if p.wide() {
		p.rail(g, y, legs, n)
	}
	if !ok {
		return
	}
	if o := w.Legs[n]; p.wide() {
		if p.clientsKnown() {
			g.Right(colRequests-9, y, frame.Thousands(int64(o.Requests)), style)
			g.Right(colRequests, y, frame.Thousands(int64(o.Clients+0.5)), style)
		} else {
			g.Right(colRequests, y, frame.Thousands(int64(o.Requests)), style)
		}
		if o.Load > 0 {
			load := style
			if o.Load > 1 {
				load = t.Amber.In(true)
			}
			g.Right(colLoad, y, words.Percent(o.Load), load)
		}
	}
	for k, fault := range p.faults() {
		g.Within(p.left()+k*faultWidth, y, faultWidth-1, words.Hit(w.Legs[n].Hits[fault]), style)
	}
}

// rail draws the new side's share, and what it gains with the leg.
func (p page) rail(g *cells.Grid, y int, legs route.Route, n int) {
	column := func(s split.Share) int {
		return colRail + int(s)*(p.rails()-1)/int(split.Whole)
	}
	target := question(p.Frame).Target
	from := split.Share(0)
	if n > 0 {
		from = legs[n-1].Part
	}
	for x := colRail; x < colRail+p.rails(); x++ {
		g.Set(x, y, '·', p.Theme.Hair)
	}
	for x := column(from); x < column(legs[n].Part); x++ {
		g.Set(x, y, '╌', p.Theme.Side(target))
	}
	g.Set(column(legs[n].Part), y, '●', p.Theme.Side(target))
}

// hits draws what a fault costs that is there from the first request.
func (p page) hits(g *cells.Grid, y int, name string, hits []forecast.Hit) {
	g.Within(colLeg, y, p.left()-2-colLeg, name, p.Theme.Ink)
	for k, fault := range p.faults() {
		g.Within(p.left()+k*faultWidth, y, faultWidth-1, words.Hit(hits[fault]), p.Theme.Ink)
	}
}

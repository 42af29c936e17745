package weighing

import (
	"fmt"
	"slices"
	"time"

	"vaiven/internal/core/forecast"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/people/drawing"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/words"
)

// columns are where things stand, from the left; what has no room has the column 0.
type columns struct {
	leg, legEnd     int
	rail, railEnd   int // of 0 and of 100 % on the new side
	new             int
	found, foundEnd int // a bar, and its number behind it
	cost, costEnd   int // a bar as far as its end, and numbers behind it
}

// columns are those of the width.
func (p page) columns() columns {
	const numbers = 13
	switch c := (columns{leg: 3, costEnd: p.W - numbers - 1}); {
	case p.W >= 120:
		c.legEnd, c.rail, c.railEnd, c.new, c.found, c.foundEnd, c.cost = 31, 33, 57, 60, 78, 84, 94
		return c
	case p.W >= 60:
		c.legEnd, c.found, c.foundEnd, c.cost = 30, 31, 31, 40
		return c
	default:
		c.legEnd, c.cost = p.W-numbers-2, c.costEnd
		return c
	}
}

// faults are the places in [forecast.Faults] of those that the plan does not allow.
func (m Model) faults() (list []int) {
	for n, fault := range forecast.Faults {
		if fault > m.weighed.by.Margin {
			list = append(list, n)
		}
	}
	return list
}

// chosen is the place of the fault that is drawn.
func (m Model) chosen() int {
	list := m.faults()
	if len(list) == 0 {
		return len(forecast.Faults) - 1
	}
	at := max(slices.Index(list, m.weighed.by.Common()), 0) + m.fault
	return list[(at%len(list)+len(list))%len(list)]
}

// Draw draws the legs, and what they mean.
func (m Model) Draw(f frame.Frame, g *cells.Grid, top, bottom int) {
	p, t := page{m, f}, f.Theme
	legs := m.legs(f)
	if len(legs) == 0 {
		g.Within(2, top+1, f.W-3, "nothing is known of the route yet", t.Label)
		return
	}
	w, fresh := p.fresh(legs)
	y := top
	say := func(text string, style cells.Style) {
		if y < bottom {
			g.Within(3, y, f.W-4, text, style)
			y++
		}
	}
	switch _, err := legs.Check(); {
	case err != nil:
		say("◇ "+err.Error(), t.Amber)
	case f.S.Traffic.Rate <= 0:
		say("there is no traffic that it could be weighed by", t.Label)
	case fresh:
		say(words.Costs(w, m.chosen()), t.Ink)
	default:
		say("weighing ...", t.Label)
	}
	if bottom-y < len(legs)+3 { // no room for more than the legs
		p.legs(g, y, bottom, legs, w, fresh, 1)
		return
	}
	p.heads(g, y, w, fresh)
	y += 2
	rows := min(max((bottom-y-3)/len(legs), 1), 6)
	y = min(p.legs(g, y, bottom-3, legs, w, fresh, rows)+1, bottom-2)
	if fresh {
		for _, o := range []struct {
			name string
			hit  forecast.Hit
		}{{"the whole route, bad from its first request", w.Whole[m.chosen()]},
			{"everything at once", w.AtOnce[m.chosen()]}} {
			if y < bottom {
				c := p.columns()
				end := c.cost
				if c.found > 0 {
					end = c.found
				}
				g.Within(c.leg, y, end-c.leg-1, o.name, t.Label)
				p.hit(g, y, o.hit, w, t.Label)
				y++
			}
		}
	}
}

// legs draws the legs from a row on, so many rows for each, and returns the row after them. Where they have no room
// the chosen one is seen.
func (p page) legs(g *cells.Grid, y, bottom int, legs route.Route, w forecast.Weighed, fresh bool, rows int) int {
	at := min(p.at, len(legs)-1)
	room := max((bottom-y)/rows, 1)
	for n := frame.Window(at, len(legs), room); n < len(legs) && y < bottom; n++ {
		p.leg(g, y, min(rows, bottom-y), legs, n)
		if fresh {
			style := p.Theme.Side(question(p.Frame).Target)
			p.hit(g, y, w.Legs[n].Hits[p.chosen()], w, style)
			p.load(g, y, min(rows, bottom-y), w.Legs[n])
		}
		y += rows
	}
	return y
}

// fresh is what the legs that are shown came to, and whether they were weighed.
func (p page) fresh(legs route.Route) (forecast.Weighed, bool) {
	return p.weighed.result, p.weighed.nth > 0 && slices.Equal(p.weighed.legs, legs)
}

// heads says what stands where, and draws the scale of costs.
func (p page) heads(g *cells.Grid, y int, w forecast.Weighed, fresh bool) {
	c, l := p.columns(), p.Theme.Label
	target := question(p.Frame).Target
	g.Text(c.leg, y+1, "leg", l)
	if c.rail > 0 {
		g.Text(c.rail, y+1, "0", l)
		g.Right(c.railEnd+1, y+1, "100 %", l)
		g.Within(c.new, y+1, c.found-c.new-1, fmt.Sprintf("%v carries", target), l)
	}
	if c.found > 0 {
		g.Text(c.found, y+1, "found", l)
	}
	if !fresh {
		return
	}
	if c.costEnd-c.cost < 12 {
		return
	}
	g.Within(c.cost, y, p.W-c.cost-1, fmt.Sprintf("requests that fail, with a fault of %s",
		words.Percent(forecast.Faults[p.chosen()])), l)
	most := p.most(w)
	scale, end := drawing.Scale{High: most, From: float64(c.cost), To: float64(c.costEnd)}, 0
	for _, v := range scale.Ticks(5) {
		if x := int(scale.Of(v)); end == 0 || x > end+1 {
			end = g.Text(x, y+1, words.Requests(v), l)
		}
	}
}

// most is the most that the scale of costs has.
func (p page) most(w forecast.Weighed) float64 {
	k := p.chosen()
	most := max(w.Whole[k].Most, w.AtOnce[k].Most, 1)
	for _, l := range w.Legs {
		most = max(most, l.Hits[k].Most)
	}
	return most
}

// leg draws one, over some rows: what it is, and where it takes the share.
func (p page) leg(g *cells.Grid, y, rows int, legs route.Route, n int) {
	t, l, c := p.Theme, legs[n], p.columns()
	style := t.Ink
	if n < first(p.Frame) {
		style = t.Label
	}
	if n == min(p.at, len(legs)-1) {
		style = style.In(true)
		g.Set(1, y, '▸', t.Ink.In(true))
	}
	text := l.Part.String() + l.Terms()
	if n == len(legs)-1 && p.S.Keep > 0 {
		text += " for " + route.Short(p.S.Keep)
	}
	if l.Ask {
		text = "◇ " + text
	}
	if w, ok := p.fresh(legs); ok && w.Legs[n].Sure > 0 {
		text += fmt.Sprintf(" (sure in ~%s)",
			route.Short(time.Duration(w.Legs[n].Sure*float64(time.Second)).Round(time.Second)))
	}
	for k, line := range frame.Wrap(text, c.legEnd-c.leg) {
		if k < rows {
			g.Within(c.leg, y+k, c.legEnd-c.leg, line, style)
		}
	}
	if c.rail == 0 {
		return
	}
	ink := t.Side(question(p.Frame).Target)
	column := func(s split.Share) int { return c.rail + int(s)*(c.railEnd-c.rail)/int(split.Whole) }
	before := split.Share(0)
	if n > 0 {
		before = legs[n-1].Part
	}
	for row := range rows {
		g.Set(column(0), y+row, '│', t.Hair)
		g.Set(column(split.Whole), y+row, '│', t.Hair)
	}
	for x := column(before); x < column(l.Part); x++ {
		g.Set(x, y, '╌', ink)
	}
	for row := range rows {
		g.Set(column(l.Part), y+row, '╎', ink)
	}
}

// load says how much of the side's capacity a leg takes, and who sees it.
func (p page) load(g *cells.Grid, y, rows int, o forecast.LegOutlook) {
	c, t := p.columns(), p.Theme
	if c.rail == 0 {
		return
	}
	style, text := t.Ink, o.Leg.Part.String()
	if o.Load > 0 {
		text += fmt.Sprintf(", %s load", words.Percent(o.Load))
	}
	if o.Load > 1 {
		style = t.Amber.In(true)
	}
	g.Within(c.new, y, c.found-c.new-1, text, style)
	if o.Clients > 0 && rows > 1 {
		g.Within(c.new, y+1, c.found-c.new-1, words.Requests(o.Clients)+" clients", t.Label)
	}
}

// hit draws how likely a fault is found, and what it costs until then, on the scale of all of them.
func (p page) hit(g *cells.Grid, y int, h forecast.Hit, w forecast.Weighed, ink cells.Style) {
	c, t := p.columns(), p.Theme
	if c.foundEnd > c.found {
		bar(g, c.found, y, h.Found*float64(c.foundEnd-c.found), t.Label)
		for x := c.found + int(h.Found*float64(c.foundEnd-c.found)+0.999); x < c.foundEnd; x++ {
			g.Set(x, y, '░', t.Hair)
		}
	}
	if c.found > 0 {
		x := c.foundEnd
		if c.foundEnd > c.found {
			x++
		}
		g.Within(x, y, 7, words.Chance(h.Found), t.Ink)
	}
	numbers := fmt.Sprintf("%s (%s)", words.Requests(h.Middle), words.Requests(h.Most))
	if c.costEnd-c.cost < 12 {
		g.Right(p.W-1, y, numbers, t.Ink)
		return
	}
	scale := float64(c.costEnd-c.cost) / p.most(w)
	end := c.cost + int(h.Most*scale)
	for x := c.cost + int(h.Middle*scale); x < end; x++ {
		g.Set(x, y, '─', t.Ink)
	}
	g.Set(end, y, '┤', t.Ink)
	bar(g, c.cost, y, max(h.Middle*scale, 0.125), ink)
	g.Within(end+2, y, p.W-end-3, numbers, t.Ink)
}

// bar draws a bar of so many columns, to an eighth of one.
func bar(g *cells.Grid, x, y int, columns float64, style cells.Style) {
	whole := int(columns)
	for n := range whole {
		g.Set(x+n, y, '█', style)
	}
	if eighths := int(8 * (columns - float64(whole))); eighths > 0 {
		g.Set(x+whole, y, []rune("▏▎▍▌▋▊▉")[eighths-1], style)
	}
}

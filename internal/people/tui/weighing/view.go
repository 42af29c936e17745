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
	fault   int         // how many sizes of fault further than the usual one
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
		by.Asks, by.Traffic = *known, by.Traffic.Of(*known)
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
		m.weighed, m.clients = w, &w.by.Asks
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
	use.SetEnabled(m.edited != nil && err == nil && !(under && f.Others))
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
		bind(m.weighed.nth > 0 && len(m.faults()) > 1, "< >", "size of fault", "<", ">"),
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
	case "<":
		m.fault--
		return m, frame.Wish{}
	case ">":
		m.fault++
		return m, frame.Wish{}
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

// Marks explain the picture.
func (m Model) Marks() []frame.Mark {
	return []frame.Mark{
		{Glyph: "╎ ╌", Means: "the new side's share on a leg, and what it gains with it"},
		{Glyph: "█─┤ 16 (22)", Means: "requests that fail before a fault is found that begins with the leg, or until " +
			"the leg ends: 16 in the middle, and 22 in nine of ten cases at most"},
		{Glyph: "███░ 68 %", Means: "it is found on that leg in 68 of 100 cases"},
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

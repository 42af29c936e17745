package crossing

import (
	"fmt"
	"strings"
	"time"
	"unicode"

	"charm.land/bubbles/v2/key"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayout"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/words"
)

// Model is the page's state. It is a value; what it remembers follows from what it is given.
type Model struct {
	intervals map[evidence.Count]evidence.Interval // of rows of the track that were drawn before
	outlooks  map[outlooked]forecast.Found         // of shares at the present traffic
}

// outlooked is what an outlook follows from.
type outlooked struct {
	share   split.Share
	target  split.Side
	traffic forecast.Traffic // to two digits
	by      forecast.Guarding
}

// New makes the page.
func New() frame.Page {
	return Model{map[evidence.Count]evidence.Interval{}, map[outlooked]forecast.Found{}}
}

// page is the model with what it draws.
type page struct {
	Model
	frame.Frame
	g *cells.Grid
}

// Take is for other pages.
func (m Model) Take(any) frame.Page { return m }

// How far an arrow moves the ghost.
const (
	coarse = 5 * split.Percent
	fine   = split.Percent
)

// Keys steer.
func (m Model) Keys(f frame.Frame) []key.Binding {
	c := f.S.Crossing
	can := c.Stage.UnderWay() && !c.GoingBack && (c.Proven || c.Moved) && !f.Others
	forward := false
	for _, w := range f.S.WaysOut {
		forward = forward || w.Do == wayout.Forward
	}
	list := []key.Binding{
		frame.Bind("f", fmt.Sprintf("forward: all to %v", c.Target), "f"),
		frame.Bind("← →", "steer", "left", "right", "shift+left", "shift+right"),
	}
	list[0].SetEnabled(can && forward)
	list[1].SetEnabled(can)
	return list
}

// Press names a share.
func (m Model) Press(f frame.Frame, pressed string) (frame.Page, frame.Wish) {
	share := f.S.Front.Split.Share
	if f.Moved {
		share = f.Ghost
	}
	switch pressed {
	case "f":
		share = f.S.Crossing.Full()
	case "left":
		share -= coarse
	case "right":
		share += coarse
	case "shift+left":
		share -= fine
	case "shift+right":
		share += fine
	}
	share = min(max(share, 0), split.Whole)
	return m, frame.Wish{Name: &share}
}

// Marks explain the track and what stands beside it.
func (m Model) Marks() []frame.Mark {
	return []frame.Mark{
		{Glyph: "← →", Means: "steering moves (○) by 5 %, with shift by 1 %; Enter makes it so"},
		{Glyph: "(●)", Means: "now: the share on green in force; (○) the one that you are about to ask for"},
		{Glyph: "● ─", Means: "above: the share that requests really had, with its 95 % interval; │ what was asked"},
		{Glyph: "╎ ╌", Means: "below: the route to come, time down, share across; ◇ a person is asked first"},
		{Glyph: "┄┄", Means: "nobody watched"},
		{Glyph: "● ◐ ▲ ×", Means: "instances: healthy, not up yet, failing or stuck, ended"},
		{Glyph: "● ◐ ○ ▲", Means: "guards: clear, watching, no data, worse · way back: ● open, ▲ narrow, × closed"},
		{Glyph: "b g B G ×", Means: "front door: answered by blue, by green; capitals failing; × lost; c from a cache"},
		{Glyph: "▁▃▆", Means: "requests in the last seconds; ▲ a failed health check"},
	}
}

// The sizes from which on the sides stand beside the track, and the guards have
// room for words.
const (
	wideFrom = 110
	tallFrom = 30
)

// Draw draws the page.
func (m Model) Draw(f frame.Frame, g *cells.Grid, top, bottom int) {
	p := page{m, f, g}
	if f.W < wideFrom || f.H < tallFrom {
		p.folded(top, bottom)
		return
	}
	bottom = p.door(bottom-2, 2) - 1
	frame.Hair(g, f.Theme, bottom)
	bottom -= p.guardRows() + 1
	p.guards(bottom)
	p.wayBack(bottom, f.W-44)
	bottom--
	frame.Hair(g, f.Theme, bottom)
	side := min(max(f.W*25/100, 30), 60)
	have := p.divide(bottom - top)
	for _, s := range split.Sides {
		x := 3
		if s == split.Green {
			x = f.W - side + 1
		}
		p.sidePanel(s, x, top, side-3, bottom, have)
	}
	p.track(side+2, top, f.W-side-1, bottom)
}

// Head is what crosses, and how far it is.
func (m Model) Head(f frame.Frame, g *cells.Grid, x, end int) {
	p := page{m, f, g}
	t, s := f.Theme, f.S.Crossing
	head, tail, style, bar := p.stage()
	room := max(end-x-cells.Width(head)-4, 0) // how far it is matters more than what it is called
	limit := x + room
	say := func(gap int, text string, style cells.Style, most int) {
		if x += gap; text != "" && x < limit {
			x = g.Text(x, 0, cells.CutLeft(text, min(most, limit-x)), style)
		}
	}
	if s.Stage != crossing.None {
		number := fmt.Sprintf("crossing %d", s.Number)
		if cells.Width(number)+cells.Width(s.LiveVersion)+cells.Width(s.Version)+5 <= room {
			say(0, number, t.Label, room)
			say(1, "", t.Label, 0)
		}
		if s.LiveVersion != "" {
			say(0, s.LiveVersion, t.Side(s.Target.Other()).In(true), (room-3)/2)
			say(1, "→", t.Label, 1)
			say(1, "", t.Label, 0)
		}
		say(0, s.Version, t.Side(s.Target).In(true), room)
	}
	drawStage(g, f, x, end-x, head, tail, style, bar)
}

// stage is how far the crossing is: in words, with what is behind it, and the part that is
// done, below 0 if that is not known.
func (p page) stage() (head, tail string, style cells.Style, bar float64) {
	t, s := p.Theme, p.S.Crossing
	style, bar = t.Ink.In(true), -1
	switch s.Stage {
	case crossing.None:
		return "no crossing yet", "", t.Label, bar
	case crossing.Raising:
		v := p.S.Sides[s.Target]
		head, tail = "raise", fmt.Sprintf("%d of %d healthy, %s", v.Healthy, v.Wanted, words.Clock(p.Now.Sub(s.Since)))
	case crossing.Proving:
		head, tail = "prove", words.Clock(p.Now.Sub(s.Since))
		if n := len(p.S.Proof.Results); n > 0 {
			tail = fmt.Sprintf("%d of %d passing", p.S.Proof.Passing(), n)
		}
	case crossing.Shifting, crossing.Keeping:
		head = fmt.Sprintf("leg %d of %d: %s", s.Leg+1, len(s.Route), words.On(s.Share, s.Target))
		if s.Leg < 0 {
			head = "before the first leg: " + words.On(s.Share, s.Target)
		}
		total := s.Whole()
		if s.Stage == crossing.Keeping {
			head = fmt.Sprintf("keep %v", s.Target.Other())
			if s.First {
				head = "keep watching"
			}
		}
		if left := p.S.Left; s.Timed() && total > 0 {
			bar = 1 - float64(left)/float64(total)
			tail = words.Clock(total-left) + " of " + words.Clock(total)
		}
	default:
		head = string(s.Stage)
		tail = words.Age(p.Now.Sub(s.Since)) + " ago"
	}
	switch {
	case s.GoingBack:
		head, style = "rolling back", t.Red.In(true)
	case s.Frozen():
		head, style = "frozen, "+head, t.Amber.In(true)
	case s.Stage == crossing.RolledBack || s.Stage == crossing.CalledOff:
		style = t.Amber.In(true)
	}
	return head, tail, style, bar
}

// drawStage draws how far it is into the room between the header's ends.
func drawStage(g *cells.Grid, f frame.Frame, x, room int, head, tail string, style cells.Style, bar float64) {
	const barWidth = 20
	width := cells.Width(head) + 2 + cells.Width(tail)
	withBar := bar >= 0 && room >= width+barWidth+6
	if withBar {
		width += barWidth + 1
	}
	if room < width+4 {
		g.Within(x+2, 0, room-3, head, style)
		return
	}
	x += max(2, (room-width)/2)
	x = g.Text(x, 0, head, style) + 2
	if withBar {
		done := int(bar*barWidth + 0.5)
		for i := range barWidth {
			line := f.Theme.Hair
			if i < done {
				line = f.Theme.Ink
			}
			g.Set(x+i, 0, '━', line)
		}
		x += barWidth + 1
	}
	g.Text(x, 0, tail, f.Theme.Label)
}

// door is the door log: the last answers, and what they come to. It returns its
// first row.
func (p page) door(y, rows int) int {
	g, t, d := p.g, p.Theme, p.S.Door
	x := 3
	if p.W < wideFrom {
		x = 1
	}
	lost, style := "none lost", t.Ink
	if d.Lost > 0 {
		lost, style = fmt.Sprintf("▲ %s lost", words.Thousands(d.Lost)), t.Red.In(true)
	}
	lost, style = p.aged(lost, d.At, doorEvery, style)
	end := p.W - 2 - cells.Width(lost)
	at := g.Within(x, y, end-x-1, "front door", t.Label) + 3
	if end > x {
		g.Text(end, y, lost, style)
	}
	marks := d.Recent
	if room := end - 2 - at; room < len(marks) {
		marks = marks[len(marks)-max(room, 0):]
	}
	for _, mark := range marks {
		r, style := p.mark(mark.Side, mark.Kind, mark.Cache)
		g.Set(at, y, r, style)
		at++
	}
	if rows < 2 {
		return y
	}
	text := fmt.Sprintf("%s answers since the keeper began · longest gap %s", words.Thousands(d.Answers),
		frame.Milliseconds(d.LongestGap))
	if d.Failing > 0 {
		text += fmt.Sprintf(" · %s failing", words.Thousands(d.Failing))
	}
	if d.Slow > 0 {
		text += fmt.Sprintf(" · %s slow", words.Thousands(d.Slow))
	}
	if d.Twice > 0 {
		text += fmt.Sprintf(" · %s came twice", words.Thousands(d.Twice))
	}
	if d.Lost > 0 {
		text += " · last lost: " + d.LastLost()
	}
	g.Within(x, y+1, p.W-x-1, text, t.Label)
	return y
}

// doorEvery is how often the door log is told at least.
const doorEvery = 2 * time.Second

// mark is one answer: its side's letter, a capital if it was not good.
func (p page) mark(side string, kind reading.Answer, cache bool) (rune, cells.Style) {
	t := p.Theme
	r, style := '·', t.Label
	switch side {
	case "blue":
		r, style = 'b', t.Side(split.Blue)
	case "green":
		r, style = 'g', t.Side(split.Green)
	}
	switch kind {
	case reading.LostAnswer, reading.Unreached:
		return '×', t.Red.In(true)
	case reading.SlowAnswer:
		return unicode.ToUpper(r), t.Amber
	case reading.FailingAnswer:
		return unicode.ToUpper(r), t.Amber.In(true)
	}
	if cache {
		return 'c', t.Label
	}
	return r, style
}

// front is the share on green that the front was last read to have.
func (p page) front() split.Share { return p.S.Front.Split.Share }

// found is how soon a fault would be found at a share.
func (p page) found(share split.Share) forecast.Found {
	key := outlooked{share, p.S.Crossing.Target, p.S.Traffic.Rough(), p.S.Guarding}
	o, ok := p.outlooks[key]
	if !ok {
		const most = 8 // traffic differs from time to time
		if len(p.outlooks) >= most {
			clear(p.outlooks)
		}
		o = key.traffic.Find(share, key.target, key.by)
		p.outlooks[key] = o
	}
	return o
}

// next is the share that would come next: the ghost's, else the next leg's; false if none does.
func (p page) next() (split.Share, bool) {
	c := p.S.Crossing
	if p.Moved {
		return p.Ghost, true
	}
	if leg, ok := c.Next(); ok && c.Stage.UnderWay() && !c.GoingBack && c.Stage != crossing.Keeping {
		return c.LegShare(leg), true
	}
	return 0, false
}

// aged is a figure with the style that its age gives it.
func (p page) aged(text string, at time.Time, every time.Duration, fresh cells.Style) (string, cells.Style) {
	if at.IsZero() {
		return "—", p.Theme.Label
	}
	return frame.Aged(p.Theme, text, p.Now.Sub(at), every, fresh)
}

// ifFresh is a style for what follows from the front's counts: dim when they are
// old.
func (p page) ifFresh(s cells.Style) cells.Style {
	_, s = p.aged("", p.S.Front.At, p.S.Front.Every, s)
	return s
}

func upper(side split.Side) string { return strings.ToUpper(side.String()) }

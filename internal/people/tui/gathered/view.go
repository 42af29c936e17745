package gathered

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/people/drawing"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/words"
)

// Model is the page's state. It is a value.
type Model struct {
	stories []guard.Story
	err     string
	at      int // the guard that is shown
	back    int // how many rows the cursor is from the newest
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
	return []key.Binding{frame.Bind("← →", "guard", "left", "right"),
		frame.Bind("↑ ↓", "time", "up", "down", "pgup", "pgdown")}
}

// Press moves the cursor.
func (m Model) Press(f frame.Frame, pressed string) (frame.Page, frame.Wish) {
	switch pressed {
	case "left":
		m.at = max(m.at-1, 0)
	case "right":
		m.at = min(m.at+1, max(len(m.stories)-1, 0))
	default:
		s, _ := m.story()
		m.back = min(max(m.back-frame.Steps(pressed), 0), max(len(rows(s.Points, f.H-around))-1, 0))
	}
	return m, frame.Wish{}
}

// Marks explain what is drawn.
func (m Model) Marks() []frame.Mark {
	return []frame.Mark{
		{Glyph: "▒▒●▒", Means: "by how much the new side is worse, and between which bounds, with 95 % certainty"},
		{Glyph: "│", Means: "no difference: to the right of it the new side is worse"},
		{Glyph: "┃", Means: "what the plan allows: a bar wholly to the right of it is worse than that"},
		{Glyph: "▓▓▓", Means: "a bar that is"},
		{Glyph: "█ ▄ ·", Means: "at the front door: half or more bad, some bad, none"},
		{Glyph: "0.1:1", Means: "the evidence that it is worse than the plan allows"},
		{Glyph: "┄", Means: "nobody watched"},
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

// row is the moments that one row of the page stands for.
type row struct {
	guard.Point
	from time.Time // of the moment before it
}

// rows are a story's moments in so many rows at most: the newer half of them stands for less time each, so that the
// whole crossing is seen, and what has just happened in full.
func rows(list []guard.Point, room int) (all []row) {
	if room < 1 {
		return nil
	}
	single := len(list) // of the newest, a row each
	each := 1
	if len(list) > room {
		single = (room + 1) / 2
		if older := room - single; older > 0 {
			each = (len(list) - single + older - 1) / older
		} else {
			list = list[len(list)-single:]
		}
	}
	for n := 0; n < len(list); {
		last := min(n+each, len(list)-single)
		if n >= len(list)-single {
			last = n + 1
		}
		r := row{Point: guard.Join(list[n:last])}
		if n > 0 {
			r.from = list[n-1].At
		}
		all = append(all, r)
		n = last
	}
	return all
}

// around are the rows of the screen that are none of the page's: the screen's own, the guards, the verdict, the heads
// and what the cursor is on.
const around = 9

// columns are where things stand, from the left; what has no room has the column 0.
type columns struct {
	live, share, time int // right ends, but for the time
	plot, plotEnd     int
	trial, proof      int
	door              int
}

func columnsOf(w int) columns {
	switch {
	case w >= 110:
		return columns{live: 11, share: 20, time: 22, plot: 33, plotEnd: w - 34, trial: w - 32, proof: w - 21,
			door: w - 7}
	case w >= 60:
		return columns{live: 9, time: 11, plot: 21, plotEnd: w - 27, trial: w - 25, proof: w - 16, door: w - 2}
	}
	return columns{time: 2, plot: 12, plotEnd: w - 2}
}

// Draw draws both sides beside each other, time down, with the difference between them, and what the cursor is on.
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
	p := picture{f: f, g: g, s: s, c: columnsOf(f.W), target: f.S.Crossing.Target}
	p.rows = rows(s.Points, bottom-top-5)
	if len(p.rows) == 0 {
		return
	}
	p.scale = across(s, p.rows, p.c)
	at := max(len(p.rows)-1-m.back, 0)
	g.Within(2, top+1, f.W-3, p.verdict(p.rows[len(p.rows)-1]), t.Ink)
	p.heads(top + 2)
	for n, r := range p.rows {
		p.row(top+4+n, r, n == at, m.doorOf(r))
	}
	if bottom-1 > top {
		m.says(f, g, bottom-1, s, p.rows[at], p.target)
	}
}

// picture is what the page draws of one guard.
type picture struct {
	f      frame.Frame
	g      *cells.Grid
	s      guard.Story
	c      columns
	rows   []row
	scale  drawing.Scale // of differences, across
	target split.Side
}

// across is where differences of some rows lie.
func across(s guard.Story, rows []row, c columns) drawing.Scale {
	var points []guard.Point
	for _, r := range rows {
		points = append(points, r.Point)
	}
	low, high := s.Reach(points)
	return drawing.Scale{Low: low, High: high, From: float64(c.plot), To: float64(c.plotEnd)}
}

// measure is a difference in the guard's unit.
func (p picture) measure(v float64) string {
	if !p.s.Watch.Rates() {
		return words.Measure(p.s.Watch, p.s.Figure, v)
	}
	return fmt.Sprintf("%+.2g %%", 100*v)
}

// verdict says what it comes to.
func (p picture) verdict(r row) string {
	is := "not sure yet"
	switch {
	case r.Evidence >= r.Needed:
		is = "worse, and the guard has tripped"
	case r.Range == (evidence.Interval{}):
		return "nothing can be said yet"
	case r.Range.Low > p.s.Margin:
		is = "worse"
	case r.Range.High <= p.s.Margin:
		is = "clear"
	}
	return fmt.Sprintf("%v differs by %s to %s (95 %%): %s. Evidence %s, it trips at %s", p.target,
		p.measure(r.Range.Low), p.measure(r.Range.High), is, words.Odds(r.Evidence), words.Odds(r.Needed))
}

// heads says what stands where, and draws the scale.
func (p picture) heads(y int) {
	l, scale := p.f.Theme.Label, p.scale
	other := p.target.Other()
	if p.c.live > 0 {
		p.g.Right(p.c.live, y, strings.ToUpper(other.String()), p.f.Theme.Side(other).In(true))
		p.g.Text(p.c.trial, y, strings.ToUpper(p.target.String()), p.f.Theme.Side(p.target).In(true))
		p.g.Text(p.c.proof, y, "evidence", l)
		if p.c.share > 0 {
			p.g.Right(p.f.W-3, y, "door", l)
		}
	}
	if p.c.share > 0 {
		p.g.Right(p.c.share, y, "got", l)
	}
	p.g.Text(p.c.time, y, "time", l)
	end := 0
	for _, v := range scale.Ticks(6) {
		text := p.measure(v)
		if math.Abs(v) < (scale.High-scale.Low)/1e6 {
			text = "0"
		}
		x := int(scale.Of(v)+0.5) - cells.Width(text)/2
		if x > end && x >= p.c.plot && x+cells.Width(text) <= p.c.plotEnd+1 {
			end = p.g.Text(x, y, text, l)
		}
	}
	for x := p.c.plot; x <= p.c.plotEnd; x++ {
		p.g.Set(x, y+1, '─', p.f.Theme.Hair)
	}
}

// row draws some moments.
func (p picture) row(y int, r row, chosen bool, door evidence.Count) {
	g, c, t := p.g, p.c, p.f.Theme
	ink := t.Label
	if chosen {
		ink = t.Ink.In(true)
		g.Set(c.time-1, y, '▸', ink)
	}
	g.Text(c.time, y, r.At.Local().Format("15:04:05"), ink)
	at := func(v float64) int { return int(p.scale.Of(v) + 0.5) }
	bar, glyph := t.Side(p.target), '▒'
	if r.Range.Low > p.s.Margin {
		bar, glyph = t.Red, '▓'
	}
	if r.Range != (evidence.Interval{}) {
		for x := at(r.Range.Low); x <= at(r.Range.High); x++ {
			g.Set(x, y, glyph, bar)
		}
	}
	g.Set(at(0), y, '│', t.Label)
	g.Set(at(p.s.Margin), y, '┃', t.Red)
	g.Set(at(r.Difference), y, '●', bar.In(true))
	if c.live == 0 {
		return
	}
	live, trial := words.Percent(r.Live.Rate()), words.Percent(r.Trial.Rate())
	if !p.s.Watch.Rates() {
		live, trial = words.Measure(plan.Higher, p.s.Figure, r.Beside), words.Measure(plan.Higher, p.s.Figure, r.Value)
	}
	told := !p.s.Watch.Rates() && p.s.Watch != plan.Fewer // of what is counted no number stands anywhere
	if told || r.Live.Of > 0 {
		g.Right(c.live, y, live, ink)
	}
	if told || r.Trial.Of > 0 {
		g.Within(c.trial, y, c.proof-c.trial-1, trial, ink)
	}
	if all := r.Live.Of + r.Trial.Of; c.share > 0 && all > 0 {
		g.Right(c.share, y, words.Percent(float64(r.Trial.Of)/float64(all)), t.Label)
	}
	proof := t.Label
	if r.Evidence >= r.Needed {
		proof = t.Red.In(true)
	}
	g.Within(c.proof, y, c.door-c.proof-1, words.Odds(r.Evidence), proof)
	switch {
	case door.Of == 0:
	case 2*door.Bad >= door.Of:
		g.Set(c.door, y, '█', t.Red)
	case door.Bad > 0:
		g.Set(c.door, y, '▄', t.Amber)
	default:
		g.Set(c.door, y, '·', t.Ink)
	}
}

// doorOf is what the prober found at the front door in a row's time, as far as the guard on it has told.
func (m Model) doorOf(r row) (all evidence.Count) {
	n := slices.IndexFunc(m.stories, func(s guard.Story) bool { return s.Watch == plan.Door })
	if n < 0 {
		return all
	}
	for _, d := range m.stories[n].Points {
		if d.At.After(r.from) && !d.At.After(r.At) {
			all = all.Plus(d.Live).Plus(d.Trial)
		}
	}
	return all
}

// says is what the cursor is on, in words.
func (m Model) says(f frame.Frame, g *cells.Grid, y int, s guard.Story, c row, target split.Side) {
	proof := fmt.Sprintf("evidence %s of %s", words.Odds(c.Evidence), words.Odds(c.Needed))
	if !s.Watch.Rates() {
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
		return fmt.Sprintf("%d of %s, %s", of.Bad, words.Thousands(of.Of), words.Percent(of.Rate()))
	}
	noise := ""
	if a := c.Apart; a.High > 0 {
		noise = fmt.Sprintf(" (its own %s to %s)", words.Percent(a.Low), words.Percent(a.High))
	}
	text := fmt.Sprintf("%s  %v %s%s   %v %s   difference %+.1f to %+.1f points   %s", c.At.Local().Format("15:04:05"),
		target.Other(), side(c.Live), noise, target, side(c.Trial), 100*c.Range.Low, 100*c.Range.High, proof)
	g.Within(2, y, f.W-3, text, f.Theme.Ink)
}

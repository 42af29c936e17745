package logged

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/past"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/words"
)

// Model is the page's state. It is a value.
type Model struct {
	book   keeper.Logbook
	usual  past.Usual
	known  bool
	err    string
	typed  string // to find rows by
	at     int    // the row at the cursor, of those that are found
	marked int    // number of the crossing to be seen beside another, 0 for none
}

// New makes the page.
func New() frame.Page { return Model{} }

// read is what the keeper told.
type read struct {
	book keeper.Logbook
	err  error
}

// Open reads the logbook.
func (m Model) Open(frame.Frame) (frame.Page, frame.Wish) {
	return m, frame.Wish{Read: func(ctx context.Context, c keeper.Client) any {
		book, err := c.Logbook(ctx)
		return read{book, err}
	}}
}

// Every is how often it is read again.
func (Model) Every() time.Duration { return 10 * time.Second }

// Take takes it, or what is typed.
func (m Model) Take(answer any) frame.Page {
	switch a := answer.(type) {
	case read:
		m.known, m.err = true, ""
		if a.err != nil {
			m.err = a.err.Error()
			return m
		}
		m.book, m.usual = a.book, past.UsualOf(a.book.Crossings)
	case frame.Typed:
		m.typed, m.at = string(a), 0
	}
	return m
}

// line is a row: a crossing, or what was done outside of one.
type line struct {
	c   *past.Crossing
	act *words.Act
}

func (l line) at() time.Time {
	if l.c != nil {
		return l.c.Begun
	}
	return l.act.At
}

// text is all that a row can be found by.
func (l line) text(now time.Time) string {
	if l.c == nil {
		return strings.Join([]string{words.Day(l.act.At, now), l.act.What, l.act.By, l.act.Outcome}, " ")
	}
	c := *l.c
	return strings.Join([]string{fmt.Sprint(c.Number), words.Day(c.Begun, now), words.Versions(c), string(c.Stage),
		c.Build,
		c.Commit, words.Who(c), words.EndedWhy(c)}, " ")
}

// lines are the rows that have all that is typed, the newest first.
func (m Model) lines(now time.Time) (list []line) {
	for n := range m.book.Crossings {
		list = append(list, line{c: &m.book.Crossings[n]})
	}
	for n := range m.book.Acts {
		list = append(list, line{act: &m.book.Acts[n]})
	}
	slices.SortStableFunc(list, func(a, b line) int { return b.at().Compare(a.at()) })
	typed := strings.Fields(strings.ToLower(m.typed))
	if len(typed) == 0 {
		return list
	}
	return slices.DeleteFunc(list, func(l line) bool {
		text := strings.ToLower(l.text(now))
		return slices.ContainsFunc(typed, func(word string) bool { return !strings.Contains(text, word) })
	})
}

// chosen is the crossing at the cursor, nil if there is none.
func (m Model) chosen(now time.Time) *past.Crossing {
	list := m.lines(now)
	if m.at >= len(list) {
		return nil
	}
	return list[m.at].c
}

// Keys choose a crossing, and open it.
func (m Model) Keys(f frame.Frame) []key.Binding {
	beside := "mark it, to see another beside it"
	c := m.chosen(f.Now)
	switch {
	case m.marked > 0 && c != nil && c.Number == m.marked:
		beside = "take the mark away"
	case m.marked > 0:
		beside = fmt.Sprintf("see it beside crossing %d", m.marked)
	}
	list := []key.Binding{frame.Bind("enter", "replay", "enter"), frame.Bind("m", beside, "m"),
		frame.Bind("↑ ↓", "choose", "up", "down", "pgup", "pgdown"), frame.Bind("/", "find", "/")}
	list[0].SetEnabled(c != nil)
	list[1].SetEnabled(c != nil)
	return list
}

// Press moves the cursor, or opens a crossing.
func (m Model) Press(f frame.Frame, pressed string) (frame.Page, frame.Wish) {
	c := m.chosen(f.Now)
	switch {
	case pressed == "/":
		return m, frame.Wish{Find: true}
	case pressed == "enter" && c != nil:
		return m, frame.Wish{Past: []past.Crossing{*c}}
	case pressed == "m" && c != nil && m.marked == c.Number:
		m.marked = 0
	case pressed == "m" && c != nil && m.marked > 0:
		pair := []past.Crossing{*c}
		for _, other := range m.book.Crossings {
			if other.Number == m.marked {
				pair = append(pair, other)
			}
		}
		slices.SortFunc(pair, func(a, b past.Crossing) int { return a.Number - b.Number })
		m.marked = 0
		return m, frame.Wish{Past: pair}
	case pressed == "m" && c != nil:
		m.marked = c.Number
	default:
		m.at = min(max(m.at+frame.Steps(pressed), 0), max(len(m.lines(f.Now))-1, 0))
	}
	return m, frame.Wish{}
}

// Marks explain what is drawn.
func (Model) Marks() []frame.Mark {
	return []frame.Mark{
		{Glyph: "▁▄█", Means: "which part of the requests the new side had, from the first change to the end"},
		{Glyph: "–", Means: "done outside of a crossing"},
		{Glyph: "=", Means: "marked, to be seen beside another"},
	}
}

// Head is how many crossings there are.
func (m Model) Head(f frame.Frame, g *cells.Grid, x, end int) {
	x = g.Within(x, 0, end-x, "logbook", f.Theme.Label)
	said := fmt.Sprintf("%d crossings", len(m.book.Crossings))
	if len(m.book.Crossings) == 1 {
		said = "1 crossing"
	}
	if m.typed != "" {
		said = fmt.Sprintf("%d with %q", len(m.lines(f.Now)), m.typed)
	}
	g.Right(end-1, 0, cells.Cut(said, max(end-x-3, 0)), f.Theme.Ink)
}

// footRows are those below the list: what is usual, and what is to be said of the row at the cursor.
const footRows = 6

// Draw draws the list.
func (m Model) Draw(f frame.Frame, g *cells.Grid, top, bottom int) {
	t, now := f.Theme, f.Now.Local()
	list := m.lines(f.Now)
	switch {
	case m.err != "":
		g.Within(2, top+1, f.W-3, "the logbook cannot be read: "+m.err, t.Amber)
		return
	case !m.known:
		g.Within(2, top+1, f.W-3, "reading the logbook", t.Label)
		return
	case len(list) == 0 && m.typed != "":
		g.Within(2, top+1, f.W-3, "nothing is found", t.Label)
		return
	case len(list) == 0:
		g.Within(2, top+1, f.W-3, "nothing has been done yet", t.Label)
		return
	}
	at := min(m.at, len(list)-1)
	foot := footRows
	if bottom-top < 16 {
		foot = 0
	}
	y := top + 1
	rows := max(bottom-y-foot, 1)
	first := frame.Window(at, len(list), rows)
	for n := first; n < min(first+rows, len(list)); n++ {
		m.row(f, g, y, list[n], n == at, now)
		y++
	}
	if foot > 0 {
		frame.Hair(g, t, bottom-foot)
		m.foot(f, g, bottom-foot+1, list[at])
	}
}

// row draws a row.
func (m Model) row(f frame.Frame, g *cells.Grid, y int, l line, here bool, now time.Time) {
	t := f.Theme
	ink, label := t.Ink, t.Label
	if here {
		g.Text(0, y, "▸", t.Ink.In(true))
		ink = t.Ink.In(true)
	}
	x := g.Within(2, y, 16, words.Day(l.at(), now), label)
	x = 19
	if l.c == nil {
		by := "by " + l.act.By
		if l.act.By == engine.Self {
			by = "by itself"
		}
		text := "– " + l.act.What + ", " + by
		style := label
		if l.act.Outcome != "" {
			text += ": " + l.act.Outcome
		}
		if l.act.Failed {
			style = t.Amber
		}
		g.Within(x, y, f.W-x-1, text, style)
		return
	}
	c := *l.c
	if c.Number == m.marked {
		g.Text(17, y, "=", t.Amber.In(true))
	}
	g.Within(x, y, 22, words.Versions(c), ink)
	x += 24
	cellsOf := 12
	if f.W >= 130 {
		cellsOf = 20
	}
	if small := words.SmallTrack(c, cellsOf, f.Now); small != "" {
		g.Within(x, y, cellsOf, small, t.Side(c.Target))
	}
	x += cellsOf + 2
	stage, style := string(c.Stage), ink
	if c.Stage == crossing.RolledBack || c.Stage == crossing.CalledOff {
		style = t.Amber
	}
	g.Within(x, y, 12, stage, style)
	x += 13
	g.Within(x, y, 8, words.Clock(c.Lasted(f.Now)), ink)
	x += 9
	met, bad := words.Met(c), t.Label
	if c.Counted.Failed > 0 || c.Counted.Lost > 0 {
		bad = ink
	}
	if f.W-x > 50 {
		g.Within(x, y, 28, met, bad)
		x += 30
	}
	why := words.EndedWhy(c)
	if why == "" {
		why = words.Who(c)
	}
	g.Within(x, y, f.W-x-1, why, label)
}

// foot says what is usual, and what is to be said of a row.
func (m Model) foot(f frame.Frame, g *cells.Grid, y int, l line) {
	t, w := f.Theme, f.W-3
	if m.book.Unread != "" {
		g.Within(2, y, w, "the logbook is damaged: "+m.book.Unread, t.Amber)
		y++
	}
	if usual := words.PastUsual(m.usual); usual != "" {
		odd := ""
		if l.c != nil {
			odd = words.Odd(m.usual.Odd(*l.c))
		}
		x := g.Within(2, y, w, usual, t.Label)
		if odd != "" {
			g.Within(x, y, w-x+2, "; "+odd, t.Amber)
		}
		y++
	}
	if l.c == nil {
		for _, did := range l.act.Did {
			g.Within(2, y, w, did, t.Label)
			y++
		}
		return
	}
	c := *l.c
	var list []string
	head := fmt.Sprintf("crossing %d to %v, %s", c.Number, c.Target, words.Who(c))
	if c.Build != "" {
		head += ", build " + c.Build
	}
	if c.Commit != "" {
		head += ", commit " + c.Commit
	}
	list = append(list, head)
	if why := words.EndedWhy(c); why != "" {
		list = append(list, fmt.Sprintf("%s: %s", c.Stage, why))
	}
	var came []string
	for _, text := range []string{words.Met(c), words.Both(c.Both)} {
		if text != "" {
			came = append(came, text)
		}
	}
	list = append(list, strings.Join(came, " · "))
	for _, text := range list {
		if text != "" {
			g.Within(2, y, w, text, t.Ink)
			y++
		}
	}
}

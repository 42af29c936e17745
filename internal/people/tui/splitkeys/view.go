package splitkeys

import (
	"context"
	"fmt"

	"charm.land/bubbles/v2/key"

	"vaiven/internal/core/trial"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/plan/tryout"
	"vaiven/internal/words"
)

// Model is the page's state. It is a value.
type Model struct {
	report  tryout.Report
	err     string
	reading bool
	inForce string // the plan's key
	scroll  frame.Scroll
}

// New makes the page.
func New() frame.Page { return Model{} }

// page is the model with what it draws.
type page struct {
	Model
	frame.Frame
}

// tried is what the tryout found.
type tried struct {
	report  tryout.Report
	inForce string
	err     error
}

// Open reads the log.
func (m Model) Open(frame.Frame) (frame.Page, frame.Wish) {
	m.reading, m.err = true, ""
	return m, frame.Wish{Read: func(ctx context.Context, c keeper.Client) any {
		report, inForce, err := c.Tryout(ctx)
		return tried{report, inForce, err}
	}}
}

// Take takes what was found, or why nothing was.
func (m Model) Take(answer any) frame.Page {
	a, ok := answer.(tried)
	if !ok {
		return m
	}
	m.reading, m.report, m.inForce, m.err = false, a.report, a.inForce, ""
	if a.err != nil {
		m.err = a.err.Error()
	}
	return m
}

// Keys scroll, and read again.
func (m Model) Keys(frame.Frame) []key.Binding {
	return []key.Binding{frame.Bind("k", "read again", "k"),
		frame.Bind("↑ ↓", "scroll", "up", "down", "pgup", "pgdown")}
}

// Press scrolls, or reads again.
func (m Model) Press(f frame.Frame, pressed string) (frame.Page, frame.Wish) {
	if pressed == "k" {
		return m.Open(f)
	}
	m.scroll = m.scroll.Press(pressed)
	return m, frame.Wish{}
}

// Marks explain the table.
func (m Model) Marks() []frame.Mark {
	return []frame.Mark{
		{Glyph: "●", Means: "the key that the plan splits by"},
		{Glyph: "asked, on green", Means: "the share that was asked for, and the one that the log would have had"},
		{Glyph: "▲", Means: "off by more than 2 points"}, {Glyph: "split", Means: "clients that would have met both " +
			"sides at one share"}, {Glyph: "change next", Means: "clients that change sides with the next share"},
		{Glyph: "▁▃▆", Means: "the share on green, window by window"},
	}
}

// The columns, from the left; the windows take what is left.
const (
	colKey    = 1
	colShare  = 20
	colSeen   = 30
	colSpread = 42
	colSplit  = 56
	colChange = 72
	colEven   = 88
	colTrace  = 100
)

// Head is over how many requests the keys were tried.
func (m Model) Head(f frame.Frame, g *cells.Grid, x, end int) {
	x = g.Within(x, 0, end-x, "split keys", f.Theme.Label)
	said := ""
	switch {
	case m.reading && len(m.report.Keys) > 0:
		said = "reading the log again ..."
	case len(m.report.Keys) > 0:
		said = fmt.Sprintf("%s requests in %s", words.Thousands(m.report.Lines), words.Age(m.report.Keys[0].Span))
	}
	g.Right(end-1, 0, cells.Cut(said, max(end-x-3, 0)), f.Theme.Ink)
}

// Draw draws the table.
func (m Model) Draw(f frame.Frame, g *cells.Grid, top, bottom int) {
	p, t := page{m, f}, f.Theme
	switch {
	case m.err != "":
		for n, line := range frame.Wrap(m.err, f.W-4) {
			g.Text(2, top+1+n, line, t.Amber)
		}
	case len(m.report.Keys) == 0:
		g.Within(2, top+1, f.W-3, map[bool]string{true: "reading the log ...", false: "nothing read yet"}[m.reading],
			t.Label)
	default:
		p.heads(g, top)
		p.rows(g, top+1, bottom)
	}
}

func (m page) wide() bool { return m.W >= colTrace+16 }

func (m page) heads(g *cells.Grid, y int) {
	l := m.Theme.Label
	g.Text(colKey, y, "key", l)
	g.Text(colShare, y, "asked", l)
	g.Text(colSeen, y, "on green", l)
	if m.W < colEven {
		return
	}
	g.Text(colSpread, y, "spread", l)
	g.Text(colSplit, y, "split", l)
	g.Text(colChange, y, "change next", l)
	if m.wide() {
		g.Text(colEven, y, "even after", l)
		g.Text(colTrace, y, fmt.Sprintf("window by window, %s each", words.Age(m.report.Keys[0].Window)), l)
	}
}

// rows draws a block for each key: a row for each share, and one about its clients.
func (m page) rows(g *cells.Grid, top, bottom int) {
	t := m.Theme
	y := top - int(m.scroll)
	visible := func() bool { return y >= top && y < bottom }
	for _, k := range m.report.Keys {
		for n, s := range k.Shares {
			if n == 0 && visible() {
				style := t.Ink.In(true)
				name := k.Key
				if k.Key == m.inForce {
					name = "● " + name
				}
				g.Within(colKey, y, colShare-colKey-1, name, style)
			}
			if visible() {
				m.row(g, y, s)
			}
			y++
		}
		if visible() {
			g.Within(colKey+2, y, m.W-4, m.clients(k), t.Label)
		}
		y += 2
	}
}

func (m page) clients(k tryout.KeyReport) string {
	text := words.Thousands(k.Clients) + " clients"
	if k.Clients == 1 {
		text = "1 client"
	}
	if k.Error > 0 {
		text += fmt.Sprintf(" ±%s by sampling", words.Thousands(int64(k.Error)))
	}
	if k.Astray > 0 {
		text += fmt.Sprintf("; %s at times far from all others", words.Thousands(k.Astray))
	}
	if k.Missing > 0 {
		text += fmt.Sprintf("; %s requests lack it and go by their client", words.Thousands(k.Missing))
	}
	if k.Key == m.inForce {
		text += "; the plan's key"
	}
	return text
}

func (m page) row(g *cells.Grid, y int, s trial.ShareResult) {
	t := m.Theme
	g.Text(colShare, y, s.Share.String(), t.Label)
	seen, mark := t.Ink, ""
	if off := s.Achieved - s.Share.Fraction(); off > 0.02 || off < -0.02 {
		seen, mark = t.Amber.In(true), "▲ "
	}
	g.Text(colSeen, y, mark+fmt.Sprintf("%.2f %%", 100*s.Achieved), seen)
	if m.W < colEven {
		if s.Bursts > 0 {
			g.Within(colSpread, y, m.W-colSpread-1, "in bursts of "+words.Age(s.Bursts), t.Amber.In(true))
		}
		return
	}
	g.Text(colSpread, y, fmt.Sprintf("±%.1f", 100*s.Spread), t.Ink)
	g.Within(colSplit, y, colChange-colSplit-1, frame.About(s.Split, s.SplitError), t.Ink)
	g.Within(colChange, y, colEven-colChange-1, frame.About(s.Change, s.ChangeError), t.Ink)
	if !m.wide() {
		return
	}
	even := "never"
	if s.Even >= 0 {
		even = words.Age(s.Even)
	}
	g.Text(colEven, y, even, t.Ink)
	room := m.W - colTrace - 2
	label := ""
	if s.Bursts > 0 {
		label = "in bursts of " + words.Age(s.Bursts)
		room -= cells.Width(label) + 2
	}
	m.trace(g, y, room, s)
	if label != "" {
		g.Right(m.W-1, y, label, t.Amber.In(true))
	}
}

// trace draws the windows as blocks, in the colour between blue and green that each has.
func (m page) trace(g *cells.Grid, y, room int, s trial.ShareResult) {
	sparks := []rune(frame.Sparks(s.Windows, room))
	for n, r := range sparks {
		at := s.Windows[min(n*len(s.Windows)/len(sparks), len(s.Windows)-1)]
		g.Set(colTrace+n, y, r, m.Theme.Share(max(at, 0)))
	}
}

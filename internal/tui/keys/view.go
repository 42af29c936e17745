package keys

import (
	"fmt"

	"vaiven/internal/core/trial"
	"vaiven/internal/tryout"
	"vaiven/internal/tui/cells"
	"vaiven/internal/tui/frame"
)

// Model is the view's state. It is a value.
type Model struct {
	frame.Frame

	report  tryout.Report
	err     string
	reading bool
	inForce string // the plan's key
	scroll  int    // rows above the first one
}

// In is the view within a frame.
func (m Model) In(f frame.Frame) Model {
	m.Frame = f
	return m
}

// Reading says that the log is being read.
func (m Model) Reading() Model {
	m.reading, m.err = true, ""
	return m
}

// SetReport takes what was found, or why nothing was.
func (m Model) SetReport(r tryout.Report, inForce string, err error) Model {
	m.reading, m.report, m.inForce, m.err = false, r, inForce, ""
	if err != nil {
		m.err = err.Error()
	}
	return m
}

// Scroll moves the rows.
func (m Model) Scroll(rows int) Model {
	m.scroll = max(m.scroll+rows, 0)
	return m
}

// The columns, from the left; the windows take what is left.
const (
	colKey    = 1
	colShare  = 20
	colSeen   = 30
	colSpread = 42
	colSplit  = 56
	colChange = 68
	colEven   = 82
	colTrace  = 94
)

// View draws the whole screen.
func (m Model) View() string {
	g := cells.New(m.W, m.H)
	t := m.Theme
	x := g.Text(1, 0, "vaiven", t.Label)
	x = g.Text(x+2, 0, m.S.Service, t.Ink.In(true))
	x = g.Text(x+1, 0, "split keys", t.Label)
	bottom := m.Page(g)
	switch {
	case m.err != "":
		for n, line := range frame.Wrap(m.err, m.W-4) {
			g.Text(2, 3+n, line, t.Amber)
		}
		return g.String()
	case len(m.report.Keys) == 0:
		g.Text(2, 3, map[bool]string{true: "reading the log ...", false: "nothing read yet"}[m.reading], t.Label)
		return g.String()
	}
	first := m.report.Keys[0]
	said := fmt.Sprintf("%s requests in %s", frame.Thousands(m.report.Lines), frame.Age(first.Span))
	if m.reading {
		said = "reading the log again ..."
	}
	g.Right(m.W-1, 0, cells.Cut(said, max(m.W-x-3, 0)), t.Ink)
	m.heads(g, 2)
	m.rows(g, 3, bottom)
	return g.String()
}

func (m Model) wide() bool { return m.W >= colTrace+16 }

func (m Model) heads(g *cells.Grid, y int) {
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
		g.Text(colTrace, y, fmt.Sprintf("window by window, %s each", frame.Age(m.report.Keys[0].Window)), l)
	}
}

// rows draws a block for each key: a row for each share, and one about its clients.
func (m Model) rows(g *cells.Grid, top, bottom int) {
	t := m.Theme
	y := top - m.scroll
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

func (m Model) clients(k tryout.KeyReport) string {
	text := frame.Thousands(k.Clients) + " clients"
	if k.Clients == 1 {
		text = "1 client"
	}
	if k.Error > 0 {
		text += fmt.Sprintf(", ±%.1f %% by sampling", 100*k.Error)
	}
	if k.Missing > 0 {
		text += fmt.Sprintf("; %s requests lack it and go by their client", frame.Thousands(k.Missing))
	}
	if k.Key == m.inForce {
		text += "; the plan's key"
	}
	return text
}

func (m Model) row(g *cells.Grid, y int, s trial.ShareResult) {
	t := m.Theme
	g.Text(colShare, y, s.Share.String(), t.Label)
	seen := t.Ink
	if off := s.Achieved - s.Share.Fraction(); off > 0.02 || off < -0.02 {
		seen = t.Amber.In(true)
	}
	g.Text(colSeen, y, fmt.Sprintf("%.2f %%", 100*s.Achieved), seen)
	if m.W < colEven {
		if s.Bursts > 0 {
			g.Within(colSpread, y, m.W-colSpread-1, "in bursts of "+frame.Age(s.Bursts), t.Amber.In(true))
		}
		return
	}
	g.Text(colSpread, y, fmt.Sprintf("±%.1f", 100*s.Spread), t.Ink)
	g.Text(colSplit, y, frame.Thousands(s.Split), t.Ink)
	g.Text(colChange, y, frame.Thousands(s.Change), t.Ink)
	if !m.wide() {
		return
	}
	even := "never"
	if s.Even >= 0 {
		even = frame.Age(s.Even)
	}
	g.Text(colEven, y, even, t.Ink)
	room := m.W - colTrace - 2
	label := ""
	if s.Bursts > 0 {
		label = "in bursts of " + frame.Age(s.Bursts)
		room -= cells.Width(label) + 2
	}
	m.trace(g, y, room, s)
	if label != "" {
		g.Right(m.W-1, y, label, t.Amber.In(true))
	}
}

// trace draws the windows as blocks, in the colour between blue and green that each has.
func (m Model) trace(g *cells.Grid, y, room int, s trial.ShareResult) {
	sparks := []rune(frame.Sparks(s.Windows, room))
	for n, r := range sparks {
		at := s.Windows[min(n*len(s.Windows)/len(sparks), len(s.Windows)-1)]
		g.Set(colTrace+n, y, r, m.Theme.Share(max(at, 0)))
	}
}

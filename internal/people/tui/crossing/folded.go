package crossing

import (
	"fmt"
	"strings"

	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/words"
)

// folded draws the page where there is little room: each side on a line.
func (p page) folded(top, bottom int) {
	if p.H >= 12 {
		bottom = p.door(bottom-1, 1)
	}
	if p.H >= 20 {
		bottom -= foldedRows + 1
		p.guardsFolded(bottom)
		bottom--
		frame.Hair(p.g, p.Theme, bottom)
	}
	p.sideLines(top)
	p.track(1, top+2, p.W-1, bottom)
}

// column is a text of both sides' lines; those that matter least are left out first.
type column struct {
	text  [2]string
	style [2]cells.Style
	right bool // aligned
	rank  int  // the lower, the more it matters
}

// sideLines are both sides, a line each, with what is compared below each other.
func (p page) sideLines(y int) {
	t := p.Theme
	var list [8]column
	for _, side := range split.Sides {
		v, f := p.S.Sides[side], p.figures(side)
		say := func(n, rank int, right bool, text string, style cells.Style) {
			list[n].text[side], list[n].style[side], list[n].rank, list[n].right = text, style, rank, right
		}
		figure := func(n, rank int, label string, f figure) {
			text, style := f.text, f.style
			if f.ghost != "" {
				text, style = "→ "+f.ghost, t.Amber
			}
			say(n, rank, true, label+text, style)
		}
		say(0, 0, false, upper(side), t.Side(side).In(true))
		say(1, 2, false, cells.CutLeft(v.Version, min(max(p.W/5, 8), 24)), t.Ink.In(true))
		figure(2, 1, "", f[requests])
		figure(3, 3, "fails ", f[failing])
		figure(4, 6, "p99 ", f[slowest])
		healthy, style := p.aged(fmt.Sprintf("%d of %d up", v.Healthy, max(v.Wanted, len(v.Instances))), v.At, v.Every,
			t.Ink)
		say(5, 4, true, healthy, style)
		dots := ""
		const most = 8
		for _, c := range v.Instances[:min(len(v.Instances), most)] {
			dot, _, _ := p.dot(c, side)
			dots += string(dot)
		}
		if more := len(v.Instances) - most; more > 0 {
			dots += fmt.Sprintf("+%d", more)
		}
		say(6, 7, false, dots, t.Side(side))
		say(7, 5, true, p.role(side), t.Label)
	}
	for _, side := range split.Sides {
		p.g.Set(1, y+int(side), '▌', t.Side(side))
	}
	drawColumns(p.g, 2, y, p.W-1, list[:])
}

// drawColumns draws two lines' columns between two columns of the screen, as many as fit.
func drawColumns(g *cells.Grid, x, y, end int, list []column) {
	const gap = 2
	width := func(c column) int { return max(cells.Width(c.text[0]), cells.Width(c.text[1])) }
	keep := make([]bool, len(list))
	left := end - x
	for rank := range len(list) {
		for n, c := range list {
			if c.rank != rank || width(c) == 0 {
				continue
			}
			if w := width(c); left >= w {
				keep[n] = true
				left -= w + gap
			}
		}
	}
	for n, c := range list {
		if !keep[n] {
			continue
		}
		w := width(c)
		for row := range c.text {
			if c.right {
				g.Right(x+w, y+row, c.text[row], c.style[row])
			} else {
				g.Text(x, y+row, c.text[row], c.style[row])
			}
		}
		x += w + gap
	}
}

const foldedRows = 4 // of guards

// guardsFolded draws guards and way back on one line each.
func (p page) guardsFolded(y int) {
	g, t := p.g, p.Theme
	if p.raising() {
		p.raise(1, y, p.W-1, foldedRows-1)
		p.wayBackFolded(y + foldedRows)
		return
	}
	list, rest := p.gravest(foldedRows)
	values := p.W >= 60
	for n, status := range list {
		row := y + n
		mark, style := p.guardMark(status)
		g.Set(1, row, mark, style)
		x := g.Within(3, row, 16, status.Name, t.Ink)
		x = max(x+1, min(20, p.W/3))
		if values {
			v := p.guardValues(status)
			g.Right(27, row, v[split.Blue], p.ifFresh(t.Side(split.Blue)))
			g.Right(35, row, v[split.Green], p.ifFresh(t.Side(split.Green)))
			x = 37
		}
		g.Within(x, row, p.W-1-x, p.guardWords(status), style)
	}
	if rest != "" {
		g.Within(1, y+foldedRows-1, p.W-2, rest, t.Label)
	}
	p.wayBackFolded(y + foldedRows)
}

// wayBackFolded draws the way back on one line, or what helps.
func (p page) wayBackFolded(row int) {
	g, t := p.g, p.Theme
	if list := p.S.WaysOut; len(list) > 0 {
		x := g.Text(1, row, "▲ what helps", t.Red.In(true)) + 2
		g.Within(x, row, p.W-x-1, strings.TrimSpace(wayKeys[list[0].Do]+" "+words.WayOut(list[0], p.S.Crossing.Target)),
			t.Ink.In(true))
		return
	}
	x := g.Text(1, row, "way back", t.Label) + 2
	word, style := p.wayBackWord()
	x = g.Within(x, row, p.W-1-x, word, style) + 2
	text := words.WayBack(p.S.WayBack, p.Now)
	if list := p.S.WayBack.Conditions; text == "" && len(list) > 0 {
		name, said := words.Condition(list[0], p.Now)
		text = name + " " + said
		for _, c := range list {
			if front, is := c.Is.(wayback.Front); is {
				text += ", rollback " + words.Takes(front.Takes)
			}
		}
	}
	g.Within(x, row, p.W-x-1, text, t.Label)
}

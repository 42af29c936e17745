package beside

import (
	"fmt"
	"time"

	"vaiven/internal/core/engine"
	"vaiven/internal/core/past"
	"vaiven/internal/core/split"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/theme"
	"vaiven/internal/words"
)

// Track is one of the two.
type Track struct {
	Crossing past.Crossing
	Points   []engine.Point // oldest first
	To       time.Time      // until when it was seen
}

// Begun is when its shift began: its first change, or where there was none its beginning.
func (t Track) Begun() time.Time {
	if s := t.Crossing.Steps; len(s) > 1 {
		return s[1].Asked
	}
	return t.Crossing.Begun
}

// steps are what a row may stand for.
var steps = []time.Duration{time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 15 * time.Second,
	30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 30 * time.Minute, time.Hour}

// Draw draws both between two rows, with a mark at the time after the first change that is looked at.
func Draw(g *cells.Grid, t theme.Theme, two [2]Track, at time.Duration, top, bottom int) {
	w, _ := g.Size()
	const clock = 8
	half := (w - clock) / 2
	rows := bottom - top - 3
	if half < 24 || rows < 3 {
		g.Within(1, top, w-2, "too little room for two crossings", t.Amber)
		return
	}
	longest := time.Second
	for _, track := range two {
		longest = max(longest, track.To.Sub(track.Begun()))
	}
	each := steps[len(steps)-1]
	for _, s := range steps {
		if s*time.Duration(rows) >= longest {
			each = s
			break
		}
	}
	for row := range rows {
		from := each * time.Duration(row)
		y := top + 3 + row
		style, mark := t.Label, " "
		if at >= from && at < from+each {
			style, mark = t.Ink.In(true), "▸"
		}
		g.Text(half, y, mark, style)
		g.Within(half+1, y, clock-1, words.Clock(from), style)
	}
	for n, track := range two {
		track.draw(g, t, n*(half+clock), half-1, top, rows, each)
	}
}

// draw draws one of them into columns from x on.
func (k Track) draw(g *cells.Grid, t theme.Theme, x, width, top, rows int, each time.Duration) {
	c := k.Crossing
	g.Within(x+1, top, width-1, fmt.Sprintf("crossing %d  %s  %s", c.Number, words.Versions(c), c.Stage), t.Side(c.Target).In(true))
	left, right := x+2, x+width-16
	column := func(part float64) int { return left + int(part*float64(right-left)+0.5) }
	for _, part := range []split.Share{0, 25, 50, 75, 100} {
		text := fmt.Sprint(int(part))
		g.Text(column(float64(part)/100)-cells.Width(text)/2, top+2, text, t.Label)
	}
	met := words.Met(c)
	g.Within(x+1, top+1, width-1, met, t.Label)
	n := 0
	for row := range rows {
		y := top + 3 + row
		from := k.Begun().Add(each * time.Duration(row))
		to := from.Add(each)
		for _, part := range []float64{0, 1} {
			g.Set(column(part), y, '▏', t.Hair)
		}
		if from.After(k.To) {
			continue
		}
		for n < len(k.Points) && k.Points[n].At.Before(from) {
			n++
		}
		var got, all, failed int64
		for ; n < len(k.Points) && k.Points[n].At.Before(to); n++ {
			p := k.Points[n]
			of, bad := p.Of(c.Target)
			got, all, failed = got+of, all+p.All, failed+bad
		}
		g.Set(column(k.partAt(to).Fraction()), y, '│', t.Label)
		if all > 0 {
			seen := float64(got) / float64(all)
			green := seen
			if c.Target == split.Blue {
				green = 1 - seen
			}
			g.Set(column(seen), y, '●', t.Share(green))
		}
		if failed > 0 {
			g.Within(right+2, y, 13, words.Thousands(failed)+" failed", t.Amber)
		}
	}
}

// partAt is the part on the side crossed to just before a time.
func (k Track) partAt(t time.Time) split.Share {
	part := split.Share(0)
	for _, s := range k.Crossing.Steps {
		if s.At.Before(t) {
			part = s.Part
		}
	}
	return part
}

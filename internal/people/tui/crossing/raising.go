package crossing

import (
	"fmt"
	"slices"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/reading"
	"vaiven/internal/words"
)

// raising reports whether a raise is under way or has failed, so that what it waits for is more than what guards say.
func (p page) raising() bool {
	c := p.S.Crossing
	side := p.S.Sides[c.Target]
	return c.Stage == crossing.Raising && len(side.Instances) > 0 &&
		(side.Healthy < max(len(side.Instances), side.Wanted) || oneof.IsA[crossing.AskRaise](c.Question))
}

// raise draws between two columns what a raise waits for, by instance, in so many rows below its head: what each says,
// and the last that it wrote.
func (p page) raise(x, y, end, rows int) {
	g, t, c := p.g, p.Theme, p.S.Crossing
	at := g.Text(x, y, "raise", t.Label) + 2
	at = g.Within(at, y, end-at, words.Raise(p.S.View), t.Ink) + 2
	if oneof.IsA[crossing.AskRaise](c.Question) && end-at > 20 {
		g.Within(at, y, end-at, "a: "+words.RaiseAgain(p.S.View), t.Label)
	}
	list := slices.Clone(p.S.Sides[c.Target].Instances)
	slices.SortStableFunc(list, func(a, b reading.Condition) int { return worse(b) - worse(a) })
	for n, i := range list {
		if n == rows-1 && len(list) > rows {
			g.Within(x, y+1+n, end-x, fmt.Sprintf("+%d more", len(list)-n), t.Label)
			return
		}
		if n >= rows {
			return
		}
		row := y + 1 + n
		dot, style, said := p.dot(i, c.Target)
		g.Set(x, row, dot, style)
		at := g.Within(x+2, row, 18, i.Name, t.Ink)
		at = max(at+1, x+20)
		if i.State == reading.Healthy {
			g.Within(at, row, end-at, "healthy", t.Label)
			continue
		}
		at = g.Within(at, row, min(22, end-at), said, style) + 2
		text := i.Said
		if len(i.Output) > 0 {
			if text != "" {
				text += "; "
			}
			text += fmt.Sprintf("wrote %q", i.Output[len(i.Output)-1])
		}
		g.Within(at, row, end-at, text, t.Ink)
	}
}

// worse ranks instances: what has ended first, what is healthy last.
func worse(c reading.Condition) int {
	return map[reading.Health]int{reading.Exited: 4, reading.Failing: 3, reading.Starting: 2,
		reading.Answering: 1}[c.State]
}

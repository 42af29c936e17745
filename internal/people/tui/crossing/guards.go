package crossing

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/core/wayout"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/words"
)

// guards draws the guards as a table: blue's figure left, green's right.
func (p page) guards(y int) {
	if p.raising() {
		p.raise(3, y, p.W-46, p.guardRows())
		return
	}
	g, t := p.g, p.Theme
	const name, blue, green, limit = 5, 35, 44, 47
	title := "guards"
	if p.S.Crossing.Stage.Over() {
		title = "guards at the end"
	}
	g.Text(3, y, title, t.Label)
	heads := [2]string{"blue", "green"}
	if slices.ContainsFunc(p.S.Guards, func(s guard.Status) bool { return s.Control }) {
		heads[p.S.Crossing.Target.Other()] = "control" // that is what guards compare with
	}
	g.Right(blue, y, heads[split.Blue], t.Label)
	g.Right(green, y, heads[split.Green], t.Label)
	rows := p.guardRows()
	list, rest := p.gravest(rows)
	wide := limit
	for _, status := range list {
		wide = max(wide, limit+cells.Width(words.Limit(status))+2)
	}
	wide = min(wide, limit+28)
	end := p.W - 46
	for n, status := range list {
		row := y + 1 + n
		mark, style := p.guardMark(status)
		g.Set(3, row, mark, style)
		g.Within(name, row, blue-name-8, status.Name, t.Ink)
		values := p.guardValues(status)
		g.Right(blue, row, values[split.Blue], p.ifFresh(t.Side(split.Blue)))
		g.Right(green, row, values[split.Green], p.ifFresh(t.Side(split.Green)))
		said := p.guardWords(status)
		x := wide
		if x+cells.Width(said) > end { // what it does can be looked up in the plan, how it stands cannot
			x = limit
		} else {
			g.Within(limit, row, x-limit-2, words.Limit(status), t.Label)
		}
		at := g.Within(x, row, end-x, said, style)
		if end-at > 10 {
			above := t.Red
			if p.S.Crossing.Stage.Over() {
				above = t.Label
			}
			frame.Spark(g, end-8, row, 8, status.Sureness, 1, style, above)
		}
	}
	if rest != "" {
		g.Within(3, y+rows, end-3, rest, t.Label)
	}
}

// guardRows is how many rows there are for guards beside the way back, which needs the least
// of them.
func (p page) guardRows() int {
	return min(max(min(len(p.S.Guards), 5), len(p.S.WayBack.Conditions), 4), 6)
}

// gravest are the guards that have room in so many rows, in the plan's order, or the gravest
// of them and how the rest stands.
func (p page) gravest(rows int) (list []guard.Status, rest string) {
	list = p.S.Guards
	if len(list) <= rows {
		return list, ""
	}
	gravity := []guard.State{guard.Tripped, guard.Watching, guard.Unknown, guard.Clear, guard.Idle, guard.Off}
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b guard.Status) int {
		return slices.Index(gravity, a.State) - slices.Index(gravity, b.State)
	})
	list, others := list[:rows-1], list[rows-1:]
	rest = fmt.Sprintf("+%d more:", len(others))
	names := map[guard.State]string{guard.Tripped: "worse", guard.Watching: "watching", guard.Unknown: "without data",
		guard.Clear: "clear", guard.Idle: "idle", guard.Off: "off"}
	for _, state := range gravity {
		n := 0
		for _, s := range others {
			if s.State == state {
				n++
			}
		}
		if n > 0 {
			rest += fmt.Sprintf(" %d %s,", n, names[state])
		}
	}
	return list, strings.TrimSuffix(rest, ",")
}

// guardMark is how a guard stands, as a glyph and its style.
func (p page) guardMark(s guard.Status) (rune, cells.Style) {
	t := p.Theme
	if p.guardStale(s) {
		return '○', t.Label
	}
	switch s.State {
	case guard.Idle, guard.Off:
		return '·', t.Label
	case guard.Watching:
		if s.Sure < 0.5 {
			return '◐', p.ifFresh(t.Ink)
		}
		return '◐', p.ifFresh(t.Amber)
	case guard.Unknown:
		return '○', t.Label
	case guard.Tripped:
		if p.S.Crossing.Stage.Over() { // it was so
			return '▲', t.Label
		}
		return '▲', t.Red.In(true)
	}
	return '●', p.ifFresh(t.Ink)
}

// guardStale reports whether what a guard says follows from readings that are too old.
func (p page) guardStale(s guard.Status) bool {
	if s.State == guard.Idle || s.State == guard.Off || s.State == guard.Tripped {
		return false
	}
	return !p.S.Front.At.IsZero() && !p.S.Front.Fresh(p.Now)
}

// guardWords is how a guard stands; what was read too long ago says nothing of now.
func (p page) guardWords(s guard.Status) string {
	if p.guardStale(s) {
		return fmt.Sprintf("not known: front not read for %s",
			route.Short(p.Now.Sub(p.S.Front.At).Truncate(time.Second)))
	}
	text := words.Guard(s)
	if (s.From != plan.FromPages || s.Watch == plan.Alert) && !s.Told.IsZero() && s.State != guard.Unknown {
		text += ", " + route.Short(max(p.Now.Sub(s.Told), 0).Truncate(time.Second)) + " old"
	}
	return text
}

// guardValues are a guard's figures by side.
func (p page) guardValues(g guard.Status) [2]string {
	var v [2]string
	if g.State == guard.Idle || g.State == guard.Off {
		return v
	}
	target := p.S.Crossing.Target
	if g.Watch.Figures() && g.Watch != plan.Rate {
		if g.Watch != plan.Fewer && g.Gap != guard.NotRead && g.Gap != guard.NotTold {
			v[target], v[target.Other()] = words.Measure(g.Watch, g.Figure, g.Value),
				words.Measure(g.Watch, g.Figure, g.Beside)
		}
		if g.Watch == plan.Bound { // it is held against that alone
			v[target.Other()] = ""
		}
		return v
	}
	if !g.Watch.Compares() && g.Watch != plan.Rate {
		v[target] = fmt.Sprint(g.Trial.Bad)
		return v
	}
	v[target], v[target.Other()] = "—", "—"
	if g.Trial.Of > 0 {
		v[target] = frame.Percent(g.Trial.Rate())
	}
	if g.Baseline.Of > 0 {
		v[target.Other()] = frame.Percent(g.Baseline.Rate())
	}
	return v
}

// waysOut draws what helps where a side that gets requests is ill, with the keys that do it.
func (p page) waysOut(y, x int) {
	g, t := p.g, p.Theme
	best, certain := wayout.Best(p.S.WaysOut)
	title := "▲ what helps"
	if !certain {
		title = "▲ what can be done; nothing helps for certain yet"
	}
	g.Text(x, y, title, t.Red.In(true))
	for n, w := range p.S.WaysOut {
		style := t.Ink
		if certain && w.Do == best.Do {
			style = t.Ink.In(true)
		}
		g.Text(x, y+1+n, wayKeys[w.Do], t.Label)
		do, fail := words.Way(w, p.S.Crossing.Target)
		g.Text(x+9, y+1+n, do, style)
		g.Right(p.W-2, y+1+n, fail, style)
	}
}

// wayKeys are the keys of each way out.
var wayKeys = map[wayout.Do]string{wayout.Forward: "f enter", wayout.Hold: "", wayout.Home: "b b"}

// wayBack draws the judgement on a rollback, or what helps where that is the question.
func (p page) wayBack(y, x int) {
	if len(p.S.WaysOut) > 0 {
		p.waysOut(y, x)
		return
	}
	g, t, r := p.g, p.Theme, p.S.WayBack
	at := g.Text(x, y, "way back", t.Label) + 2
	word, style := p.wayBackWord()
	g.Within(at, y, p.W-1-at, word, style)
	list := r.Conditions
	if rows := p.guardRows(); len(list) > rows { // what is as it should be gives way
		rank := map[wayback.State]int{wayback.Closed: 0, wayback.Narrow: 1, wayback.Open: 2}
		list = slices.Clone(list)
		slices.SortStableFunc(list, func(a, b wayback.Condition) int { return rank[a.State] - rank[b.State] })
		list = list[:rows]
	}
	for n, c := range list {
		name, text := words.Condition(c, p.Now)
		mark, style := p.conditionMark(c)
		g.Set(x, y+1+n, mark, style)
		g.Within(x+2, y+1+n, 18, name, t.Label)
		g.Within(x+21, y+1+n, p.W-x-22, text, style)
	}
}

func (p page) wayBackWord() (string, cells.Style) {
	r, c := p.S.WayBack, p.S.Crossing
	if r.State == "" {
		text := "nothing to roll back from"
		if c.First && c.Stage.UnderWay() {
			text = "none: nothing was live before"
		}
		return text, p.Theme.Label
	}
	mark, _ := p.stateMark(r.State)
	style := p.Theme.Side(split.Green).In(true)
	if age := p.Now.Sub(p.S.At); age > situation.UnheardFor { // nobody has judged it since
		return fmt.Sprintf("○ was %s %s ago", r.State, route.Short(age.Truncate(time.Second))), p.Theme.Label
	}
	switch r.State {
	case wayback.Narrow:
		style = p.Theme.Amber.In(true)
	case wayback.Closed:
		style = p.Theme.Red.In(true)
	}
	return string(mark) + " " + strings.ToUpper(string(r.State)), style
}

// conditionMark is how a condition of the way back is, as a glyph and its style.
func (p page) conditionMark(c wayback.Condition) (rune, cells.Style) {
	if c.State == wayback.Open && !c.Known() {
		return '○', p.Theme.Label
	}
	return p.stateMark(c.State)
}

// stateMark is the same of what is known.
func (p page) stateMark(s wayback.State) (rune, cells.Style) {
	switch s {
	case wayback.Narrow:
		return '▲', p.Theme.Amber
	case wayback.Closed:
		return '×', p.Theme.Red
	}
	return '●', p.Theme.Ink
}

package crossing

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/words"
)

// role is what a side is at the moment, and what it answers.
func (p page) role(side split.Side) string {
	if p.S.Front.At.IsZero() {
		return "not read yet"
	}
	stands := len(p.S.Sides[side].Instances) > 0
	r := p.S.Crossing.Role(side, p.S.Live, p.front(), stands)
	if !p.S.Front.Fresh(p.Now) {
		return words.Role(r, 0, false, true) + ", not read for " +
			route.Short(p.Now.Sub(p.S.Front.At).Truncate(time.Second))
	}
	text := words.Role(r, p.front().Of(side), true, !p.S.Front.Everywhere.After(p.Now))
	if stands && p.S.Sides[side].Out {
		text = "out of rotation, runs"
	}
	return text
}

// figure is one line of a side: what, how much, and what the ghost would make of
// it.
type figure struct {
	label string
	text  string
	style cells.Style
	ghost string
	worse string // by how much it is worse than on the live side
}

// The lines of a side's figures.
const (
	requests = iota
	failing
	median
	slowest
	load
	carries
	ofService // from here on: figures of the service, where guards watch some
)

func (p page) figures(side split.Side) []figure {
	t, v := p.Theme, p.S.Sides[side]
	if v.Queue != nil {
		return p.queue(*v.Queue, side)
	}
	f := v.Figures
	part, all := "—", "—"
	if v.Capacity > 0 && !f.To.IsZero() {
		part, all = frame.Percent(f.Rate/v.Capacity), frame.Percent(p.S.Traffic.Rate/v.Capacity)
	}
	list := []figure{
		requests: {label: "requests", text: frame.Rate(f.Rate)},
		failing:  {label: "failing", text: frame.Percent(f.FailingCount().Rate())},
		median:   {label: "p50", text: frame.Milliseconds(f.P50)},
		slowest:  {label: "p99", text: frame.Milliseconds(f.P99)},
		load:     {label: "load of capacity", text: part},
		carries:  {label: "at 100 % of traffic", text: all},
	}
	for i := range list {
		if f.To.IsZero() { // nothing was counted lately
			list[i].text, list[i].style = "—", t.Label
			continue
		}
		list[i].text, list[i].style = p.aged(list[i].text, p.S.Front.At, p.S.Front.Every, t.Ink)
		if f.Requests == 0 && i >= failing && i <= slowest || f.Timed == 0 && (i == median || i == slowest) {
			list[i].text, list[i].style = "—", t.Label // nothing was answered, or timed, so there is nothing to say
		}
	}
	if f.Probes > 0 && f.Span > 0 {
		list[requests].worse = "  +" + frame.Rate(float64(f.Probes)/f.Span.Seconds()) + " prober"
	}
	if f.Cut > 0 && f.Requests > 0 {
		list[failing].worse = "  " + frame.Percent(float64(f.Cut)/float64(f.Requests)) + " cut"
		list[failing].style = t.Amber
	}
	if other := p.S.Sides[side.Other()].Figures; f.Requests > 0 && other.Requests > 0 && side != p.S.Live {
		if more := f.P99 - other.P99; more > other.P99/4 && more.Milliseconds() >= 5 {
			list[slowest].worse = fmt.Sprintf("  ▲%d", more.Milliseconds())
			list[slowest].style = t.Amber
		}
	}
	if p.Moved && p.S.Traffic.Rate > 0 {
		o := p.S.Traffic.Look(p.Ghost)
		list[requests].ghost = frame.Rate(o.Rate[side])
		if o.Load[side] > 0 {
			list[load].ghost = frame.Percent(o.Load[side])
		}
	}
	return append(list, p.ofService(side)...)
}

// beside is the control group of the live side, as a line of it.
func (p page) beside(side split.Side) (list []figure) {
	b := p.S.Beside
	if b.Instances == 0 || side == p.S.Crossing.Target {
		return nil
	}
	text := frame.Rate(b.Figures.Rate)
	if b.Figures.Requests > 0 {
		text += " · " + frame.Percent(b.Figures.FailingCount().Rate()) + " failing"
	}
	f := figure{label: "control"}
	f.text, f.style = p.aged(text, p.S.Front.At, p.S.Front.Every, p.Theme.Ink)
	return []figure{f}
}

// ofService are the control group, and the service's own figures that guards watch, by instance on average.
func (p page) ofService(side split.Side) (list []figure) {
	list = p.beside(side)
	if kept := p.S.Sides[side].Kept; kept > 0 {
		text, style := p.aged(strconv.FormatInt(kept, 10), p.S.Front.At, p.S.Front.Every, p.Theme.Ink)
		list = append(list, figure{label: "sessions", text: text, style: style})
	}
	for _, s := range p.S.Guards {
		if text := p.guardValues(s)[side]; s.Watch.Figures() && text != "" {
			name := strings.TrimSuffix(s.Name, " "+string(s.Watch))
			list = append(list, figure{label: name, text: text, style: p.ifFresh(p.Theme.Ink)})
		}
	}
	return list
}

// queue is what a side's queue has, in place of requests: as many lines, the most telling where those of requests are
// that stay when there is little room.
func (p page) queue(q reading.Queue, side split.Side) []figure {
	t := p.Theme
	list := []figure{
		requests: {label: "in · out", text: frame.Rate(q.In) + " · " + frame.Rate(q.Out)},
		failing:  {label: "waiting · in progress", text: words.Thousands(q.Ready) + " · " + words.Thousands(q.Unacked)},
		median:   {label: "consumers", text: words.Thousands(int64(q.Consumers))},
		slowest:  {label: "oldest", text: "—"},
		load:     {label: "dead · redelivered", text: words.Thousands(q.Dead) + " · " + words.Thousands(q.Redelivered)},
		carries:  {label: "done", text: words.Thousands(q.Done)},
	}
	if q.Oldest > 0 {
		list[slowest].text = route.Short(q.Oldest.Round(100 * time.Millisecond))
	}
	for n := range list {
		list[n].text, list[n].style = p.aged(list[n].text, p.S.Front.At, p.S.Front.Every, t.Ink)
	}
	if q.Consumers == 0 && q.There() > 0 {
		list[median].style = t.Red
	}
	if p.Moved && p.S.Traffic.Rate > 0 {
		list[requests].ghost = frame.Rate(p.S.Traffic.Look(p.Ghost).Rate[side])
	}
	return append(list, p.ofService(side)...)
}

// rows are how many lines of each kind the sides have, the same on both.
type rows struct{ figures, facts, bad int }

// divide divides a side's rows: what matters least gives way.
func (p page) divide(room int) rows {
	const around = 6 // head, the line of the health checks, and what keeps them apart
	r := rows{figures: ofService + max(len(p.ofService(split.Blue)), len(p.ofService(split.Green))),
		facts: max(len(p.facts(split.Blue)), len(p.facts(split.Green)))}
	instances := 0
	for _, side := range split.Sides {
		instances = max(instances, len(p.S.Sides[side].Instances)+len(p.askedFor(side)))
		r.bad = max(r.bad, len(p.bad(side)))
	}
	spare := room - around - r.figures - r.facts - min(instances, 8)
	if spare < 0 {
		spare, r.figures = spare+r.figures-ofService, ofService
	}
	if r.bad = min(r.bad, spare-2); r.bad < 1 {
		r.bad = 0
	}
	if spare < 0 {
		r.figures = 4
		r.facts = min(r.facts, max(room-around-r.figures-min(instances, 3), 2))
	}
	return r
}

// sidePanel draws a side into a column; facts and bad answers stand at its foot, at the same
// height on both sides.
func (p page) sidePanel(side split.Side, x, y, width, bottom int, have rows) {
	g, t, v := p.g, p.Theme, p.S.Sides[side]
	end := x + width
	g.Set(x-2, y, '▌', t.Side(side))
	g.Set(x-2, y+1, '▌', t.Side(side))
	at := g.Text(x, y, upper(side), t.Side(side).In(true)) + 2
	version := v.Version
	if version == "" && len(v.Instances) > 0 {
		version = "version unknown"
	}
	g.Text(at, y, cells.CutLeft(version, end-at), t.Ink.In(true))
	g.Within(x, y+1, width, p.role(side), t.Label)
	y += 3
	list := p.figures(side)
	if have.figures < ofService {
		list = []figure{list[requests], list[failing], list[slowest], list[load]}
	}
	list = list[:min(len(list), have.figures)]
	for _, f := range list {
		right := end
		if f.ghost != "" {
			g.Right(right, y, "→ "+f.ghost, t.Amber)
			right -= cells.Width(f.ghost) + 3
		}
		text := f.text + f.worse
		g.Within(x, y, right-cells.Width(text)-x-1, f.label, t.Label)
		g.Right(right, y, text, f.style)
		y++
	}
	facts := p.facts(side)
	foot := bottom - have.facts
	for n, f := range facts[:min(len(facts), have.facts)] {
		label := g.Within(x, foot+n, 10, f.label, t.Label)
		g.Within(max(x+11, label+1), foot+n, width-11, f.text, f.style)
	}
	if have.bad > 0 {
		foot -= have.bad + 1
		bad := p.bad(side)
		for n, b := range bad[max(0, len(bad)-have.bad):] {
			at := g.Text(x, foot+n, b.At.Local().Format("15:04:05"), t.Label) + 1
			g.Within(at, foot+n, end-at, "▲ "+b.Why, t.Amber)
		}
		foot--
		title := "last bad answers"
		if len(bad) == 0 {
			title += ": none"
		}
		g.Within(x, foot, width, title, t.Label)
	}
	foot--
	y++
	healthy, style := p.aged(fmt.Sprintf("%d of %d healthy", v.Healthy, max(v.Wanted, len(v.Instances))), v.At, v.Every,
		t.Ink)
	g.Within(x, y, width-cells.Width(healthy)-1, "instances", t.Label)
	g.Right(end, y, healthy, style)
	p.instances(side, x, y+1, width, foot)
}

// instances draws as many instances as there are rows; of more, the gravest.
func (p page) instances(side split.Side, x, y, width, bottom int) {
	g, t, v := p.g, p.Theme, p.S.Sides[side]
	list, hidden := shown(v.Instances, bottom-y)
	served := map[string]figures.Served{}
	for _, s := range v.Served {
		served[s.Address] = s
	}
	names := p.askedFor(side)
	room := bottom - y - len(list) - len(names)
	if hidden > 0 {
		room--
	}
	for _, c := range list {
		s, counted := served[c.Address]
		p.instance(v, c, side, s, counted, x, y, width)
		y++
		if last := lastWords(c); last != "" && room > 0 {
			g.Within(x+2, y, width-2, last, t.Label)
			y++
			room--
		}
	}
	if hidden > 0 && y < bottom {
		ill := 0
		for _, c := range v.Instances {
			if c.State != reading.Healthy {
				ill++
			}
		}
		text := fmt.Sprintf("+%d more, all healthy", hidden)
		if ill > 0 {
			text = fmt.Sprintf("+%d more; %d of all %d not healthy", hidden, ill, len(v.Instances))
		}
		g.Within(x, y, width, text, t.Label)
		y++
	}
	for n, name := range names {
		if y >= bottom {
			break
		}
		if y == bottom-1 && n+1 < len(names) {
			g.Within(x, y, width, fmt.Sprintf("+%d more asked for", len(names)-n), t.Label)
			break
		}
		g.Set(x, y, '·', t.Label)
		g.Text(x+2, y, cells.CutLeft(name, width-13), t.Label)
		g.Right(x+width, y, "asked for", t.Label)
		y++
	}
}

// shown are the instances that have room: all of them in their order, or those that are not
// healthy first, and how many are hidden.
func shown(list []reading.Condition, room int) ([]reading.Condition, int) {
	if len(list) <= room {
		return list, 0
	}
	room = max(room-1, 0)
	var some []reading.Condition
	for _, healthy := range []bool{false, true} {
		for _, c := range list {
			if len(some) < room && (c.State == reading.Healthy) == healthy {
				some = append(some, c)
			}
		}
	}
	return some, len(list) - len(some)
}

// lastWords is what an instance that is not healthy last answered and printed, as far
// as its line does not say it.
func lastWords(c reading.Condition) string {
	var words []string
	if c.State == reading.Answering && c.Said != "" {
		words = append(words, c.Said)
	}
	if n := len(c.Output); n > 0 && c.State != reading.Healthy {
		words = append(words, c.Output[n-1])
	}
	return strings.Join(words, " · ")
}

// askedFor are the instances that a raise has asked for and that are not there yet.
func (p page) askedFor(side split.Side) []string {
	s := p.S.Crossing
	if s.Stage != crossing.Raising || side != s.Target || s.Question.ID != 0 {
		return nil
	}
	var names []string
	for n, part := range p.S.Parts {
		there := 0
		for _, c := range p.S.Sides[side].Instances {
			if c.Part == part.Name {
				there++
			}
		}
		for k := there; k < part.Wanted[side]; k++ {
			name := fmt.Sprintf("%v-%d", side, k+1)
			if n > 0 {
				name = fmt.Sprintf("%v-%s-%d", side, part.Name, k+1)
			}
			names = append(names, name)
		}
	}
	return names
}

// mostBad is how many bad answers of a side are shown.
const mostBad = 3

// bad are the last answers that came to nothing good: a side's own, and beside the target
// those of nobody.
func (p page) bad(side split.Side) []reading.Bad {
	var list []reading.Bad
	for _, b := range p.S.Door.Bad {
		if b.Side == side.String() || b.Side == "" && side == p.S.Crossing.Target {
			list = append(list, b)
		}
	}
	return list[max(0, len(list)-mostBad):]
}

// facts are the lines at a side's foot.
func (p page) facts(side split.Side) []figure {
	t, v, c := p.Theme, p.S.Sides[side], p.S.Crossing
	open := p.S.Proof.Open(c.Accepted)
	proof := figure{label: "proof", text: "none yet", style: t.Label}
	if results := p.S.Proof.Results; side == c.Target && len(results) > 0 {
		made := results[0].At
		for _, r := range results {
			if r.At.After(made) {
				made = r.At
			}
		}
		proof.text, proof.style = fmt.Sprintf("● %d of %d", p.S.Proof.Passing(), len(results)), t.Ink
		switch {
		case p.S.Proof.Pass():
		case len(open) == 0:
			proof.text = fmt.Sprintf("◆ %d of %d, accepted", p.S.Proof.Passing(), len(results))
		default:
			proof.text, proof.style = fmt.Sprintf("▲ %d of %d", p.S.Proof.Passing(), len(results)), t.Red
		}
		if !made.IsZero() {
			proof.text += ", " + route.Short(max(p.Now.Sub(made), 0).Truncate(time.Second)) + " ago"
		}
	} else if side == p.S.Live {
		proof.text = "serving"
	}
	build := figure{label: "build", text: v.Build, style: t.Ink}
	if len(v.Build) > 7 && !strings.Contains(v.Build, " ") {
		build.text = v.Build[:7]
	}
	if v.Build == "" {
		build.text, build.style = "—", t.Label
	}
	list := []figure{proof, build}
	if v.Stands {
		list = append(list, figure{label: "stands", text: "not Vaiven's to stop", style: t.Ink})
	}
	if next, ok := p.next(); ok && p.S.Traffic.Rate > 0 {
		o := p.S.Traffic.Look(next)
		at := figure{label: "at " + next.Of(c.Target).String(), text: frame.Rate(o.Rate[side]), style: t.Ink}
		if o.Load[side] > 0 {
			at.text += ", " + frame.Percent(o.Load[side]) + " load"
		}
		list = append(list, at)
		if found := p.found(next); side == c.Target && found.After > 0 {
			list = append(list, figure{label: "if bad",
				text: fmt.Sprintf("found ~%s, ~%.0f fail", found.After.Round(time.Second), found.Cost), style: t.Ink})
		}
	}
	if o := p.S.Overlap; !o.Since.IsZero() && side == p.S.Live.Other() {
		both := words.Clock(p.Now.Sub(o.Since))
		if o.Cost.Unit != "" {
			both += fmt.Sprintf(", %.4f %s", o.Cost.Amount, o.Cost.Unit)
		}
		list = append(list, figure{label: "both run", text: both, style: t.Ink})
	}
	if len(open) > 0 && side == c.Target {
		r := open[0]
		list = append(list, figure{label: "▲ failed", text: r.Check + " on " + r.Instance, style: t.Red},
			figure{label: "wants", text: r.Want, style: t.Ink}, figure{label: "got", text: r.Got, style: t.Ink})
	}
	return list
}

// instance draws one instance on a line.
func (p page) instance(v engine.SideView, c reading.Condition, side split.Side, served figures.Served, counted bool, x,
	y, width int) {
	g, t := p.g, p.Theme
	dot, style, said := p.dot(c, side)
	end := x + width
	g.Set(x, y, dot, style)
	again := ""
	if n := slices.IndexFunc(v.Restarts, func(r engine.Restart) bool { return r.Instance == c.Name }); n >= 0 {
		again = fmt.Sprintf(" again %d", v.Restarts[n].Count)
	}
	if c.State != reading.Healthy {
		at := g.Text(x+2, y, cells.CutLeft(c.Name, width*2/5), t.Ink)
		at = g.Text(at, y, again, t.Amber)
		said, style = p.aged(said, v.At, v.Every, style)
		if p.S.Typical > 0 && (c.State == reading.Starting || c.State == reading.Answering) {
			bars := min(6, end-at-cells.Width(said)-2)
			p.progress(at+1, y, bars, p.Now.Sub(c.Started))
			at += max(bars, 0) + 1
		}
		g.Right(end, y, cells.Cut(said, end-at-1), style)
		return
	}
	text := said
	if counted {
		text = frame.Rate(served.Rate)
		if served.Bad() {
			text = fmt.Sprintf("▲%d ", served.Failing) + text
		}
		text, style = p.aged(text, p.S.Front.At, p.S.Front.Every, t.Ink)
		if served.Bad() {
			style = t.Amber
		}
	} else {
		text, style = p.aged(text, v.At, v.Every, t.Ink)
	}
	room := width - 2 - cells.Width(text) - 1
	name := cells.CutLeft(c.Name, max(room-cells.Width(again), 1))
	at := g.Text(x+2, y, name, t.Ink)
	at = g.Text(at, y, again, t.Amber)
	if bars := min(10, end-cells.Width(text)-1-at-1); bars >= 3 {
		values, floor := c.History, 6.0
		if counted {
			values = make([]float64, len(served.History))
			for n, v := range served.History {
				values[n] = float64(v)
			}
		}
		frame.Spark(g, end-cells.Width(text)-1-bars, y, bars, values, floor, t.Side(side), t.Red)
	}
	g.Right(end, y, text, style)
}

// progress draws how long an instance has been coming up, against how long that
// typically takes: full is the typical time.
func (p page) progress(x, y, width int, waited time.Duration) {
	style := p.Theme.Ink
	if waited > p.S.Typical {
		style = p.Theme.Amber
	}
	done := int(float64(width) * min(waited.Seconds()/p.S.Typical.Seconds(), 1))
	for n := range width {
		line := p.Theme.Hair
		if n < done {
			line = style
		}
		p.g.Set(x+n, y, '━', line)
	}
}

// dot is an instance's state as a glyph, its style, and in words.
func (p page) dot(c reading.Condition, side split.Side) (rune, cells.Style, string) {
	t := p.Theme
	if v := p.S.Sides[side]; !v.At.IsZero() && !v.Fresh(p.Now) {
		return '○', t.Label, words.Health(c.State) // as it was read last
	}
	switch c.State {
	case reading.Healthy:
		return '●', t.Side(side), frame.Milliseconds(c.Took)
	case reading.Failing:
		return '▲', t.Red, "failing: " + c.Said
	case reading.Exited:
		return '×', t.Red, "ended: " + c.Said
	}
	text := words.Health(c.State) + " " + words.Clock(p.Now.Sub(c.Since))
	if waited := p.Now.Sub(c.Started); raise.Overdue(waited, p.S.Typical) {
		return '▲', t.Red, fmt.Sprintf("stuck %s of %s", words.Clock(waited), words.Clock(p.S.Typical))
	}
	return '◐', t.Ink, text
}

package tui

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/words"
	"vaiven/internal/world/secret"
)

// View draws the screen.
func (r root) View() tea.View {
	g := cells.New(r.w, r.h)
	r.draw(g)
	if r.ASCII {
		g.ASCII()
	}
	v := tea.NewView(g.String())
	v.AltScreen = true
	v.KeyboardEnhancements = tea.KeyboardEnhancements{ReportEventTypes: true, ReportAlternateKeys: true,
		ReportAllKeysAsEscapeCodes: true, ReportAssociatedText: true}
	if r.Theme != "" {
		// Chosen against what the terminal may have.
		v.BackgroundColor, v.ForegroundColor = r.theme.Paper, r.theme.Ink.Color
	}
	v.WindowTitle = title(r.snapshot)
	return v
}

// Rows around a page: header and sentence above it, message and keys below.
const (
	headRows   = 2
	roomyFrom  = 14 // rows from which on messages have a line of their own
	keysOnly   = 1
	withDivide = 2
)

// draw draws what is around the page, the page, and what lies over it. Nothing covers the
// sentence or the keys.
func (r root) draw(g *cells.Grid) {
	f, t := r.frame(), r.theme
	foot := keysOnly
	if r.h >= roomyFrom {
		foot = withDivide
	}
	bottom := r.h - foot
	if back, ok := r.mode.(looksBack); ok {
		f = back.frame(f)
		back.header(r, g)
		gravity, text, next := back.sentence()
		frame.Sentence(g, t, gravity, text, next)
		back.show(r, f, g, headRows, bottom)
	} else {
		r.header(f, g)
		r.sentence(f, g)
		r.pages[r.at].Draw(f, g, headRows, bottom)
	}
	r.mode.draw(r, g, headRows, bottom)
	message := r.message()
	if foot == withDivide {
		if message.Text == "" {
			frame.Hair(g, t, bottom)
		} else {
			frame.Message(g, t, bottom, message)
		}
	} else if message.Text != "" {
		frame.Message(g, t, r.h-1, message)
		return
	}
	frame.Keys(g, t, r.h-1, append(r.mode.hints(r), frame.Hints(r.bindings())...), frame.Wheel(r.snapshot, r.Identity))
}

// sentence is what has to be said first, and what comes next by itself.
func (r root) sentence(f frame.Frame, g *cells.Grid) {
	s := situation.Of(f.S.View, r.seen(), f.Now)
	answers := "a"
	if f.Others {
		answers = ""
	}
	frame.Sentence(g, r.theme, s.Gravity, words.Situation(s, f.S.View, answers, f.Now),
		words.NextOf(s, f.S.Crossing))
}

// header is the service, the page's own, and how fresh the picture is.
func (r root) header(f frame.Frame, g *cells.Grid) {
	t := r.theme
	read, fresh := "front not read yet", t.Label
	if at := f.S.Front.At; !at.IsZero() {
		age := f.Now.Sub(at)
		read = "read " + words.Age(age) + " ago"
		if age > 4*f.S.Front.Every {
			read, fresh = "▲ "+read, t.Amber.In(true)
		}
	}
	end := r.w - 2 - cells.Width(read)
	x := g.Within(1, 0, end-1, "vaiven", t.Label)
	name := min(end-x-2, max(end/3, 12)) // how far it is matters more than what it is called
	x = g.Within(x+2, 0, name, f.S.Service, t.Ink.In(true))
	if end > 0 {
		g.Right(r.w-1, 0, read, fresh)
	}
	r.pages[r.at].Head(f, g, x+1, end)
}

// message is what the screen has to say of what the person at the keys is doing.
func (r root) message() frame.Notice {
	c := r.snapshot.Crossing
	switch now := r.clock.ours; {
	case r.presses.again("b", now):
		return frame.Notice{Text: "b again within 2 s: " + words.Back(r.snapshot.View), Level: frame.Urgent}
	case r.presses.again("g", now):
		return frame.Notice{Text: fmt.Sprintf("g again within 2 s: take the wheel. %s, and is told",
			words.Wheel(c.Wheel)), Level: frame.Soon}
	case r.leaving && len(r.unanswered()) > 0:
		f := r.unanswered()[0]
		return frame.Notice{Text: fmt.Sprintf("%s: asked %s ago, not answered yet. q again leaves without waiting",
			asking(f.command), words.Age(now.Sub(f.at))), Level: frame.Urgent}
	}
	if n := r.mode.message(r); n.Text != "" {
		return n
	}
	if r.said.Text != "" && (r.said.stays || r.clock.ours.Sub(r.said.at) < saidFor) {
		return r.said.Notice
	}
	if len(r.flying) > 0 {
		f := r.flying[0]
		return frame.Notice{Text: fmt.Sprintf("%s: asked %s ago", asking(f.command), words.Age(r.clock.ours.Sub(f.at)))}
	}
	if c.Stage == crossing.None && r.Version != "" && !r.snapshot.At.IsZero() {
		return frame.Notice{Text: fmt.Sprintf("s starts a crossing (%s is new). No traffic moves before the new side "+
			"is proven and you say so", r.Version)}
	}
	return frame.Notice{}
}

// asking names a command as the person knows it.
func asking(c keeper.Command) string {
	switch a := c.Act.(type) {
	case crossing.Back:
		return "roll back"
	case crossing.Steer, crossing.Shift:
		return fmt.Sprintf("change to %v on green", shareOf(a))
	case crossing.Next:
		return "go to the next share now"
	case crossing.Begin:
		return "start a crossing to " + a.Version
	case crossing.Prove:
		if !a.Whole() {
			return "check again"
		}
	}
	return c.Act.About().Name
}

// shareOf is the share on green that an act asks for, 0 if it asks for none.
func shareOf(a crossing.Act) split.Share {
	switch a := a.(type) {
	case crossing.Steer:
		return a.Share
	case crossing.Shift:
		return a.Share
	}
	return 0
}

// reason is an error without what every refusal begins with.
func reason(err error) string {
	return strings.TrimPrefix(err.Error(), crossing.ErrNotNow.Error()+": ")
}

// bindings are the keys of the last line in their order: what is most likely wanted first.
func (r root) bindings() []key.Binding {
	if _, idle := r.mode.(watching); !idle {
		if i, ok := r.mode.(intent); !ok || i.lines != nil {
			return []key.Binding{r.back()}
		}
	}
	k := r.keys()
	wheel := frame.Bind("g g", "take the wheel", "g")
	wheel.SetEnabled(r.canTakeWheel())
	var ways, own []key.Binding
	for _, b := range r.pages[r.at].Keys(r.frame()) {
		if len(ways) == 0 && strings.HasPrefix(b.Help().Desc, "forward") {
			ways = append(ways, b)
		} else {
			own = append(own, b)
		}
	}
	list := append([]key.Binding{wheel}, ways...)
	list = append(list, k.yes, k.start, k.resume, k.putBack, r.back(), k.reasons)
	if r.at != 0 {
		list = append(list, own...)
		own = nil
	}
	list = append(list, k.next, k.freeze)
	list = append(append(list, own...), k.retire)
	for n, p := range pages {
		if n != r.at {
			list = append(list, frame.Bind(p.key, p.name, p.key))
		}
	}
	return append(list, k.preview, k.rehearse, k.help, frame.Bind("q", "quit", "q"))
}

// help is every key that does something now, and the marks of the page.
func (r root) help() []frame.Line {
	t := r.theme
	idle := r
	idle.mode = watching{}
	var lines []frame.Line
	hints := frame.Hints(idle.bindings())
	const column = 12
	for _, h := range hints {
		lines = append(lines, frame.Line{{Text: pad(h.Key, column), Style: t.Ink.In(true)},
			{Text: h.Does, Style: t.Label}})
	}
	lines = append(lines, frame.Line{{Text: "b b rolls back from every view; while you type or choose: ctrl+r ctrl+r",
		Style: t.Ink}}, nil)
	for _, m := range r.pages[r.at].Marks() {
		lines = append(lines, frame.Line{{Text: pad(m.Glyph, column), Style: t.Ink.In(true)},
			{Text: m.Means, Style: t.Label}})
	}
	for _, m := range []frame.Mark{
		{Glyph: "▲ ◇", Means: "line 2: something is wrong · a person is waited for"},
		{Glyph: "old", Means: "read longer ago than twice its interval; — and an age: too old to be shown"},
	} {
		lines = append(lines, frame.Line{{Text: pad(m.Glyph, column), Style: t.Ink.In(true)},
			{Text: m.Means, Style: t.Label}})
	}
	return lines
}

func pad(text string, width int) string {
	return text + strings.Repeat(" ", max(width-cells.Width(text), 1))
}

// accepted is all that a yes to the open question accepts: what differs, both values, how
// often.
// reasons are all that stand behind "and 2 more".
func (r root) reasons() (lines []frame.Line) {
	for _, text := range words.Reasons(r.snapshot.View, r.clock.now()) {
		for n, line := range frame.Wrap(text, max(r.w-12, 10)) {
			lead := "  "
			if n == 0 {
				lead = "▲ "
			}
			lines = append(lines, frame.Line{{Text: lead + line, Style: r.theme.Ink}})
		}
	}
	return lines
}

func (r root) accepted() []frame.Line {
	t, about := r.theme, r.snapshot.About
	width := max(r.w-10, 10)
	var lines []frame.Line
	add := func(text string, style cells.Style) {
		for _, line := range frame.Wrap(text, width) {
			lines = append(lines, frame.Line{{Text: line, Style: style}})
		}
	}
	for _, f := range r.snapshot.Crossing.Question.Findings() {
		add("◇ "+words.Finding(f), t.Amber.In(true))
	}
	values := func(value [2]string, has [2]bool) {
		const indent = 9
		for _, side := range split.Sides {
			text, before := value[side], fmt.Sprintf("  %-5v  ", side)
			if !has[side] {
				text = "(none)"
			}
			for _, line := range frame.Wrap(text, max(width-indent, 1)) {
				lines = append(lines, frame.Line{{Text: before + line, Style: t.Side(side)}})
				before = strings.Repeat(" ", indent)
			}
		}
	}
	if list := about.Differences.Questioned(); len(list) > 0 {
		add("", t.Ink)
		for _, d := range list {
			add(d.Part+" "+d.What(), t.Ink.In(true))
			values(d.Value, d.Has)
		}
	}
	if p := about.Pairs; len(p.Findings) > 0 {
		add("", t.Ink)
		for _, f := range p.Findings {
			add(fmt.Sprintf("%s of %s, in %d of %d answers", f.What, f.Request, f.Count, p.Pairs), t.Ink.In(true))
			values(f.Value, [2]bool{f.Value[0] != "", f.Value[1] != ""})
		}
	}
	return lines
}

// rehearsed is what a rehearsal of the rollback has come to.
type rehearsed struct {
	came wayback.Rehearsal
	err  error
}

func (h rehearsed) show(r root) root {
	n := frame.Notice{Text: fmt.Sprintf("a rollback would take %s: %s", words.Milliseconds(h.came.Took),
		words.Steps(h.came.Steps))}
	switch {
	case h.err != nil:
		n = frame.Notice{Text: "rehearse rollback: " + h.err.Error(), Level: frame.Soon}
	case h.came.Failed != "":
		n = frame.Notice{Text: "a rollback would not work: " + h.came.Failed, Level: frame.Urgent}
	}
	return r.say(n)
}

// title is what a window list shows: the service, and whether it waits for somebody who is
// looking elsewhere.
func title(s keeper.Snapshot) string {
	service := secret.Printable(s.Service)
	if s.Crossing.Question.ID != 0 || s.Crossing.Frozen() {
		return "◇ " + service + " waits for you"
	}
	return "vaiven " + service
}

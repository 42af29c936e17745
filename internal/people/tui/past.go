package tui

import (
	"context"
	"fmt"
	"slices"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/past"
	"vaiven/internal/core/situation"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/recording"
	"vaiven/internal/people/tui/beside"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/words"
)

// finding is the mode in which a person types what a page finds rows by.
type finding struct{ input textinput.Model }

func (d finding) press(r root, m tea.KeyPressMsg) (root, tea.Cmd) {
	switch k := m.Keystroke(); k {
	case "esc":
		r.mode = watching{}
		return r.take(frame.Typed("")), nil
	case "enter":
		r.mode = watching{}
	case "up", "down", "pgup", "pgdown":
		return r.toPage(r.frame(), k)
	default:
		d.input, _ = d.input.Update(m)
		r.mode = d
		return r.take(frame.Typed(d.input.Value())), nil
	}
	return r, nil
}

func (d finding) pasted(m tea.PasteMsg) mode {
	d.input, _ = d.input.Update(m)
	return d
}

func (d finding) lapse(root) mode { return d }

func (d finding) message(root) frame.Notice {
	return frame.Notice{Text: "find: " + d.input.Value() + "▏", Level: frame.Soon}
}

func (finding) hints(root) []frame.Hint {
	return []frame.Hint{{Key: "enter", Does: "keep"}, {Key: "esc", Does: "show all"}, {Key: "↑ ↓", Does: "choose"},
		{Key: "ctrl+r ctrl+r", Does: "roll back"}}
}

func (finding) draw(root, *cells.Grid, int, int) {}

// speeds are how many seconds of the past pass in one; in the first it stands still.
var speeds = []int{0, 1, 4, 15, 60}

// looksBack is the mode in which a crossing is seen as it was, or two beside each other. Nothing that is pressed acts
// on a crossing but what rolls back the live one.
type looksBack struct {
	of     []recalled
	at     time.Time // the moment of the past
	speed  int       // of [speeds]
	passed time.Time // until when, by our clock, the past has passed
	seen   recording.Frame
	err    string
	help   bool // what the keys do is said
	from   int  // the page that it was opened on
}

// recalled is a crossing with what was seen of it, and what happened.
type recalled struct {
	crossing past.Crossing
	seen     *recording.Recording
	happened []happened
}

type happened struct {
	at   time.Time
	text string
}

// recollection is what was read of crossings that are to be seen again.
type recollection struct {
	of  []recalled
	err error
}

// recall reads what was seen of crossings.
func (r root) recall(list []past.Crossing) (root, tea.Cmd) {
	return r.say(frame.Notice{Text: "reading what was seen of " + numbers(list)}),
		r.read(func(ctx context.Context, c keeper.Client) any {
			var all recollection
			for _, crossing := range list {
				one, err := recallOne(ctx, c, crossing)
				if err != nil {
					return recollection{err: err}
				}
				all.of = append(all.of, one)
			}
			return all
		})
}

func numbers(list []past.Crossing) string {
	var names []string
	for _, c := range list {
		names = append(names, fmt.Sprintf("crossing %d", c.Number))
	}
	return words.And(names)
}

func recallOne(ctx context.Context, c keeper.Client, of past.Crossing) (recalled, error) {
	one := recalled{crossing: of}
	data, err := c.Recorded(ctx, of.Number)
	if err == nil {
		one.seen, err = recording.Read(data)
	}
	if err != nil {
		return one, fmt.Errorf("crossing %d: %w", of.Number, err)
	}
	told, err := c.EventsOf(ctx, of.Number, 0)
	if err != nil {
		return one, err
	}
	var s crossing.State
	for _, e := range told.Events {
		s = crossing.Apply(s, e)
		if text := words.Event(e, s); text != "" {
			one.happened = append(one.happened, happened{e.At, e.What.Kind() + ": " + text})
		}
	}
	return one, nil
}

func (c recollection) show(r root) root {
	if c.err != nil {
		return r.say(frame.Notice{Text: c.err.Error(), Level: frame.Soon})
	}
	b := looksBack{of: c.of, passed: r.clock.ours, from: r.at}
	r.said = said{}
	at := c.of[0].seen.From()
	if len(c.of) > 1 {
		at = tracksOf(c.of)[0].Begun()
	}
	r.mode = b.to(at)
	r.at = 0
	return r
}

// to is the mode at another moment.
func (b looksBack) to(at time.Time) looksBack {
	one := b.of[0].seen
	if at.Before(one.From()) {
		at = one.From()
	}
	if at.After(one.To()) {
		at, b.speed = one.To(), 0
	}
	b.at, b.err = at, ""
	if b.seen.At.IsZero() || !one.Step(at, 0).Equal(b.seen.At) {
		var err error
		if b.seen, err = one.At(at); err != nil {
			b.err = err.Error()
		}
	}
	return b
}

func (b looksBack) press(r root, m tea.KeyPressMsg) (root, tea.Cmd) {
	name, _ := stroke(m)
	one := b.of[0]
	b.help = false
	switch name {
	case "esc", "q":
		r.mode, r.at = watching{}, b.from
		return r, nil
	case ",":
		b = b.still(one.seen.Step(b.at, -1))
	case ".":
		b = b.still(one.seen.Step(b.at, 1))
	case "<":
		b = b.still(one.event(b.at, -1))
	case ">":
		b = b.still(one.event(b.at, 1))
	case "+", "=":
		b.speed = min(b.speed+1, len(speeds)-1)
	case "-":
		b.speed = max(b.speed-1, 0)
	case "c", "p", "d":
		if n := slices.IndexFunc(r.pagesByKey(), func(key string) bool { return key == name }); n >= 0 &&
			len(b.of) == 1 {
			r.at = n
		}
	case frame.Help:
		b.help = true
	}
	b.passed = r.clock.ours
	r.mode = b
	return r, nil
}

func (r root) pagesByKey() (keys []string) {
	for _, p := range pages {
		keys = append(keys, p.key)
	}
	return keys
}

// still is another moment, at which it stands.
func (b looksBack) still(at time.Time) looksBack {
	b.speed = 0
	return b.to(at)
}

// event is the first moment at which it is seen that something happened: the last such before a time, or the next one.
func (c recalled) event(at time.Time, by int) time.Time {
	seen := func(h happened) time.Time {
		if t := c.seen.Step(h.at, 0); t.After(h.at) {
			return t
		}
		return c.seen.Step(h.at, 1)
	}
	if by < 0 {
		for _, h := range slices.Backward(c.happened) {
			if t := seen(h); t.Before(c.seen.Step(at, 0)) {
				return t
			}
		}
		return c.seen.From()
	}
	for _, h := range c.happened {
		if t := seen(h); t.After(at) {
			return t
		}
	}
	return c.seen.To()
}

func (b looksBack) lapse(r root) mode {
	over := r.clock.ours.Sub(b.passed)
	b.passed = r.clock.ours
	if speeds[b.speed] == 0 || over <= 0 {
		return b
	}
	return b.to(b.at.Add(over * time.Duration(speeds[b.speed])))
}

// message is the last thing that had happened.
func (b looksBack) message(root) frame.Notice {
	one := b.of[0]
	switch hole, in := one.seen.Hole(b.at); {
	case b.err != "":
		return frame.Notice{Text: b.err, Level: frame.Urgent}
	case b.help:
		return frame.Notice{Text: ", . a moment back, on   < > the event before, after   - + slower, quicker   c p d pages of " +
			"then   nothing here acts on a crossing but b b"}
	case in:
		return frame.Notice{Text: fmt.Sprintf("nothing was recorded from %s to %s: this is what was seen before",
			hole.From.Local().Format("15:04:05"), hole.To.Local().Format("15:04:05")), Level: frame.Soon}
	}
	text := ""
	for _, h := range one.happened {
		if h.at.After(b.at) {
			break
		}
		text = h.at.Local().Format("15:04:05") + "  " + h.text
	}
	return frame.Notice{Text: text}
}

func (b looksBack) hints(root) []frame.Hint {
	return []frame.Hint{{Key: ", .", Does: "a moment"}, {Key: "< >", Does: "an event"}, {Key: "- +", Does: b.pace()},
		{Key: "esc", Does: "back to now"}, {Key: frame.Help, Does: "keys"}}
}

// pace is how quickly it passes.
func (b looksBack) pace() string {
	if speeds[b.speed] == 0 {
		return "stands still"
	}
	return fmt.Sprintf("%dx", speeds[b.speed])
}

func (looksBack) draw(root, *cells.Grid, int, int) {}

// header says that this is the past, and at its end how it is now.
func (b looksBack) header(r root, g *cells.Grid) {
	t := r.theme
	c := b.of[0].crossing
	is := situation.Of(r.snapshot.View, r.seen(), r.clock.now())
	now, style := "now: nothing is wrong", t.Label
	if is.Gravity != situation.AllRight {
		now, style = "▲ now: "+words.Situation(is, r.snapshot.View, "", r.clock.now()), t.Amber.In(true)
		if is.Gravity == situation.Wrong {
			style = t.Red.In(true)
		}
	}
	x := g.Within(1, 0, r.w-2, "vaiven", t.Label)
	x = g.Within(x+2, 0, r.w-x-3, c.Service, t.Ink.In(true))
	x = g.Within(x+2, 0, r.w-x-3, "PAST", t.Amber.In(true))
	said := fmt.Sprintf("%s  %s", b.at.Local().Format("2006-01-02 15:04:05"), b.pace())
	if len(b.of) == 1 {
		said += fmt.Sprintf("  crossing %d  %s  %s", c.Number, words.Versions(c), b.seen.Crossing.Stage)
	}
	if lost := b.of[0].seen.Lost; lost > 0 {
		said += "  breaks off " + words.Often(lost)
	}
	x = g.Within(x+2, 0, r.w-x-3, said, t.Ink)
	if room := r.w - x - 3; room > 10 {
		g.Right(r.w-1, 0, cells.Cut(now, room), style)
	}
}

// sentence is what was said first then, and what came next by itself.
func (b looksBack) sentence() (gravity situation.Gravity, text, next string) {
	if len(b.of) > 1 {
		return situation.AllRight, "two crossings beside each other, from the first change on", ""
	}
	s := b.seen.Situation
	return s.Gravity, words.Situation(s, b.seen.View, "", b.seen.At), words.NextOf(s, b.seen.Crossing)
}

// frame is what pages are given of the past.
func (b looksBack) frame(f frame.Frame) frame.Frame {
	f.S, f.Now, f.Others, f.Moved = b.seen.Snapshot, b.seen.At, true, false
	return f
}

// show draws what is seen.
func (b looksBack) show(r root, f frame.Frame, g *cells.Grid, top, bottom int) {
	if len(b.of) == 1 {
		r.pages[r.at].Draw(f, g, top, bottom)
		return
	}
	two := tracksOf(b.of)
	beside.Draw(g, r.theme, two, b.at.Sub(two[0].Begun()), top, bottom)
}

func tracksOf(of []recalled) (two [2]beside.Track) {
	for n, c := range of[:2] {
		two[n] = beside.Track{Crossing: c.crossing, Points: c.seen.Points(), To: c.seen.To()}
	}
	return two
}

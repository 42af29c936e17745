package tui

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/raise"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/chooser"
	"vaiven/internal/people/tui/frame"
)

// mode is what has the keys: there is always exactly one.
type mode interface {
	// press is a key that the root does not take for itself.
	press(r root, m tea.KeyPressMsg) (root, tea.Cmd)
	// lapse is the mode as it is now that time has passed or something has changed.
	lapse(r root) mode
	// message is what the mode has to say, empty for nothing.
	message(r root) frame.Notice
	// hints are keys to be named in the last line before all others.
	hints(r root) []frame.Hint
	// draw lays what the mode shows over a page between two rows.
	draw(r root, g *cells.Grid, top, bottom int)
}

// typing is a mode in which letters are letters.
type typing interface {
	mode
	pasted(m tea.PasteMsg) mode
}

// watching is the mode in which nobody is about to do anything.
type watching struct{}

func (watching) press(r root, m tea.KeyPressMsg) (root, tea.Cmd) { return r.act(m) }
func (watching) lapse(root) mode                                 { return watching{} }
func (watching) message(root) frame.Notice                       { return frame.Notice{} }
func (watching) hints(root) []frame.Hint                         { return nil }
func (watching) draw(r root, g *cells.Grid, top, bottom int)     {}

// intent is something that a person has named and not confirmed: Enter does it.
type intent struct {
	command keeper.Command
	says    func(root) string
	level   frame.Level
	ghost   bool                       // the share of the command is drawn where the bob would go
	since   time.Time                  // by our clock
	holds   func(keeper.Snapshot) bool // what it was named for is still so
	lines   func(root) []frame.Line    // what is to be read before it, in a box; nil for none
	title   string
	scroll  frame.Scroll
}

// lapses is after how long an intent is given up.
const lapses = 10 * time.Second

func (i intent) press(r root, m tea.KeyPressMsg) (root, tea.Cmd) {
	switch k := m.Keystroke(); {
	case k == "enter" && m.IsRepeat:
		return r, nil
	case k == "enter" && r.presses.isText(r.clock.ours): // the end of pasted text: nobody has read what it does
		i.says = onceMore(i.says)
		r.mode = i
		return r, nil
	case k == "enter":
		r.mode = watching{}
		return r.send(i.command)
	case k == "esc":
		r.mode = watching{}
		return r, nil
	case i.lines != nil && frame.ScrollKey(k):
		i.scroll, i.since = i.scroll.Press(k), r.clock.ours
		r.mode = i
		return r, nil
	case !i.ghost:
		r.mode = watching{}
	}
	return r.act(m)
}

func (i intent) lapse(r root) mode {
	if i.lines == nil && r.clock.ours.Sub(i.since) > lapses || !i.holds(r.snapshot) {
		return watching{}
	}
	return i
}

func (i intent) message(r root) frame.Notice {
	return frame.Notice{Text: "enter: " + i.says(r), Level: i.level}
}

func (i intent) hints(root) []frame.Hint {
	return []frame.Hint{{Key: "enter", Does: "do it"}, {Key: "esc", Does: "cancel"}}
}

func (i intent) draw(r root, g *cells.Grid, top, bottom int) {
	if i.lines != nil {
		frame.Box(g, r.theme, top, bottom, i.title, i.lines(r), "enter does it   esc cancels   ↑ ↓ scroll", i.scroll)
	}
}

// onceMore says that Enter came as the end of pasted text.
func onceMore(says func(root) string) func(root) string {
	return func(r root) string { return says(r) + ". Enter came with pasted text: once more" }
}

// showing is a box that is looked at until a key is pressed.
type showing struct {
	title  string
	lines  func(root) []frame.Line
	scroll frame.Scroll
}

func (s showing) press(r root, m tea.KeyPressMsg) (root, tea.Cmd) {
	if k := m.Keystroke(); frame.ScrollKey(k) {
		s.scroll = s.scroll.Press(k)
		r.mode = s
		return r, nil
	}
	r.mode = watching{}
	return r, nil
}

func (s showing) lapse(root) mode           { return s }
func (s showing) message(root) frame.Notice { return frame.Notice{} }
func (s showing) hints(root) []frame.Hint   { return []frame.Hint{{Key: "esc", Does: "close"}} }

func (s showing) draw(r root, g *cells.Grid, top, bottom int) {
	frame.Box(g, r.theme, top, bottom, s.title, s.lines(r), "esc closes   ↑ ↓ scroll", s.scroll)
}

// prompt is a line that is being typed.
type prompt struct {
	ask   string
	input textinput.Model
	done  func(r root, typed string) (root, tea.Cmd)
}

// ask lets the person type a line.
func (r root) ask(what string, done func(root, string) (root, tea.Cmd)) root {
	r.mode = prompt{ask: what, input: frame.Input(r.theme), done: done}
	return r
}

func (p prompt) press(r root, m tea.KeyPressMsg) (root, tea.Cmd) {
	switch m.Keystroke() {
	case "esc":
		r.mode = watching{}
	case "enter":
		r.mode = watching{}
		if text := strings.TrimSpace(p.input.Value()); text != "" {
			return p.done(r, text)
		}
	default:
		p.input, _ = p.input.Update(m)
		r.mode = p
	}
	return r, nil
}

func (p prompt) pasted(m tea.PasteMsg) mode {
	p.input, _ = p.input.Update(m)
	return p
}

func (p prompt) lapse(root) mode { return p }

func (p prompt) message(root) frame.Notice {
	return frame.Notice{Text: p.ask + p.input.Value() + "▏", Level: frame.Soon}
}

func (p prompt) hints(root) []frame.Hint {
	return []frame.Hint{{Key: "enter", Does: "do it"}, {Key: "esc", Does: "cancel"},
		{Key: "ctrl+r ctrl+r", Does: "roll back"}}
}

func (p prompt) draw(root, *cells.Grid, int, int) {}

// choosing is a version that is being chosen, part by part.
type choosing struct {
	list   chooser.Model
	offers []keeper.Offer // of the parts that are still to be asked for
	begin  crossing.Begin
}

func (c choosing) press(r root, m tea.KeyPressMsg) (root, tea.Cmd) {
	switch k := m.Keystroke(); k {
	case "esc":
		r.mode = watching{}
		return r, nil
	case "enter":
		if v, ok := c.list.Chosen(); ok {
			return c.chose(r, v.Name)
		}
		return r, nil
	case "up", "down", "pgup", "pgdown":
		c.list = c.list.Move(frame.Steps(k))
	default:
		c.list = c.list.Typed(m)
	}
	r.mode = c
	return r, nil
}

func (c choosing) pasted(m tea.PasteMsg) mode {
	c.list = c.list.Typed(m)
	return c
}

// chose takes a version for the part that is asked for. A part that has the first part's
// version takes it; the next one that has not is asked for.
func (c choosing) chose(r root, name string) (root, tea.Cmd) {
	if c.begin.Version == "" {
		c.begin = crossing.Begin{Version: name, Versions: map[string]string{}, Hold: true, AtOnce: r.snapshot.Dead}
	} else {
		c.begin.Versions[c.offers[0].Part] = name
	}
	for c.offers = c.offers[1:]; len(c.offers) > 0; c.offers = c.offers[1:] {
		same := slices.ContainsFunc(c.offers[0].Versions,
			func(v raise.Version) bool { return v.Name == c.begin.Version })
		if !same {
			c.list = chooser.New(r.theme).SetOffer(c.offers[0], "")
			r.mode = c
			return r, nil
		}
	}
	r.mode = watching{}
	return r.send(keeper.Command{Act: c.begin})
}

func (c choosing) lapse(root) mode           { return c }
func (c choosing) message(root) frame.Notice { return frame.Notice{} }
func (c choosing) hints(r root) []frame.Hint {
	return []frame.Hint{{Key: "enter", Does: c.does(r)}, {Key: "↑ ↓", Does: "choose"}, {Key: "esc", Does: "cancel"},
		{Key: "ctrl+r ctrl+r", Does: "roll back"}}
}

// does says what choosing begins.
func (c choosing) does(r root) string {
	if r.snapshot.Dead {
		return "raise it, then all at once"
	}
	return "raise it"
}

func (c choosing) draw(r root, g *cells.Grid, top, bottom int) {
	c.list.SetSnapshot(r.snapshot, r.clock.now()).Draw(g, top, bottom)
}

// listed is the versions that there are.
type listed struct {
	offers []keeper.Offer
	err    error
}

func (l listed) show(r root) root {
	c, ok := r.mode.(choosing)
	if !ok {
		return r
	}
	if l.err != nil || len(l.offers) == 0 {
		r.mode = watching{}
		text := "there are no versions to choose from"
		if l.err != nil {
			text = l.err.Error()
		}
		return r.say(frame.Notice{Text: fmt.Sprintf("versions: %s", text), Level: frame.Soon})
	}
	c.offers = l.offers
	c.list = c.list.SetOffer(l.offers[0], r.Version)
	r.mode = c
	return r
}

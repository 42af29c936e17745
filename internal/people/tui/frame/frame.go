package frame

import (
	"context"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"

	"vaiven/internal/core/past"
	"vaiven/internal/core/route"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/theme"
)

// Frame is what every page is given: its size, how it looks, and what is known.
type Frame struct {
	Theme  theme.Theme
	W, H   int // of the screen, in cells
	S      keeper.Snapshot
	Now    time.Time   // of the keeper's clock
	Ghost  split.Share // the share that a person has named, on green
	Moved  bool        // there is a ghost
	Others bool        // somebody else has the wheel: what needs it is not offered
}

// Page is one view of the screen: one question, and a way to act on the answer. A page is a
// value. The root draws what is around it: header, the sentence below it, messages and keys.
type Page interface {
	// Head draws the header's middle from a column up to another.
	Head(f Frame, g *cells.Grid, x, end int)
	// Draw draws the page into rows top and following, up to and without bottom.
	Draw(f Frame, g *cells.Grid, top, bottom int)
	// Keys are the keys that do something on the page now.
	Keys(f Frame) []key.Binding
	// Press is one of these keys.
	Press(f Frame, pressed string) (Page, Wish)
	// Take is an answer to what the page wished to read; others are not for it.
	Take(answer any) Page
	// Marks explain what the page draws, for the help.
	Marks() []Mark
}

// Opener is a page that has something to do when somebody turns to it.
type Opener interface {
	Page
	Open(f Frame) (Page, Wish)
}

// Reader is a page that is opened again and again while somebody looks at it.
type Reader interface {
	Opener
	Every() time.Duration
}

// Wish is what a page asks the root for. The zero value is nothing.
type Wish struct {
	Do   keeper.Command                           // to be sent, if it says what to do
	Read func(context.Context, keeper.Client) any // to be read; the answer comes back by Take
	Legs route.Route                              // legs that a person names for the next crossing
	Copy route.Route                              // legs for a copy of the plan
	Name *split.Share                             // a share on green that a person names: the ghost goes there
	Find bool                                     // what a person types from here on comes by Take, as [Typed]
	Past []past.Crossing                          // to be seen as they were: one, or two beside each other
}

// Typed is what a person types to find something by.
type Typed string

// Mark is a glyph and what it means.
type Mark struct {
	Glyph string
	Means string
}

// Level is how urgent a message is.
type Level int

// The levels.
const (
	Quiet  Level = iota // something to know
	Soon                // a person is waited for
	Urgent              // something is wrong
)

// Notice is a message about what the person at the keys is doing.
type Notice struct {
	Text  string
	Level Level
}

// style is how a level looks, and the mark that says the same without colour.
func style(t theme.Theme, l Level) (cells.Style, string) {
	switch l {
	case Soon:
		return t.Amber.In(true), "◇ "
	case Urgent:
		return t.Red.In(true), "▲ "
	}
	return t.Ink, ""
}

// Sentence is the line below every header, which answers whether it is all right; at its end
// stands what comes next, where there is room.
func Sentence(g *cells.Grid, t theme.Theme, gravity situation.Gravity, text, next string) {
	w, _ := g.Size()
	level := map[situation.Gravity]Level{situation.Waits: Soon, situation.Wrong: Urgent}[gravity]
	look, mark := style(t, level)
	switch {
	case strings.HasPrefix(text, "◇"): // it is asked
		mark = ""
	case level == Soon:
		mark = "▲ "
	}
	x := g.Text(1, 1, mark, look)
	end := w - 1
	if n := cells.Width(next); next != "" && x+cells.Width(text)+3+n < w {
		g.Right(w-1, 1, next, t.Ink)
		end -= n + 2
	}
	g.Within(x, 1, end-x, text, look)
}

// Message draws what the person's own doings come to, into a row.
func Message(g *cells.Grid, t theme.Theme, y int, n Notice) {
	w, _ := g.Size()
	look, mark := style(t, n.Level)
	if n.Level == Soon {
		mark = "› "
	}
	x := g.Text(1, y, mark, look)
	g.Within(x, y, w-1-x, n.Text, look)
}

// Hair draws a hairline across.
func Hair(g *cells.Grid, t theme.Theme, y int) {
	w, _ := g.Size()
	g.Line(0, y, w, '─', t.Hair)
}

// Hint is a key and what it does.
type Hint struct {
	Key, Does string
	Stays     bool // where there is no room for all, others are left out first
}

// Hints are the enabled keys, for the last line.
func Hints(bindings []key.Binding) []Hint {
	var list []Hint
	for _, b := range bindings {
		if b.Enabled() {
			list = append(list, Hint{Key: b.Help().Key, Does: b.Help().Desc})
		}
	}
	return list
}

// Bind is a key with its name and what it does.
func Bind(name, does string, keys ...string) key.Binding {
	return key.NewBinding(key.WithKeys(keys...), key.WithHelp(name, does))
}

// Help is the key that names all others.
const Help = "?"

// Stay has the hints of some keys stay where there is no room for all.
func Stay(hints []Hint, keys ...string) []Hint {
	hints = slices.Clone(hints)
	for n := range hints {
		hints[n].Stays = hints[n].Stays || slices.Contains(keys, hints[n].Key)
	}
	return hints
}

// Keys names keys, as many as fit, and who has the wheel at the line's end. Where some do not fit, the key for help
// stays, and so do those that [Stay] names.
func Keys(g *cells.Grid, t theme.Theme, y int, hints []Hint, wheel []string) {
	w, _ := g.Size()
	for _, text := range wheel {
		if n := cells.Width(text); n <= w*2/5 && w >= wheelFrom {
			g.Right(w-1, y, text, t.Label)
			w -= n + keyGap
			break
		}
	}
	x := 1
	for _, k := range fitting(hints, w-x) {
		x = g.Text(x, y, k.Key, t.Ink.In(true))
		x = g.Text(x+1, y, k.Does, t.Label) + keyGap
	}
}

const (
	keyGap    = 3  // columns between two keys
	wheelFrom = 60 // columns from which on there is room for who has the wheel beside the keys
)

// fitting are the hints that fit into a width, in their order: the last ones are left out first, and those that stay
// last of all.
func fitting(hints []Hint, width int) []Hint {
	left := slices.Clone(hints)
	for {
		room := -keyGap
		for _, k := range left {
			room += cells.Width(k.Key) + 1 + cells.Width(k.Does) + keyGap
		}
		if room <= width || len(left) == 0 {
			return left
		}
		out := len(left) - 1
		for n, k := range slices.Backward(left) {
			if !k.Stays && k.Key != Help {
				out = n
				break
			}
		}
		left = slices.Delete(left, out, out+1)
	}
}

// Wrap breaks a text into lines of a width, at spaces where there are any.
func Wrap(text string, width int) []string {
	var lines []string
	for width > 0 && cells.Width(text) > width {
		head := cells.Take(text, width)
		if at := lastSpace(head); at > len(head)/2 {
			head = head[:at]
		}
		if head == "" { // a wide rune in a column of one
			break
		}
		lines = append(lines, head)
		text = text[len(head):]
		for len(text) > 0 && text[0] == ' ' {
			text = text[1:]
		}
	}
	return append(lines, text)
}

func lastSpace(text string) int {
	for i := len(text) - 1; i >= 0; i-- {
		if text[i] == ' ' {
			return i
		}
	}
	return -1
}

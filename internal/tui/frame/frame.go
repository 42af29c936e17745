package frame

import (
	"fmt"
	"slices"
	"time"

	"vaiven/internal/keeper"
	"vaiven/internal/tui/cells"
	"vaiven/internal/tui/theme"
	"vaiven/internal/words"
)

// Frame is what every view is given: its size, how it looks, what is known, and
// what the root has to say.
type Frame struct {
	Theme  theme.Theme
	W, H   int // in cells
	S      keeper.Snapshot
	Now    time.Time
	Notice Notice   // empty if the root has nothing to say
	Keys   []Hint   // to be named in the last line
	Wheel  []string // who has it, at its end: the longest that fits
}

// Waits is the notice that a view shows: the root's, else what waits for a person.
func (f Frame) Waits() Notice {
	switch c := f.S.Crossing; {
	case f.Notice.Text != "":
		return f.Notice
	case c.Question.ID != 0:
		return Notice{Text: "◇ " + words.Question(c.Question, c) + "   a says yes" + Asked(c.Question.At, f.Now), Level: Soon}
	case c.Frozen():
		return Notice{Text: "frozen: " + words.Frozen(c), Level: Soon}
	}
	return Notice{}
}

// Asked is since when a person is asked, where that is a while ago.
func Asked(at, now time.Time) string {
	const while = 20 * time.Second
	if now.Sub(at) < while {
		return ""
	}
	return "   (asked " + Age(now.Sub(at)) + " ago)"
}

// Wheel says who has the wheel, in texts of falling length. me is the identity of this screen's
// client.
func Wheel(s keeper.Snapshot, me string) []string {
	w := s.Crossing.Wheel
	others := ""
	if s.Watching > 1 {
		others = fmt.Sprintf(", %d watch", s.Watching)
	}
	switch since := w.Since.Local().Format("15:04"); {
	case s.At.IsZero():
		return nil
	case w.Vacant():
		return []string{"nobody steers" + others, "nobody steers"}
	case w.Client == me:
		return []string{"you steer since " + since + others, "you steer"}
	default:
		return []string{words.Person(w.By, w.From) + " steers since " + since + others, w.By + " steers since " + since, w.By + " steers"}
	}
}

// Page draws what a view has around it: the notice below its header, and the keys. It
// returns the first row below what is left for the view.
func (f Frame) Page(g *cells.Grid) (bottom int) {
	Line(g, f.Theme, 1, f.Waits())
	bottom = f.H - 1
	Keys(g, f.Theme, 1, bottom, f.Keys, f.Wheel)
	if f.H >= 14 {
		bottom--
		Hair(g, f.Theme, bottom)
	}
	return bottom
}

// Notice is a line about something that needs a person.
type Notice struct {
	Text  string
	Level Level
}

// Level is how urgent a notice is.
type Level int

// The levels.
const (
	Quiet  Level = iota // something to know
	Soon                // a person is waited for
	Urgent              // something is wrong
)

// Hint is a key and what it does.
type Hint struct{ Key, Does string }

// Hair draws a hairline across.
func Hair(g *cells.Grid, t theme.Theme, y int) {
	w, _ := g.Size()
	g.Line(0, y, w, '─', t.Hair)
}

// Line is the line below a header: a hairline, unless there is something that needs
// a person.
func Line(g *cells.Grid, t theme.Theme, y int, n Notice) {
	if n.Text == "" {
		Hair(g, t, y)
		return
	}
	w, _ := g.Size()
	style := map[Level]cells.Style{Quiet: t.Ink, Soon: t.Amber.In(true), Urgent: t.Red.In(true)}[n.Level]
	g.Within(1, y, w-2, n.Text, style)
}

// Help is the key that names all others.
const Help = "?"

// Keys names keys, as many as fit, and who has the wheel at the line's end. Where some do not fit, the last
// one is that for help.
func Keys(g *cells.Grid, t theme.Theme, x, y int, hints []Hint, wheel []string) {
	w, _ := g.Size()
	for _, text := range wheel {
		if n := cells.Width(text); n <= w*2/5 {
			g.Right(w-1, y, text, t.Label)
			w -= n + keyGap
			break
		}
	}
	for _, k := range fitting(hints, w-x) {
		x = g.Text(x, y, k.Key, t.Ink.In(true))
		x = g.Text(x+1, y, k.Does, t.Label) + keyGap
	}
}

const keyGap = 3 // columns between two keys

// fitting are the keys that fit into a width.
func fitting(hints []Hint, width int) []Hint {
	room := func(k Hint) int { return cells.Width(k.Key) + 1 + cells.Width(k.Does) + keyGap }
	first := func(hints []Hint, width int) int {
		for n, k := range hints {
			if width -= room(k); width < -keyGap {
				return n
			}
		}
		return len(hints)
	}
	n := first(hints, width)
	help := slices.IndexFunc(hints, func(k Hint) bool { return k.Key == Help })
	if n == len(hints) || help < n {
		return hints[:n]
	}
	n = first(hints[:help], width-room(hints[help]))
	return append(slices.Clone(hints[:n]), hints[help])
}

// Wrap breaks a text into lines of a width, at spaces where there are any.
func Wrap(text string, width int) []string {
	var lines []string
	runes := []rune(text)
	for width > 0 && len(runes) > width {
		at := width
		for k := width; k > width/2; k-- {
			if runes[k] == ' ' {
				at = k
				break
			}
		}
		lines = append(lines, string(runes[:at]))
		runes = runes[at:]
		for len(runes) > 0 && runes[0] == ' ' {
			runes = runes[1:]
		}
	}
	return append(lines, string(runes))
}

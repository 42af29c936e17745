package crossing

import (
	"fmt"
	"time"
	"unicode"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/tui/cells"
	"vaiven/internal/tui/frame"
	"vaiven/internal/tui/theme"
	"vaiven/internal/words"
)

// Model is the view's state. It is a value.
type Model struct {
	theme  theme.Theme
	w, h   int
	s      keeper.Snapshot
	now    time.Time
	ghost  split.Share
	moved  bool // the ghost is away from the bob
	notice frame.Notice
	keys   []frame.Hint
	wheel  []string
}

// New makes a view with nothing to show yet.
func New(t theme.Theme) Model { return Model{theme: t} }

// SetTheme changes the styles.
func (m Model) SetTheme(t theme.Theme) Model {
	m.theme = t
	return m
}

// SetSize says how many cells there are.
func (m Model) SetSize(w, h int) Model {
	m.w, m.h = w, h
	return m
}

// SetSnapshot says what is known, and what time it is.
func (m Model) SetSnapshot(s keeper.Snapshot, now time.Time) Model {
	m.s, m.now = s, now
	return m
}

// SetGhost puts the ghost of the bob at a share on green; moved is false when
// there is none.
func (m Model) SetGhost(share split.Share, moved bool) Model {
	m.ghost, m.moved = share, moved
	return m
}

// SetNotice puts a line below the header in place of what the view has to say
// itself; an empty one gives the line back.
func (m Model) SetNotice(n frame.Notice) Model {
	m.notice = n
	return m
}

// SetKeys says which keys to name in the last line, and who has the wheel.
func (m Model) SetKeys(keys []frame.Hint, wheel []string) Model {
	m.wheel = wheel
	m.keys = keys
	return m
}

// The sizes from which on the sides stand beside the track, and the guards have
// room for words.
const (
	wideFrom = 110
	tallFrom = 30
)

// View draws the whole screen.
func (m Model) View() string {
	g := cells.New(m.w, m.h)
	m.header(g)
	m.noticeLine(g)
	top, bottom := 2, m.h-1
	m.keyLine(g, bottom)
	if m.h >= 14 {
		bottom--
		m.hair(g, bottom)
	}
	if m.w >= wideFrom && m.h >= tallFrom {
		bottom = m.door(g, bottom-2, 2) - 1
		m.hair(g, bottom)
		bottom -= m.guardRows() + 1
		m.guards(g, bottom)
		m.wayBack(g, bottom, m.w-42)
		bottom--
		m.hair(g, bottom)
		side := min(max(m.w*24/100, 28), 46)
		m.sidePanel(g, split.Blue, 3, top, side-3, bottom)
		m.sidePanel(g, split.Green, m.w-side+1, top, side-3, bottom)
		m.track(g, side+2, top, m.w-side-1, bottom)
		return g.String()
	}
	if m.h >= 12 {
		bottom = m.door(g, bottom-1, 1)
	}
	if m.h >= 20 {
		bottom -= foldedRows + 1
		m.guardsFolded(g, bottom)
		m.hair(g, bottom-1)
		bottom--
	}
	m.sideLine(g, split.Blue, top)
	m.sideLine(g, split.Green, top+1)
	m.track(g, 1, top+2, m.w-1, bottom)
	return g.String()
}

func (m Model) hair(g *cells.Grid, y int) { frame.Hair(g, m.theme, y) }

// header is what crosses, how far it is, and how fresh the picture is.
func (m Model) header(g *cells.Grid) {
	t, s := m.theme, m.s.Crossing
	read, fresh := "front not read yet", t.Label
	if at := m.s.Front.At; !at.IsZero() {
		age := m.now.Sub(at)
		read = "read " + frame.Age(age) + " ago"
		if age > 4*m.s.Front.Every {
			fresh = t.Amber
		}
	}
	g.Right(m.w-1, 0, read, fresh)
	end := m.w - 2 - cells.Width(read)
	x := 1
	say := func(gap int, text string, style cells.Style) {
		if x += gap; text != "" {
			x = g.Within(x, 0, end-x, text, style)
		}
	}
	say(0, "vaiven", t.Label)
	say(2, m.s.Service, t.Ink.In(true))
	if s.Stage != crossing.None {
		say(1, fmt.Sprintf("crossing %d", s.Number), t.Label)
		if s.LiveVersion != "" {
			say(2, s.LiveVersion, t.Side(s.Target.Other()).In(true))
			say(1, "→", t.Label)
		}
		say(1, s.Version, t.Side(s.Target).In(true))
	}
	room := end - x
	m.stage(g, x, room)
}

// stage draws how far the crossing is, into the room between the header's ends.
func (m Model) stage(g *cells.Grid, x, room int) {
	t, s := m.theme, m.s.Crossing
	var head, tail string
	style := t.Ink.In(true)
	bar := -1.0
	switch s.Stage {
	case crossing.None:
		head = "no crossing yet"
		style = t.Label
	case crossing.Raise:
		v := m.s.Sides[s.Target]
		head, tail = "raise", fmt.Sprintf("%d of %d healthy, %s", v.Healthy, v.Wanted, frame.Clock(m.now.Sub(s.Since)))
	case crossing.Prove:
		head, tail = "prove", frame.Clock(m.now.Sub(s.Since))
		if n := len(m.s.Proof.Results); n > 0 {
			tail = fmt.Sprintf("%d of %d passing", m.s.Proof.Passing(), n)
		}
	case crossing.Shift, crossing.Keep:
		head = fmt.Sprintf("leg %d of %d  %v", s.Leg+1, len(s.Route), s.Part())
		total := time.Duration(0)
		if s.Leg >= 0 {
			total = s.Route[s.Leg].Dwell
		}
		if s.Stage == crossing.Keep {
			head, total = fmt.Sprintf("keep %v", s.Target.Other()), s.Keep
		}
		if left := m.s.Left; s.Timed() && total > 0 {
			bar = 1 - float64(left)/float64(total)
			tail = frame.Clock(total-left) + " of " + frame.Clock(total)
		}
	default:
		head = string(s.Stage)
		tail = frame.Age(m.now.Sub(s.Since)) + " ago"
	}
	switch {
	case s.GoingBack:
		head, style = "going back", t.Red.In(true)
	case s.Frozen():
		head, style = "frozen  "+head, t.Amber.In(true)
	case s.Stage == crossing.RolledBack || s.Stage == crossing.CalledOff:
		style = t.Amber.In(true)
	}
	const barWidth = 20
	width := cells.Width(head) + 2 + cells.Width(tail)
	withBar := bar >= 0 && room >= width+barWidth+6
	if withBar {
		width += barWidth + 1
	}
	if room < width+4 {
		g.Within(x+2, 0, room-3, head, style)
		return
	}
	x += max(2, (room-width)/2)
	x = g.Text(x, 0, head, style) + 2
	if withBar {
		done := int(bar*barWidth + 0.5)
		for i := range barWidth {
			line := t.Hair
			if i < done {
				line = t.Ink
			}
			g.Set(x+i, 0, '━', line)
		}
		x += barWidth + 1
	}
	g.Text(x, 0, tail, t.Label)
}

// noticeLine is the line below the header: a hairline, unless there is something
// that needs a person.
func (m Model) noticeLine(g *cells.Grid) {
	n := m.notice
	if n.Text == "" {
		n = m.ownNotice()
	}
	frame.Line(g, m.theme, 1, n)
}

// ownNotice is the most urgent thing that the snapshot has to say.
func (m Model) ownNotice() frame.Notice {
	s := m.s.Crossing
	trouble := words.Trouble(s.Trouble)
	beside := ""
	if trouble != "" {
		beside = "   " + trouble
	}
	why := words.Cause(s.Why, s)
	switch {
	case m.moved:
		return frame.Notice{Text: m.steering(), Level: frame.Soon}
	case m.s.Trouble != "":
		return frame.Notice{Text: m.s.Trouble, Level: frame.Urgent}
	case m.s.Front.Error != "":
		return frame.Notice{Text: m.s.Front.Error, Level: frame.Urgent}
	case s.GoingBack:
		return frame.Notice{Text: "going back: " + why + beside, Level: frame.Urgent}
	case s.Question.ID != 0:
		if behind := words.Behind(s.Question); behind != "" {
			beside = "   " + behind
		}
		return frame.Notice{Text: "◇ " + words.Question(s.Question, s) + "   a says yes" + frame.Asked(s.Question.At, m.now) + beside, Level: frame.Soon}
	case s.Foreign:
		return frame.Notice{Text: fmt.Sprintf("frozen: %s   space takes it as it is, o puts %v back", words.Frozen(s), s.Ours), Level: frame.Soon}
	case len(m.s.WaysOut) > 0:
		text := "What helps most: " + words.WayOut(m.s.WaysOut[0], s.Target)
		if s.Frozen() {
			text = "frozen: " + words.Frozen(s) + ". " + text
		}
		return frame.Notice{Text: text, Level: frame.Urgent}
	case s.Frozen():
		return frame.Notice{Text: "frozen: " + words.Frozen(s) + beside + "   space goes on", Level: frame.Soon}
	case len(m.s.Lacks) > 0:
		return frame.Notice{Text: "time does not count: " + words.Lacks(m.s.Lacks, m.now), Level: frame.Soon}
	case s.Stage.Over() && why != "":
		return frame.Notice{Text: fmt.Sprintf("%s: %s", s.Stage, why), Level: frame.Soon}
	case m.s.Split.Wrong:
		return frame.Notice{Text: "the split is " + words.Split(m.s.Split), Level: frame.Soon}
	case trouble != "":
		return frame.Notice{Text: trouble, Level: frame.Soon}
	case m.s.Front.Notice != "":
		return frame.Notice{Text: m.s.Front.Notice, Level: frame.Soon}
	}
	for _, side := range split.Sides {
		if e := m.s.Sides[side].Error; e != "" {
			return frame.Notice{Text: fmt.Sprintf("%v cannot be read: %s", side, e), Level: frame.Urgent}
		}
	}
	return frame.Notice{}
}

// steering says what applying the ghost's share would mean.
func (m Model) steering() string {
	for _, w := range m.s.WaysOut {
		if w.Share == m.ghost {
			return fmt.Sprintf("enter: %s. esc lets go", words.WayOut(w, m.s.Crossing.Target))
		}
	}
	text := fmt.Sprintf("enter: %v on green", m.ghost)
	if o := m.outlook(); o.Seen > 0 {
		text += fmt.Sprintf(". A fault in %v of %v's answers would be seen for sure after ~%s, at the cost of ~%.0f failed requests",
			split.Share(route.Fault*float64(split.Whole)), m.s.Crossing.Target, o.Seen.Round(time.Second), o.Cost)
	}
	return text + ". esc lets go"
}

// keyLine names keys, as many as fit.
func (m Model) keyLine(g *cells.Grid, y int) {
	x := 3
	if m.w < wideFrom {
		x = 1
	}
	frame.Keys(g, m.theme, x, y, m.keys, m.wheel)
}

// door is the door log: the last answers, and what they come to. It returns its
// first row.
func (m Model) door(g *cells.Grid, y, rows int) int {
	t, d := m.theme, m.s.Door
	x := 3
	if m.w < wideFrom {
		x = 1
	}
	at := g.Text(x, y, "front door", t.Label) + 3
	lost, style := "none lost", t.Ink
	if d.Lost > 0 {
		lost, style = fmt.Sprintf("%s lost", frame.Thousands(d.Lost)), t.Red.In(true)
	}
	end := m.w - 2 - cells.Width(lost)
	g.Text(end, y, lost, style)
	marks := d.Recent
	if room := end - 2 - at; room < len(marks) {
		marks = marks[len(marks)-max(room, 0):]
	}
	for _, mark := range marks {
		r, style := m.mark(mark.Side, string(mark.Kind), mark.Cache)
		g.Set(at, y, r, style)
		at++
	}
	if rows < 2 {
		return y
	}
	text := fmt.Sprintf("%s answers since the keeper began · longest gap %s", frame.Thousands(d.Answers), frame.Milliseconds(d.LongestGap))
	if d.Failing > 0 {
		text += fmt.Sprintf(" · %s failing", frame.Thousands(d.Failing))
	}
	if d.Slow > 0 {
		text += fmt.Sprintf(" · %s slow", frame.Thousands(d.Slow))
	}
	if d.Lost > 0 {
		text += " · last lost: " + d.LastLost()
	}
	g.Within(x, y+1, m.w-x-1, text, t.Label)
	return y
}

// mark is one answer: its side's letter, a capital if it was not good.
func (m Model) mark(side, kind string, cache bool) (rune, cells.Style) {
	t := m.theme
	r, style := '·', t.Label
	switch side {
	case "blue":
		r, style = 'b', t.Side(split.Blue)
	case "green":
		r, style = 'g', t.Side(split.Green)
	}
	switch {
	case kind == string(reading.LostAnswer), kind == string(reading.Unreached):
		return '×', t.Red.In(true)
	case kind == string(reading.SlowAnswer):
		return r, t.Amber
	case kind == string(reading.FailingAnswer):
		return unicode.ToUpper(r), t.Amber.In(true)
	case cache:
		return 'c', t.Label
	}
	return r, style
}

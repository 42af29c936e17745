package fleet

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/people/framed"
	"vaiven/internal/people/headless"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/people/tui/theme"
	"vaiven/internal/words"
)

// Config is what the screen shows and does.
type Config struct {
	Name  string   // of the fleet, or of the folder
	Files []string // of the plans, in the order of their dependencies where that is known
	Theme string   // dark, light, or "" for what the terminal says
	ASCII bool
	// Follow tells how the service of a file stands, again and again, until the context ends.
	Follow func(ctx context.Context, file string, tell func(headless.Service))
	// Crossing says how far the fleet's own crossing is, "" for none. It may take a while.
	Crossing func() string
	// Open is the program that shows one service.
	Open func(file string) *exec.Cmd
	// Evacuate evacuates a side with all services, and says what came of it.
	Evacuate func(side split.Side) (said string, all bool)
	// Act does one thing with some services, by file, and says what came of it.
	Act func(a Act, files []string) (said string, all bool)
}

// Act is what is done with several services at once.
type Act string

// The acts. One that is not as safe for many services as for one is for the screen of each.
const (
	Freeze   Act = "freeze"    // each stays at its share; all are asked first, and if one refuses none is frozen
	RollBack Act = "roll back" // each goes home, whatever the others do
)

// Run shows the services until the person leaves.
func Run(ctx context.Context, c Config, options ...tea.ProgramOption) error {
	watched, stop := context.WithCancel(ctx)
	defer stop()
	p := framed.New(ctx, newModel(c), framesPerSecond, options...)
	for _, file := range c.Files {
		go c.Follow(watched, file, func(s headless.Service) { p.Send(s) })
	}
	_, err := p.Run()
	if errors.Is(err, tea.ErrInterrupted) || ctx.Err() != nil {
		return nil // asked to end, and ended
	}
	return err
}

// framesPerSecond is how often it is painted at most: many services that change paint once.
const (
	framesPerSecond = 30
	tickEvery       = time.Second
)

// Messages.
type (
	ticked  struct{}
	opened  struct{ err error }
	crosses string   // the fleet's own crossing
	done    struct { // an evacuation, or an act with several
		said string
		all  bool
	}
)

// order is how the lines are ordered.
type order bool

const (
	problemsFirst order = false
	byDependency  order = true
)

// model is the screen's state.
type model struct {
	Config
	theme      theme.Theme
	w, h       int
	by         map[string]*headless.Service // by file
	order      order
	file       string // at the cursor
	typed      string
	finding    bool
	evacuating evacuating
	marked     map[string]bool // by file
	acting     acting
	said       frame.Notice
	helping    bool   // all keys are shown
	crosses    string // the fleet's own crossing, "" for none
	asking     bool   // for that
}

// acting is how far a person is with an act on the services that are marked: its key, then their number and Enter to
// freeze them, or its key again to roll them back.
type acting struct {
	act   Act // "" for none
	typed string
	under bool
	at    time.Time // when the last key of it came
}

// evacuating is how far a person is with evacuating a side: x, then the side's letter, then x again. No key that is
// held down does that, and no text that is pasted.
type evacuating struct {
	asks  bool
	side  split.Side
	named bool
	under bool      // it is being done
	at    time.Time // when the last key of it came
}

// burst is quicker than any hand: what comes within it is pasted, or sent by a program.
const burst = 10 * time.Millisecond

func newModel(c Config) model {
	m := model{Config: c, theme: theme.New(c.Theme != "light"), by: map[string]*headless.Service{},
		marked: map[string]bool{}, asking: true}
	if len(c.Files) > 0 {
		m.file = c.Files[0]
	}
	return m
}

func tick() tea.Cmd { return tea.Tick(tickEvery, func(time.Time) tea.Msg { return ticked{} }) }

// crossing asks for the fleet's own crossing.
func (m model) crossing() tea.Msg {
	if m.Crossing == nil {
		return nil
	}
	return crosses(m.Crossing())
}

// Init asks the terminal for its colours.
func (m model) Init() tea.Cmd { return tea.Batch(tea.RequestBackgroundColor, tick(), m.crossing) }

// Update takes in what happens.
func (m model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.w, m.h = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		if m.Theme == "" {
			m.theme = theme.New(msg.IsDark())
		}
	case headless.Service:
		m.by[msg.File] = &msg // the map is this model's alone
	case ticked:
		if m.asking { // its disk hangs
			return m, tick()
		}
		m.asking = true
		return m, tea.Batch(tick(), m.crossing)
	case crosses:
		m.crosses, m.asking = string(msg), false
	case opened:
		if msg.err != nil {
			m.said = frame.Notice{Text: "it did not open: " + msg.err.Error(), Level: frame.Soon}
		}
	case done:
		m.evacuating, m.acting = evacuating{}, acting{}
		m.said = frame.Notice{Text: msg.said, Level: frame.Urgent}
		if msg.all {
			m.said.Level = frame.Quiet
		}
	case tea.KeyPressMsg:
		return m.press(msg)
	}
	return m, nil
}

// line is a service as it is shown.
type line struct {
	*headless.Service
	gravity situation.Gravity
	old     time.Duration // since it was heard of, where that is too long ago to be a word on now; else 0
}

// all are the services in the order of the files. One that is not heard of is no service that is well.
func (m model) all() []line {
	now := time.Now()
	list := make([]line, 0, len(m.Files))
	for _, file := range m.Files {
		s, known := m.by[file]
		if !known {
			s = &headless.Service{File: file, Name: nameOf(file), Rate: -1, Says: "not heard of yet"}
		}
		l := line{s, s.Gravity, 0}
		if age := now.Sub(s.Heard); known && age > staleAfter {
			l.gravity, l.old = max(s.Gravity, situation.Waits), age
		}
		list = append(list, l)
	}
	return list
}

// shown are those of them that are shown, in their order.
func (m model) shown(all []line) []line {
	list := all
	if typed := strings.ToLower(m.typed); typed != "" {
		list = slices.DeleteFunc(slices.Clone(all), func(l line) bool {
			return !strings.Contains(strings.ToLower(l.Name+" "+l.Says+" "+l.Versions[0]+" "+l.Versions[1]), typed)
		})
	}
	if m.order == byDependency {
		return list
	}
	sorted := make([]line, 0, len(list))
	for _, g := range []situation.Gravity{situation.Wrong, situation.Waits, situation.AllRight} {
		for _, l := range list {
			if l.gravity == g {
				sorted = append(sorted, l)
			}
		}
	}
	return sorted
}

// nameOf is what a service is called that has said nothing yet.
func nameOf(file string) string {
	name := file[strings.LastIndexByte(file, '/')+1:]
	name, _, _ = strings.Cut(name, ".")
	return name
}

// staleAfter is when what was heard of a service says nothing about now.
const staleAfter = 15 * time.Second

// at is the row of the cursor.
func (m model) at(list []line) int {
	return max(slices.IndexFunc(list, func(l line) bool { return l.File == m.file }), 0)
}

// keys are those that do something now.
func (m model) keys() []key.Binding {
	switch {
	case m.evacuating.under:
		return nil
	case m.evacuating.named:
		return []key.Binding{frame.Bind("x", "evacuate "+m.evacuating.side.String(), "x"),
			frame.Bind("esc", "stay", "esc")}
	case m.evacuating.asks:
		return []key.Binding{frame.Bind("b", "evacuate blue", "b"), frame.Bind("g", "evacuate green", "g"),
			frame.Bind("esc", "stay", "esc")}
	case m.acting.under:
		return nil
	case m.acting.act == Freeze:
		return []key.Binding{frame.Bind("enter", "freeze them, with their number", "enter"), frame.Bind("esc", "stay", "esc")}
	case m.acting.act == RollBack:
		return []key.Binding{frame.Bind("b", "roll them back", "b"), frame.Bind("esc", "stay", "esc")}
	case m.finding:
		return []key.Binding{frame.Bind("enter", "keep what is found", "enter"), frame.Bind("esc", "show all", "esc")}
	}
	other := "by dependency"
	if m.order == byDependency {
		other = "problems first"
	}
	list := []key.Binding{frame.Bind("enter", "open", "enter"), frame.Bind("↑ ↓", "choose", "up", "down"),
		frame.Bind("space", "mark", "space")}
	if len(m.marked) > 0 {
		list = append(list, frame.Bind("f", "freeze marked", "f"), frame.Bind("b", "roll back marked", "b"))
	}
	return append(list, frame.Bind("/", "find", "/"), frame.Bind("o", other, "o"),
		frame.Bind("x", "evacuate a side", "x"), frame.Bind(frame.Help, "keys", frame.Help), frame.Bind("q", "leave", "q"))
}

// press is a key.
func (m model) press(msg tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	k := msg.String()
	if k == "ctrl+c" {
		return m, tea.Quit
	}
	if m.helping {
		m.helping = false
		return m, nil
	}
	switch {
	case m.evacuating.under, m.acting.under:
		return m, nil
	case m.evacuating.asks:
		return m.evacuate(k)
	case m.acting.act != "":
		return m.acts(msg)
	case m.finding:
		return m.find(msg), nil
	}
	list := m.shown(m.all())
	at := m.at(list)
	m.said = frame.Notice{}
	switch k {
	case "q":
		return m, tea.Quit
	case frame.Help:
		m.helping = true
	case "/":
		m.finding, m.typed = true, ""
	case "esc":
		if m.typed == "" {
			m.marked = map[string]bool{}
		}
		m.typed = ""
	case "space":
		if len(list) > 0 {
			m = m.mark(list, at)
		}
	case "f", "b":
		if len(m.marked) > 0 {
			m.acting = acting{act: map[string]Act{"f": Freeze, "b": RollBack}[k], at: time.Now()}
		}
	case "o":
		m.order = !m.order
	case "x":
		m.evacuating = evacuating{asks: true, at: time.Now()}
	case "enter":
		if len(list) > 0 {
			return m, tea.ExecProcess(m.Open(list[at].File), func(err error) tea.Msg { return opened{err} })
		}
	default:
		if n := min(max(at+frame.Steps(k), 0), len(list)-1); n >= 0 {
			m.file = list[n].File
		}
	}
	return m, nil
}

// find is a key of a text to find.
func (m model) find(msg tea.KeyPressMsg) model {
	switch k := msg.String(); {
	case k == "enter":
		m.finding = false
	case k == "esc":
		m.finding, m.typed = false, ""
	case k == "backspace":
		if text := []rune(m.typed); len(text) > 0 {
			m.typed = string(text[:len(text)-1])
		}
	default:
		m.typed += msg.Text
	}
	return m
}

// evacuate is a key while a person is about to evacuate a side.
func (m model) evacuate(k string) (tea.Model, tea.Cmd) {
	pasted := time.Since(m.evacuating.at) < burst
	m.evacuating.at = time.Now()
	switch {
	case pasted:
		m.evacuating = evacuating{}
	case k == "x" && m.evacuating.named:
		m.evacuating.under = true
		side := m.evacuating.side
		return m, func() tea.Msg {
			said, all := m.Evacuate(side)
			return done{said, all}
		}
	case k == "b" && !m.evacuating.named:
		m.evacuating.side, m.evacuating.named = split.Blue, true
	case k == "g" && !m.evacuating.named:
		m.evacuating.side, m.evacuating.named = split.Green, true
	default: // another key is no word at all
		m.evacuating = evacuating{}
	}
	return m, nil
}

// mark marks the service at the cursor, or takes its mark away, and goes on to the next one.
func (m model) mark(list []line, at int) model {
	marked := maps.Clone(m.marked)
	if file := list[at].File; marked[file] {
		delete(marked, file)
	} else {
		marked[file] = true
	}
	m.marked = marked
	m.file = list[min(at+1, len(list)-1)].File
	return m
}

// acts is a key while a person is about to do something with the services that are marked.
func (m model) acts(msg tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	a, k := &m.acting, msg.String()
	pasted := time.Since(a.at) < burst
	a.at = time.Now()
	digit := len(msg.Text) == 1 && msg.Text >= "0" && msg.Text <= "9"
	switch {
	case pasted:
		m.acting = acting{}
	case a.act == RollBack && k == "b", a.act == Freeze && k == "enter" && a.typed == strconv.Itoa(len(m.marked)):
		a.under = true
		act, files := a.act, m.files()
		return m, func() tea.Msg {
			said, all := m.Act(act, files)
			return done{said, all}
		}
	case a.act == Freeze && digit && len(a.typed) < 4:
		a.typed += msg.Text
	case a.act == Freeze && k == "backspace":
		a.typed = a.typed[:max(len(a.typed)-1, 0)]
	default: // another key is no word at all
		m.acting = acting{}
	}
	return m, nil
}

// files are those that are marked, in the order of the files.
func (m model) files() []string {
	return slices.DeleteFunc(slices.Clone(m.Files), func(f string) bool { return !m.marked[f] })
}

// View draws the screen.
func (m model) View() tea.View {
	g := cells.New(m.w, m.h)
	m.draw(g)
	if m.ASCII {
		g.ASCII()
	}
	v := tea.NewView(g.String())
	v.AltScreen = true
	if m.Theme != "" {
		v.BackgroundColor, v.ForegroundColor = m.theme.Paper, m.theme.Ink.Color
	}
	v.WindowTitle = m.Name + " - vaiven"
	return v
}

func (m model) draw(g *cells.Grid) {
	if m.w < 20 || m.h < 6 {
		return
	}
	t := m.theme
	x := g.Within(1, 0, m.w/2, m.Name, t.Ink.In(true))
	order := "problems first"
	if m.order == byDependency {
		order = "by dependency"
	}
	if len(m.marked) > 0 {
		order = fmt.Sprintf("%d marked", len(m.marked))
	}
	if m.typed != "" || m.finding {
		order = "with " + fmt.Sprintf("%q", m.typed)
	}
	g.Right(m.w-1, 0, cells.Cut(order, max(m.w-x-3, 0)), t.Label)
	all := m.all()
	gravity, text := m.sentence(all)
	frame.Sentence(g, t, gravity, text, "")
	list := m.shown(all)
	at := m.at(list)
	top, bottom := 3, m.h-2
	if m.crosses != "" && m.h > 10 {
		g.Within(1, 2, m.w-2, m.crosses, t.Label)
		top++
	}
	if m.evacuating.asks || m.acting.act != "" {
		bottom -= 3
	}
	rows := max(bottom-top, 1)
	first := frame.Window(at, len(list), rows)
	for n := first; n < min(first+rows, len(list)); n++ {
		m.row(g, top+n-first, list[n], n == at)
	}
	if len(list) == 0 {
		g.Within(2, top, m.w-3, "nothing is found", t.Label)
	}
	switch {
	case m.evacuating.asks:
		m.asks(g, bottom)
	case m.acting.act != "":
		m.asksMarked(g, bottom)
	}
	if m.said.Text != "" {
		frame.Message(g, t, m.h-2, m.said)
	} else {
		frame.Hair(g, t, m.h-2)
	}
	if m.helping {
		lines := make([]frame.Line, 0, len(m.keys()))
		for _, k := range m.keys() {
			lines = append(lines, frame.Line{{Text: fmt.Sprintf("%-6s", k.Help().Key), Style: t.Ink.In(true)},
				{Text: k.Help().Desc, Style: t.Ink}})
		}
		frame.Box(g, t, 2, m.h-2, "keys", lines, "any key closes this", 0)
	}
	frame.Keys(g, t, m.h-1, frame.Stay(frame.Hints(m.keys()), "b", "x", "q"), nil)
}

// sentence answers whether it is all right with all services: which are not, and of the only one why.
func (m model) sentence(all []line) (situation.Gravity, string) {
	names := map[situation.Gravity][]string{}
	why := ""
	for _, l := range all {
		if names[l.gravity] = append(names[l.gravity], l.Name); l.gravity > situation.AllRight {
			why = l.Says
		}
	}
	if silent := len(all) - len(m.by); silent > 0 {
		return situation.AllRight, fmt.Sprintf("%d of %d services have not been heard of yet", silent, len(all))
	}
	return words.Fleet(len(all), names[situation.Wrong], names[situation.Waits], why)
}

// railCells is how wide a rail is.
const railCells = 11

// row draws a service: its bob on the rail between its two versions.
func (m model) row(g *cells.Grid, y int, s line, here bool) {
	t := m.theme
	ink, mark := t.Ink, "·"
	switch s.gravity {
	case situation.Wrong:
		ink, mark = t.Red, "▲"
	case situation.Waits:
		ink, mark = t.Amber, "◇"
	}
	if here {
		g.Text(0, y, "▸", t.Ink.In(true))
	}
	if m.marked[s.File] {
		g.Text(1, y, "+", t.Ink.In(true))
	}
	g.Text(2, y, mark, ink)
	x := 4
	g.Within(x, y, 16, s.Name, t.Ink.In(here))
	x += 17
	g.Right(x+9, y, cells.Cut(s.Versions[split.Blue], 9), t.Side(split.Blue))
	x += 10
	g.Line(x, y, x+railCells, '─', t.Hair)
	if s.Known {
		part := s.Share.Fraction()
		bob := x + int(part*(railCells-1)+0.5)
		if part > 0 && part < 1 && bob > x {
			g.Text(bob-1, y, "(", t.Label)
		}
		if part > 0 && part < 1 && bob < x+railCells-1 {
			g.Text(bob+1, y, ")", t.Label)
		}
		g.Text(bob, y, "●", t.Share(part))
	}
	x += railCells + 1
	g.Within(x, y, 9, s.Versions[split.Green], t.Side(split.Green))
	x += 11
	end := m.w - 1
	if s.Rate >= 0 && m.w > 90 {
		g.Right(end, y, frame.Rate(s.Rate), t.Label)
		end -= 12
	}
	says := strings.TrimPrefix(s.Says, "all right: ")
	if s.Closed != "" && !strings.HasPrefix(says, s.Closed) {
		says = s.Closed + "; " + says
	} else if s.Way != "" && m.w > 110 {
		says += "; " + s.Way
	}
	if s.old > 0 {
		says = fmt.Sprintf("not heard of for %v; it was: %s", s.old.Round(time.Second), says)
	}
	look := t.Ink
	if s.gravity > situation.AllRight {
		look = ink
	}
	g.Within(x, y, end-x, says, look)
}

// asksMarked says what an act on the marked services would do, and with which.
func (m model) asksMarked(g *cells.Grid, y int) {
	t := m.theme
	frame.Hair(g, t, y)
	var names []string
	for _, l := range m.all() {
		if m.marked[l.File] {
			names = append(names, l.Name)
		}
	}
	count := words.CountServices(len(names))
	text := ""
	switch a := m.acting; {
	case a.under && a.act == Freeze:
		text = "freezing " + count
	case a.under:
		text = "rolling back " + count
	case a.act == Freeze:
		text = fmt.Sprintf("freeze %s: each stays at its share. Type their number, then Enter: %s▏", count, a.typed)
	default:
		text = fmt.Sprintf("b again: %s rolled back", count)
	}
	x := g.Within(2, y+1, m.w-3, text, t.Amber.In(true))
	g.Within(x+2, y+1, m.w-x-3, strings.Join(names, ", "), t.Label)
}

// asks says what evacuating a side would do.
func (m model) asks(g *cells.Grid, y int) {
	t := m.theme
	frame.Hair(g, t, y)
	l := m.evacuating
	switch {
	case l.under:
		g.Within(2, y+1, m.w-3, fmt.Sprintf("evacuating %v with all services", l.side), t.Amber.In(true))
	case l.named:
		has := 0
		for _, s := range m.by {
			if s.Known && s.Share.Of(l.side) > 0 {
				has++
			}
		}
		name := l.side.String()
		g.Within(2, y+1, m.w-3, fmt.Sprintf("x again: %d services go to %v, of which %d have requests on %s now; %s is "+
			"closed then, until vaiven reopen", len(m.Files), l.side.Other(), has, name, name), t.Amber.In(true))
	default:
		g.Within(2, y+1, m.w-3, "evacuate which side, with all services? b: blue, g: green", t.Amber.In(true))
	}
}

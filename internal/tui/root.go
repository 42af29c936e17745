package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/help"
	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"vaiven/internal/core/crossing"
	core "vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/keeper"
	"vaiven/internal/tryout"
	"vaiven/internal/tui/cells"
	"vaiven/internal/tui/change"
	"vaiven/internal/tui/chooser"
	view "vaiven/internal/tui/crossing"
	"vaiven/internal/tui/differences"
	"vaiven/internal/tui/frame"
	"vaiven/internal/tui/keys"
	"vaiven/internal/tui/proof"
	"vaiven/internal/tui/theme"
	"vaiven/internal/words"
)

// Config is what a screen works with.
type Config struct {
	Client   keeper.Client
	By       string // handle of the person at the keys
	Identity string // of the client, to know whether it has the wheel; "" if it is not known
	Version  string // offered for the next crossing, "" for none
	Theme    string // "dark", "light", or "" to ask the terminal
}

// Run shows the screen until the person quits or the context ends, and returns
// the last snapshot.
func Run(ctx context.Context, c Config, options ...tea.ProgramOption) (keeper.Snapshot, error) {
	watched, stop := context.WithCancel(ctx)
	defer stop()
	p := tea.NewProgram(newRoot(ctx, c), append(options, tea.WithContext(ctx), tea.WithFPS(framesPerSecond))...)
	go func() {
		for s := range c.Client.Snapshots(watched) {
			p.Send(snapshotRead{s})
		}
	}()
	final, err := p.Run()
	if errors.Is(err, tea.ErrInterrupted) || ctx.Err() != nil {
		err = nil // asked to end, and ended
	}
	if r, ok := final.(root); ok {
		return r.snapshot, err
	}
	return keeper.Snapshot{}, err
}

// Messages.
type (
	snapshotRead struct{ snapshot keeper.Snapshot }
	ticked       struct{ now time.Time }
	commanded    struct {
		command keeper.Command
		err     error
	}
	rehearsed struct {
		came wayback.Rehearsal
		err  error
	}
	tried struct {
		report  tryout.Report
		inForce string
		err     error
	}
	foreseen struct {
		share  split.Share
		change front.Change
		err    error
	}
	versionsListed struct {
		offers []keeper.Offer
		err    error
	}
)

// How the screen keeps time.
const (
	tickEvery       = 500 * time.Millisecond // ages grow even if no snapshot comes
	pressAgain      = 2 * time.Second        // between the two presses of a key that asks for two
	letGo           = 700 * time.Millisecond // a key that comes again sooner has not been let go
	saidFor         = 6 * time.Second        // how long a refusal stays
	framesPerSecond = 20
	coarse          = 5 * split.Percent
	fine            = split.Percent
)

// root is the only model. What it shows is the view's; what it knows is the last
// snapshot, the time, and what the person is about to do.
type root struct {
	Config
	do       func(keeper.Command) tea.Cmd
	list     tea.Cmd                   // asks for the versions that there are
	try      tea.Cmd                   // tries split keys
	rehearse tea.Cmd                   // rehearses going home
	ahead    func(split.Share) tea.Cmd // asks what a change of the share would do
	keys     keyMap
	help     help.Model
	theme    theme.Theme
	view     view.Model
	proof    proof.Model
	differ   differences.Model
	tries    keys.Model
	at       page
	w, h     int
	snapshot keeper.Snapshot
	now      time.Time

	ghost    split.Share
	steering bool
	helping  bool
	change   change.Model
	looking  bool // at what a change would do
	armed    armed
	held     held
	said     frame.Notice
	saidAt   time.Time
	prompt   prompt
	choosing choosing
	lost     string // what to say of a wheel that somebody has taken, until a key is pressed
	rung     uint64 // the last question or freeze that the bell was rung for
	inflight int    // commands that have not been answered
	quitting bool   // as soon as they are
}

// page is which view is shown.
type page int

// The pages.
const (
	onCrossing page = iota
	onProof
	onDifferences
	onKeys
)

// choosing is a version that is being chosen, part by part.
type choosing struct {
	on      bool
	list    chooser.Model
	offers  []keeper.Offer // of the parts that are still to be asked for
	command keeper.Command
}

// armed is a key that was pressed once and has to be pressed again.
type armed struct {
	key   string // "", or what it does
	until time.Time
}

// held is the last key that does something lasting, and when it came last. A key that is
// held down comes again and again: one press is one act.
type held struct {
	key string
	at  time.Time
}

// prompt is a line that is being typed.
type prompt struct {
	ask   string // "" if there is none
	input textinput.Model
	done  func(root, string) (root, tea.Cmd)
}

func newRoot(ctx context.Context, c Config) root {
	r := root{Config: c, keys: newKeyMap(), help: help.New(), theme: theme.New(c.Theme != "light")}
	r.view = view.New(r.theme)
	r.list = func() tea.Msg {
		offers, err := c.Client.Versions(ctx)
		return versionsListed{offers, err}
	}
	r.ahead = func(share split.Share) tea.Cmd {
		return func() tea.Msg {
			c, err := c.Client.Foresee(ctx, share)
			return foreseen{share, c, err}
		}
	}
	r.rehearse = func() tea.Msg {
		came, err := c.Client.Rehearse(ctx)
		return rehearsed{came, err}
	}
	r.try = func() tea.Msg {
		report, inForce, err := c.Client.Tryout(ctx)
		return tried{report, inForce, err}
	}
	r.do = func(command keeper.Command) tea.Cmd {
		command.By = c.By
		return func() tea.Msg {
			_, err := c.Client.Do(ctx, command)
			return commanded{command, err}
		}
	}
	return r.dressed()
}

// dressed puts the theme on what is not drawn by the view.
func (r root) dressed() root {
	r.view = r.view.SetTheme(r.theme)
	style := func(c cells.Style) lipgloss.Style { return lipgloss.NewStyle().Foreground(c.Color).Bold(c.Bold) }
	r.help.Styles.FullKey, r.help.Styles.FullDesc = style(r.theme.Ink.In(true)), style(r.theme.Label)
	return r
}

// Init asks for the terminal's background and starts the clock.
func (r root) Init() tea.Cmd {
	if r.Theme != "" {
		return tick()
	}
	return tea.Batch(tick(), tea.RequestBackgroundColor)
}

func tick() tea.Cmd {
	return tea.Tick(tickEvery, func(now time.Time) tea.Msg { return ticked{now} })
}

// Update takes a message in.
func (r root) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch m := msg.(type) {
	case tea.WindowSizeMsg:
		r.w, r.h = m.Width, m.Height
		r.help.SetWidth(m.Width - 8)
		return r, nil
	case tea.BackgroundColorMsg:
		r.theme = theme.New(m.IsDark())
		return r.dressed(), nil
	case snapshotRead:
		before := r.snapshot.Crossing.Wheel
		r.snapshot, r.now = m.snapshot, latest(r.now, m.snapshot.At)
		if w := r.snapshot.Crossing.Wheel; !before.Vacant() && before.Client == r.Identity && w.Client != r.Identity && !w.Vacant() {
			r.lost = fmt.Sprintf("%s has taken the wheel from you: g g takes it back", words.Person(w.By, w.From))
		}
		r.proof, r.differ = r.proof.In(r.frame(nil)), r.differ.In(r.frame(nil))
		if r.steering && !r.fitted().Left.Enabled() {
			r.steering = false // it went back, or ended, under our hands
		}
		return r.ring()
	case ticked:
		r.now = latest(r.now, m.now)
		return r, tick()
	case commanded:
		return r.commanded(m)
	case versionsListed:
		return r.listed(m), nil
	case tried:
		r.tries = r.tries.SetReport(m.report, m.inForce, m.err)
		return r, nil
	case foreseen:
		return r.foresaw(m), nil
	case rehearsed:
		return r.wentThrough(m), nil
	case tea.KeyPressMsg:
		return r.pressed(m)
	case tea.PasteMsg:
		if r.choosing.on {
			r.choosing.list = r.choosing.list.Typed(m)
			return r, nil
		}
		if r.prompt.ask != "" {
			var cmd tea.Cmd
			r.prompt.input, cmd = r.prompt.input.Update(m)
			return r, cmd
		}
	}
	return r, nil
}

func latest(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

func (r root) commanded(m commanded) (root, tea.Cmd) {
	r.inflight--
	var refusal *crossing.Refusal
	if errors.As(m.err, &refusal) && refusal.Kind == crossing.NobodyThere {
		return r.forced(refusal), nil
	}
	if m.err != nil {
		text := strings.TrimPrefix(m.err.Error(), crossing.ErrNotNow.Error()+": ")
		r = r.say(frame.Notice{Text: string(m.command.Do) + ": " + text, Level: frame.Soon})
	}
	if r.quitting && r.inflight == 0 {
		return r, tea.Quit
	}
	return r, nil
}

// wanted is the share whose change a person would look at: the ghost's, else ours that
// somebody else changed, else the next leg's.
func (r root) wanted() split.Share {
	c := r.snapshot.Crossing
	switch {
	case r.steering:
		return r.ghost
	case c.Foreign:
		return c.Ours
	case c.Stage.UnderWay():
		for _, l := range c.Route {
			if l.Part > c.Part() {
				return split.Toward(c.Target, l.Part)
			}
		}
		return c.Home()
	case len(r.snapshot.Planned) > 0:
		return split.Toward(r.snapshot.Live.Other(), r.snapshot.Planned[0].Part)
	}
	return r.snapshot.Front.Split.Share
}

// foresaw shows what a change would do.
func (r root) foresaw(m foreseen) root {
	if m.err != nil {
		return r.say(frame.Notice{Text: fmt.Sprintf("what %v on green would do: %v", m.share, m.err), Level: frame.Soon})
	}
	r.change, r.looking = change.New(r.theme, m.change), true
	return r
}

func (r root) say(n frame.Notice) root {
	r.said, r.saidAt = n, r.now
	return r
}

func (r root) fitted() keyMap {
	return r.keys.fit(r.snapshot, r.steering, r.at, r.Identity)
}

// keystroke names a key by its place on the keyboard, so that letters work on
// every layout whose terminal reports it.
type keystroke struct{ tea.KeyPressMsg }

func (k keystroke) String() string { return k.Keystroke() }

// pressed handles a key. Going back comes first, in every view.
func (r root) pressed(m tea.KeyPressMsg) (root, tea.Cmd) {
	r.lost = ""
	k := r.fitted()
	match := func(b key.Binding) bool { return key.Matches(m, b) || key.Matches(keystroke{m}, b) }
	typing := r.prompt.ask != "" || r.choosing.on
	if match(k.Back) && (!typing || m.String() == "ctrl+b") {
		return r.backPressed()
	}
	if m.String() == "ctrl+c" || !typing && match(k.Quit) {
		return r.quitPressed()
	}
	if !typing && match(k.Wheel) {
		return r.wheelPressed()
	}
	r.armed = armed{}
	if !typing && (match(k.Approve) || match(k.Next) || match(k.Apply) || match(k.Freeze) || match(k.PutBack)) {
		before := r.held
		r.held = held{m.String(), r.now}
		if m.IsRepeat || before.key == m.String() && r.now.Sub(before.at) < letGo {
			return r, nil
		}
	} else {
		r.held = held{}
	}
	switch {
	case r.choosing.on:
		return r.chooses(m)
	case typing:
		return r.typed(m)
	case match(k.Help):
		r.helping = !r.helping
	case r.helping:
		r.helping = false
	case r.looking:
		r.looking = false
	case match(k.Foresee):
		return r, r.ahead(r.wanted())
	case match(k.Rehearse):
		return r.say(frame.Notice{Text: "rehearsing home …"}), r.rehearse
	case match(k.PutBack):
		return r.send(keeper.Command{Do: keeper.PutBack})
	case match(k.Start):
		r.choosing = choosing{on: true, list: chooser.New(r.theme)}
		return r, r.list
	case match(k.Proof):
		r.at = r.turned(onProof)
	case match(k.Differences):
		r.at = r.turned(onDifferences)
	case match(k.Keys):
		if r.at = r.turned(onKeys); r.at == onKeys {
			return r.tryKeys()
		}
	case match(k.Leave):
		r.at = onCrossing
	case match(k.Again):
		return r.again()
	case match(k.Whole):
		return r.send(keeper.Command{Do: keeper.Prove})
	case match(k.Around):
		dx, dy := direction(m)
		if r.at == onProof {
			r.proof = r.proof.Move(dx, dy)
		} else {
			r.differ = r.differ.Move(dy)
		}
	case match(k.Fold):
		r.differ = r.differ.Fold()
	case match(k.PageDown):
		r = r.scroll(scrollBy)
	case match(k.PageUp):
		r = r.scroll(-scrollBy)
	case match(k.Approve):
		return r.send(keeper.Command{Do: keeper.Yes, Question: r.snapshot.Crossing.Question.ID})
	case match(k.Next):
		leg, _ := r.snapshot.Crossing.Next()
		return r.send(keeper.Command{Do: keeper.Next, Leg: leg})
	case match(k.Forward):
		r.ghost, r.steering = r.snapshot.Crossing.Full(), true
	case match(k.Left):
		r = r.steer(-coarse)
	case match(k.Right):
		r = r.steer(coarse)
	case match(k.FineLeft):
		r = r.steer(-fine)
	case match(k.FineRight):
		r = r.steer(fine)
	case match(k.Apply):
		r.steering = false
		return r.send(keeper.Command{Do: keeper.Steer, Share: r.ghost})
	case match(k.LetGo):
		r.steering = false
	case match(k.Freeze):
		if r.snapshot.Crossing.Frozen() {
			return r.send(keeper.Command{Do: keeper.GoOn})
		}
		return r.send(keeper.Command{Do: keeper.Freeze})
	case match(k.Retire):
		ask := fmt.Sprintf("to %s, type the service's name (%s): ", k.Retire.Help().Desc, r.snapshot.Service)
		return r.ask(ask, "", func(r root, typed string) (root, tea.Cmd) {
			return r.send(keeper.Command{Do: keeper.Retire, Typed: typed})
		}), nil
	}
	return r, nil
}

// scrollBy is how many lines a page of a detail is.
const scrollBy = 5

// turned is the page that a key turns to: a second press turns back.
func (r root) turned(to page) page {
	if r.at == to {
		return onCrossing
	}
	return to
}

// direction is where an arrow points.
func direction(m tea.KeyPressMsg) (dx, dy int) {
	switch m.String() {
	case "left":
		return -1, 0
	case "right":
		return 1, 0
	case "up":
		return 0, -1
	}
	return 0, 1
}

func (r root) scroll(by int) root {
	r.proof, r.differ, r.tries = r.proof.Scroll(by), r.differ.Scroll(by), r.tries.Scroll(by)
	return r
}

// tryKeys reads the log for the page of the keys.
func (r root) tryKeys() (root, tea.Cmd) {
	r.tries = r.tries.Reading()
	return r, r.try
}

// again makes the check at the cursor once more; on the page of the differences, the
// comparison.
func (r root) again() (root, tea.Cmd) {
	if r.at == onKeys {
		return r.tryKeys()
	}
	cell := core.Result{Kind: r.differ.Chosen()}
	if r.at == onProof {
		var ok bool
		if cell, ok = r.proof.Chosen(); !ok {
			return r.send(keeper.Command{Do: keeper.Prove})
		}
	}
	return r.send(keeper.Command{Do: keeper.Again, Cell: cell})
}

// listed takes the versions that there are.
func (r root) listed(m versionsListed) root {
	if !r.choosing.on {
		return r
	}
	if m.err != nil || len(m.offers) == 0 {
		r.choosing = choosing{}
		text := "there are no versions to choose from"
		if m.err != nil {
			text = m.err.Error()
		}
		return r.say(frame.Notice{Text: "versions: " + text, Level: frame.Soon})
	}
	r.choosing.offers = m.offers
	r.choosing.list = r.choosing.list.SetOffer(m.offers[0], r.Version)
	return r
}

// chooses handles a key while a version is being chosen.
func (r root) chooses(m tea.KeyPressMsg) (root, tea.Cmd) {
	c := &r.choosing
	switch m.String() {
	case "esc":
		r.choosing = choosing{}
	case "up":
		c.list = c.list.Move(-1)
	case "down":
		c.list = c.list.Move(1)
	case "pgup":
		c.list = c.list.Move(-10)
	case "pgdown":
		c.list = c.list.Move(10)
	case "enter":
		if v, ok := c.list.Chosen(); ok {
			return r.chose(v.Name)
		}
	default:
		c.list = c.list.Typed(m)
	}
	return r, nil
}

// chose takes a version for the part that is asked for. A part that has the first
// part's version takes it; the next one that has not is asked for.
func (r root) chose(name string) (root, tea.Cmd) {
	c := &r.choosing
	if c.command.Version == "" {
		c.command = keeper.Command{Do: keeper.Begin, Version: name, Versions: map[string]string{}, Hold: true}
	} else {
		c.command.Versions[c.offers[0].Part] = name
	}
	for c.offers = c.offers[1:]; len(c.offers) > 0; c.offers = c.offers[1:] {
		same := slices.ContainsFunc(c.offers[0].Versions, func(v raise.Version) bool { return v.Name == c.command.Version })
		if !same {
			c.list = chooser.New(r.theme).SetOffer(c.offers[0], "")
			return r, nil
		}
	}
	command := c.command
	r.choosing = choosing{}
	return r.send(command)
}

// backPressed goes back at the second press, and says at the first what the
// second will do.
func (r root) backPressed() (root, tea.Cmd) {
	if r.armed.key == "back" && !r.now.After(r.armed.until) {
		r.armed, r.steering, r.helping, r.prompt, r.choosing = armed{}, false, false, prompt{}, choosing{}
		r.looking = false
		return r.send(keeper.Command{Do: keeper.Back})
	}
	r.armed = armed{"back", r.now.Add(pressAgain)}
	return r, nil
}

// wheelPressed takes the wheel at the second press.
func (r root) wheelPressed() (root, tea.Cmd) {
	if r.armed.key == "wheel" && !r.now.After(r.armed.until) {
		r.armed = armed{}
		return r.send(keeper.Command{Do: keeper.Take})
	}
	r.armed = armed{"wheel", r.now.Add(pressAgain)}
	return r, nil
}

// wentThrough says what a rehearsal has come to.
func (r root) wentThrough(m rehearsed) root {
	n := frame.Notice{Text: fmt.Sprintf("home would take %s: %s", words.Milliseconds(m.came.Took), words.Steps(m.came.Steps))}
	switch {
	case m.err != nil:
		n = frame.Notice{Text: "rehearse home: " + m.err.Error(), Level: frame.Soon}
	case m.came.Failed != "":
		n = frame.Notice{Text: "going home would not work: " + m.came.Failed, Level: frame.Urgent}
	}
	return r.say(n)
}

// ring rings the terminal's bell once for every question and every freeze.
func (r root) ring() (root, tea.Cmd) {
	last := r.snapshot.Crossing.Question.ID
	for _, f := range r.snapshot.Crossing.Freezes {
		last = max(last, f.ID)
	}
	if last <= r.rung {
		return r, nil
	}
	r.rung = last
	return r, tea.Raw("\a")
}

// forced asks for a second word before all requests go to a side that cannot serve.
func (r root) forced(refusal *crossing.Refusal) root {
	home := refusal.Bench.Side.String()
	r = r.say(frame.Notice{Text: "not sent: " + words.Bench(refusal.Bench), Level: frame.Urgent})
	return r.ask(fmt.Sprintf("to send everything to %s all the same, type %s: ", home, home), "", func(r root, typed string) (root, tea.Cmd) {
		if typed != home {
			return r, nil
		}
		return r.send(keeper.Command{Do: keeper.Back, Force: true})
	})
}

func (r root) quitPressed() (root, tea.Cmd) {
	r.quitting = true
	if r.inflight == 0 {
		return r, tea.Quit
	}
	return r, nil
}

func (r root) send(c keeper.Command) (root, tea.Cmd) {
	r.inflight++
	r.said = frame.Notice{}
	c.Seen = r.snapshot.Crossing.Seq
	return r, r.do(c)
}

// steer moves the ghost, which starts at the bob.
func (r root) steer(by split.Share) root {
	if !r.steering {
		r.steering, r.ghost = true, r.snapshot.Front.Split.Share
	}
	r.ghost = min(max(r.ghost+by, 0), split.Whole)
	return r
}

func (r root) ask(what, value string, done func(root, string) (root, tea.Cmd)) root {
	input := frame.Input(r.theme)
	input.SetValue(value)
	input.CursorEnd()
	input.SetWidth(max(r.w-len(what)-4, 8))
	r.prompt = prompt{ask: what, input: input, done: done}
	return r
}

func (r root) typed(m tea.KeyPressMsg) (root, tea.Cmd) {
	switch m.String() {
	case "esc":
		r.prompt = prompt{}
		return r, nil
	case "enter":
		p := r.prompt
		r.prompt = prompt{}
		if text := strings.TrimSpace(p.input.Value()); text != "" {
			return p.done(r, text)
		}
		return r, nil
	}
	var cmd tea.Cmd
	r.prompt.input, cmd = r.prompt.input.Update(m)
	return r, cmd
}

// notice is what the line below the header has to say about the person's own
// doings; the view has its own notices when this is empty.
func (r root) notice() frame.Notice {
	s := r.snapshot.Crossing
	switch {
	case r.armed.key == "back" && !r.now.After(r.armed.until):
		return frame.Notice{Text: backMeans(r.snapshot), Level: frame.Urgent}
	case r.armed.key == "wheel" && !r.now.After(r.armed.until):
		return frame.Notice{Text: fmt.Sprintf("g again within 2 s: take the wheel. %s, and is told", words.Wheel(s.Wheel)), Level: frame.Soon}
	case r.lost != "":
		return frame.Notice{Text: r.lost, Level: frame.Urgent}
	case r.said.Text != "" && r.now.Sub(r.saidAt) < saidFor:
		return r.said
	case s.Stage == crossing.None && r.Version != "":
		return frame.Notice{Text: fmt.Sprintf("ready: s chooses a version (%s is new). No traffic moves before the new side is proven and you say so.", r.Version)}
	}
	return frame.Notice{}
}

// backMeans says what the second press will do.
func backMeans(s keeper.Snapshot) string {
	c := s.Crossing
	if !c.Moved && c.Share == c.Home() {
		return fmt.Sprintf("b again within 2 s: call off. No traffic has moved; %v is removed", c.Target)
	}
	return fmt.Sprintf("b again within 2 s: all requests back to %v at once (%v → %v on green)", c.Target.Other(), s.Front.Split.Share, c.Home())
}

// View draws the screen.
func (r root) View() tea.View {
	keys := r.fitted()
	screen := r.page(hints(keys.ShortHelp()))
	if r.prompt.ask != "" {
		screen = r.withPrompt(screen)
	}
	if r.choosing.on {
		screen = r.over(screen, r.choosing.list.SetSnapshot(r.snapshot, r.now).View(r.w, r.h))
	}
	if r.looking {
		screen = r.over(screen, r.change.View(r.w, r.h))
	}
	if r.helping {
		screen = r.withHelp(screen, keys)
	}
	v := tea.NewView(screen)
	v.AltScreen = true
	if r.Theme != "" {
		// Chosen against what the terminal may have.
		v.BackgroundColor, v.ForegroundColor = r.theme.Paper, r.theme.Ink.Color
	}
	v.WindowTitle = title(r.snapshot)
	return v
}

// frame is what the views are given.
func (r root) frame(keys []frame.Hint) frame.Frame {
	return frame.Frame{Theme: r.theme, W: r.w, H: r.h, S: r.snapshot, Now: r.now, Notice: r.notice(), Keys: keys, Wheel: frame.Wheel(r.snapshot, r.Identity)}
}

// page draws the view that is shown.
func (r root) page(keys []frame.Hint) string {
	switch r.at {
	case onProof:
		return r.proof.In(r.frame(keys)).View()
	case onDifferences:
		return r.differ.In(r.frame(keys)).View()
	case onKeys:
		return r.tries.In(r.frame(keys)).View()
	}
	return r.view.SetSize(r.w, r.h).SetSnapshot(r.snapshot, r.now).SetGhost(r.ghost, r.steering).
		SetNotice(r.notice()).SetKeys(keys, frame.Wheel(r.snapshot, r.Identity)).View()
}

// title is what a window list shows: the service, and whether it waits for
// somebody who is looking elsewhere.
func title(s keeper.Snapshot) string {
	if s.Crossing.Question.ID != 0 || s.Crossing.Frozen() {
		return "◇ " + s.Service + " waits for you"
	}
	return "vaiven " + s.Service
}

// withPrompt puts the line that is being typed in place of the last one.
func (r root) withPrompt(screen string) string {
	lines := strings.Split(screen, "\n")
	ask := lipgloss.NewStyle().Foreground(r.theme.Amber.Color).Render(r.prompt.ask)
	lines[len(lines)-1] = " " + ask + r.prompt.input.View()
	return strings.Join(lines, "\n")
}

// withHelp lays the keys over the screen.
func (r root) withHelp(screen string, keys keyMap) string {
	box := lipgloss.NewStyle().Border(lipgloss.RoundedBorder()).BorderForeground(r.theme.Hair.Color).
		Foreground(r.theme.Ink.Color).Padding(1, 3).
		Render("keys that do something now\n\n" + r.help.FullHelpView(keys.FullHelp()) +
			"\n\nb b works from every view; ctrl+b ctrl+b also while typing")
	return r.over(screen, box)
}

// over lays a box over the middle of the screen.
func (r root) over(screen, box string) string {
	x, y := max((r.w-lipgloss.Width(box))/2, 0), max((r.h-lipgloss.Height(box))/2, 0)
	return lipgloss.NewCanvas(max(r.w, 1), max(r.h, 1)).
		Compose(lipgloss.NewCompositor(lipgloss.NewLayer(screen), lipgloss.NewLayer(box).X(x).Y(y).Z(1))).Render()
}

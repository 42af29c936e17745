package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/route"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/people/framed"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/people/tui/theme"
	"vaiven/internal/words"
)

// Config is what a screen works with.
type Config struct {
	Client   keeper.Client
	By       string           // handle of the person at the keys
	Identity string           // of the client, to know whether it has the wheel; "" if it is not known
	Version  string           // offered for the next crossing, "" for none
	Theme    string           // "dark", "light", or "" to ask the terminal
	ASCII    bool             // draw with the signs of ASCII alone
	Clock    func() time.Time // nil for the machine's

	// Copy writes a copy of the plan with other legs, and says where it is; nil where there is no plan at hand.
	Copy func(route.Route) (file string, err error)
}

// Run shows the screen until the person quits or the context ends, and returns
// the last snapshot.
func Run(ctx context.Context, c Config, options ...tea.ProgramOption) (keeper.Snapshot, error) {
	watched, stop := context.WithCancel(ctx)
	defer stop()
	p := framed.New(ctx, newRoot(ctx, c), framesPerSecond, options...)
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
	ticked       struct{}
	commanded    struct {
		id  int // of what was asked
		err error
	}
	answered struct{ answer any } // to something that was to be read
)

// How the screen keeps time.
const (
	tickEvery       = 500 * time.Millisecond // ages grow even if no snapshot comes
	pastEvery       = 100 * time.Millisecond // the past passes on the screen
	saidFor         = 8 * time.Second        // how long a message stays
	framesPerSecond = 60                     // at most: what has not changed is not painted
)

// root is the only model. What it shows is the page's; what it knows is the last snapshot, the
// time, and what the person is about to do.
type root struct {
	Config
	ctx   context.Context
	theme theme.Theme
	w, h  int

	pages []frame.Page // beside the table of [pages]
	at    int          // the one that is shown
	mode  mode         // what has the keys
	legs  route.Route  // that a person has named for the next crossing; nil for the plan's

	snapshot keeper.Snapshot
	clock    clock
	flying   []flying // commands that have not been answered
	sent     int      // commands so far
	leaving  bool     // as soon as they are
	presses  presses
	said     said
	openedAt time.Time // when the page that is looked at was opened last
	rung     uint64    // the last question or freeze that the bell was rung for
}

// said is what the screen has to tell the person at the keys, for a while.
type said struct {
	frame.Notice
	at    time.Time // of our clock
	stays bool      // until a key is pressed
}

func newRoot(ctx context.Context, c Config) root {
	if c.Clock == nil {
		c.Clock = time.Now
	}
	r := root{Config: c, ctx: ctx, theme: theme.New(c.Theme != "light"), mode: watching{}}
	for _, p := range pages {
		r.pages = append(r.pages, p.new())
	}
	r.clock.pass(c.Clock())
	return r
}

// Init asks for the terminal's background and starts the clock.
func (r root) Init() tea.Cmd {
	if r.Theme != "" {
		return tick()
	}
	return tea.Batch(tick(), tea.RequestBackgroundColor)
}

func tick() tea.Cmd { return tickIn(tickEvery) }

func tickIn(d time.Duration) tea.Cmd { return tea.Tick(d, func(time.Time) tea.Msg { return ticked{} }) }

// tick is the clock's next one: sooner while the past passes.
func (r root) tick() tea.Cmd {
	if b, ok := r.mode.(looksBack); ok && b.speed > 0 {
		return tickIn(pastEvery)
	}
	return tick()
}

// Update takes a message in.
func (r root) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	r.clock.pass(r.Clock())
	switch m := msg.(type) {
	case tea.WindowSizeMsg:
		r.w, r.h = m.Width, m.Height
	case tea.BackgroundColorMsg:
		r.theme = theme.New(m.IsDark())
	case snapshotRead:
		return r.reads(m.snapshot)
	case ticked:
		r.mode = r.mode.lapse(r)
		r, again := r.readAgain()
		return r, tea.Batch(r.tick(), again)
	case commanded:
		return r.commanded(m)
	case answered:
		return r.take(m.answer), nil
	case settled:
		return r.settled(m)
	case tea.KeyPressMsg:
		return r.pressed(m)
	case tea.PasteMsg:
		r.presses = presses{} // what is pasted asks for nothing
		if t, ok := r.mode.(typing); ok {
			r.mode = t.pasted(m)
		}
		if f, ok := r.mode.(finding); ok {
			return r.take(frame.Typed(f.input.Value())), nil
		}
	}
	return r, nil
}

// readAgain opens the page that is looked at again when it is time to.
func (r root) readAgain() (root, tea.Cmd) {
	p, ok := r.pages[r.at].(frame.Reader)
	if !ok || r.clock.ours.Sub(r.openedAt) < p.Every() {
		return r, nil
	}
	return r.open(p)
}

// reads takes a snapshot in.
func (r root) reads(s keeper.Snapshot) (root, tea.Cmd) {
	before := r.snapshot.Crossing.Wheel
	if !s.At.Equal(r.snapshot.At) { // else it is the last one again, of a keeper that does not answer
		r.clock.heard(s.At)
	}
	r.snapshot = s
	if w := s.Crossing.Wheel; !before.Vacant() && before.Client == r.Identity && w.Client != r.Identity && !w.Vacant() {
		r = r.say(frame.Notice{Text: fmt.Sprintf("%s has taken the wheel from you: g g takes it back",
			words.Person(w.By, w.From)), Level: frame.Urgent})
		r.said.stays = true
	}
	r.flying = slices.DeleteFunc(slices.Clone(r.flying), func(f flying) bool { return f.answered })
	r.mode = r.mode.lapse(r)
	return r.ring()
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

// say tells the person at the keys something.
func (r root) say(n frame.Notice) root {
	r.said = said{Notice: n, at: r.clock.ours}
	return r
}

// take hands an answer to who wished for it.
func (r root) take(answer any) root {
	if shown, ok := answer.(interface{ show(root) root }); ok {
		return shown.show(r)
	}
	r.pages = slices.Clone(r.pages)
	for n, p := range r.pages {
		r.pages[n] = p.Take(answer)
	}
	return r
}

// read asks for something that takes its time.
func (r root) read(what func(context.Context, keeper.Client) any) tea.Cmd {
	ctx, client := r.ctx, r.Client
	return func() tea.Msg { return answered{what(ctx, client)} }
}

// copied has a copy of the plan written with other legs.
func (r root) copied(legs route.Route) tea.Cmd {
	write := r.Copy
	return func() tea.Msg {
		if write == nil {
			return answered{told{frame.Notice{Text: "there is no plan at hand that a copy could be made of",
				Level: frame.Soon}}}
		}
		file, err := write(legs)
		if err != nil {
			return answered{told{frame.Notice{Text: "not written: " + err.Error(), Level: frame.Urgent}}}
		}
		return answered{told{frame.Notice{Text: "written: " + file + "; mv it over the plan to have it in force"}}}
	}
}

// told is something to tell the person at the keys.
type told struct{ frame.Notice }

func (t told) show(r root) root { return r.say(t.Notice) }

// frame is what the pages are given.
func (r root) frame() frame.Frame {
	f := frame.Frame{Theme: r.theme, W: r.w, H: r.h, S: r.snapshot, Now: r.clock.now(),
		Others: r.canTakeWheel()}
	if i, ok := r.mode.(intent); ok && i.ghost {
		f.Ghost, f.Moved = shareOf(i.command.Act), true
	}
	return f
}

// seen is what the screen knows beside the snapshot.
func (r root) seen() situation.Seen {
	s := situation.Seen{Trouble: r.snapshot.Trouble, Heard: r.clock.lastHeard()}
	if n := slices.IndexFunc(r.flying,
		func(f flying) bool { _, back := f.command.Act.(crossing.Back); return back }); n >= 0 {
		s.Asked = r.clock.theirs(r.flying[n].at)
	}
	return s
}

// clock is the time of the keeper, as far as it can be told here, and our own. Ours may stand
// differently, or be set.
type clock struct {
	ours    time.Time       // now
	heardAt time.Time       // when the last snapshot came, by ours
	ahead   []time.Duration // by how much the last snapshots' times were ahead of ours
}

// offsets is of how many snapshots the difference of the clocks is told: of the one that came
// with the least delay.
const offsets = 8

func (c *clock) pass(now time.Time) { c.ours = now }

func (c *clock) heard(at time.Time) {
	c.heardAt = c.ours
	c.ahead = append(slices.Clone(c.ahead[max(0, len(c.ahead)-offsets+1):]), at.Sub(c.ours))
}

// theirs is a time of our clock, by the keeper's.
func (c clock) theirs(at time.Time) time.Time {
	if len(c.ahead) == 0 {
		return at
	}
	return at.Add(slices.Max(c.ahead))
}

func (c clock) now() time.Time { return c.theirs(c.ours) }

func (c clock) lastHeard() time.Time {
	if c.heardAt.IsZero() {
		return time.Time{}
	}
	return c.theirs(c.heardAt)
}

// wanted is the share whose change a person would look at: the one that is named, else ours
// that somebody else changed, else the next leg's.
func (r root) wanted() split.Share {
	c := r.snapshot.Crossing
	f := r.frame()
	switch {
	case f.Moved:
		return f.Ghost
	case c.Foreign:
		return c.Ours
	case c.Stage.UnderWay():
		if leg, ok := c.Next(); ok {
			return c.LegShare(leg)
		}
		return c.Home()
	case len(r.snapshot.Planned) > 0:
		return split.Toward(r.snapshot.Live.Other(), r.snapshot.Planned[0].Part)
	}
	return r.snapshot.Front.Split.Share
}

// flying is a command on its way to the keeper.
type flying struct {
	id       int
	command  keeper.Command
	at       time.Time // asked, by our clock
	answered bool      // and not to be seen in a snapshot yet
}

// send sends a command; what was asked is on the screen with the next frame.
func (r root) send(c keeper.Command) (root, tea.Cmd) {
	c.By, c.Seen = r.By, r.snapshot.Crossing.Seq
	if order := r.snapshot.Front.Order.Generation; r.snapshot.Ready {
		c.As = &order
	}
	if begin, ok := c.Act.(crossing.Begin); ok {
		begin.Route, r.legs = r.legs, nil
		c.Act = begin
	}
	r.sent++
	r.flying = append(slices.Clone(r.flying), flying{id: r.sent, command: c, at: r.clock.ours})
	r.said = said{}
	ctx, client, id := r.ctx, r.Client, r.sent
	return r, func() tea.Msg {
		_, err := client.Do(ctx, c)
		return commanded{id, err}
	}
}

// commanded takes the answer to a command.
func (r root) commanded(m commanded) (root, tea.Cmd) {
	n := slices.IndexFunc(r.flying, func(f flying) bool { return f.id == m.id })
	if n < 0 {
		return r, nil
	}
	command := r.flying[n].command
	r.flying = slices.Clone(r.flying)
	if r.flying[n].answered = true; m.err != nil {
		r.flying = slices.Delete(r.flying, n, n+1)
	}
	nobody, forced := crossing.Refused[crossing.NobodyThere](m.err)
	switch {
	case forced:
		return r.forced(nobody.Serving), nil
	case m.err != nil:
		r = r.say(frame.Notice{Text: asking(command) + ": " + reason(m.err), Level: frame.Soon})
	}
	if r.leaving && len(r.unanswered()) == 0 {
		return r, tea.Quit
	}
	return r, nil
}

func (r root) unanswered() []flying {
	return slices.DeleteFunc(slices.Clone(r.flying), func(f flying) bool { return f.answered })
}

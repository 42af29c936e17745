package tui

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"vaiven/internal/core/forecast"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/difference"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/core/wayout"
	"vaiven/internal/front"
	"vaiven/internal/keeper"
	"vaiven/internal/plan/tryout"
	"vaiven/internal/proving/pairs"
	"vaiven/lab/testkit"
)

// client takes commands and remembers them.
type client struct {
	mu       sync.Mutex
	commands []keeper.Command
	err      error
	snapshot keeper.Snapshot
	offers   []keeper.Offer
	book     keeper.Logbook
	events   map[int][]crossing.Event
	recorded map[int][]byte
}

func (c *client) Do(_ context.Context, command keeper.Command) (uint64, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.commands = append(c.commands, command)
	return 0, c.err
}

func (c *client) Snapshots(ctx context.Context) <-chan keeper.Snapshot {
	ch := make(chan keeper.Snapshot, 1)
	ch <- c.snapshot
	context.AfterFunc(ctx, func() { close(ch) })
	return ch
}

func (c *client) Events(context.Context, uint64) <-chan crossing.Event { return nil }

func (c *client) Logbook(context.Context) (keeper.Logbook, error) { return c.book, nil }

func (c *client) EventsOf(_ context.Context, number int, _ uint64) (keeper.Told, error) {
	return keeper.Told{Events: c.events[number]}, nil
}

func (c *client) Recorded(_ context.Context, number int) ([]byte, error) {
	if data, ok := c.recorded[number]; ok {
		return data, nil
	}
	return nil, fmt.Errorf("crossing %d: %w", number, keeper.ErrNotRecorded)
}

func (c *client) Evidence(context.Context) ([]guard.Story, error) { return nil, nil }

func (c *client) Rehearse(context.Context) (wayback.Rehearsal, error) {
	return wayback.Rehearsal{At: time.Now(), Took: 4 * time.Millisecond,
		Steps: []wayback.Step{{What: "read what is in force", Took: 4 * time.Millisecond}}}, nil
}

func (c *client) Clients(context.Context) (forecast.Clients, error) {
	return forecast.Clients{Of: 40, Span: 60, Asks: []float64{0.1, 0.4, 2}}, nil
}

func (c *client) Tryout(context.Context) (tryout.Report, string, error) {
	return tryout.Report{}, "client", errors.New("the plan names no access log")
}

func (c *client) Foresee(_ context.Context, share split.Share) (front.Change, error) {
	return front.Change{From: 500, Wanted: share, Reached: share,
		Steps: []string{"set server sailings/green1 weight 3"}, Connections: "every connection stays open",
		Usually: 2 * time.Millisecond}, nil
}

func (c *client) Versions(context.Context) ([]keeper.Offer, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.offers, c.err
}

func (c *client) taken() []keeper.Command {
	c.mu.Lock()
	defer c.mu.Unlock()
	return append([]keeper.Command(nil), c.commands...)
}

var start = time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)

// desk is a screen with somebody at its keys.
type desk struct {
	t      *testing.T
	root   root
	client *client
	now    time.Time
	quit   bool
	rings  int           // how often the bell rang
	off    time.Duration // by how much the keeper's clock is ahead
}

func newDesk(t *testing.T, s crossing.State) *desk {
	t.Helper()
	d := &desk{t: t, client: &client{}, now: start}
	d.root = newRoot(t.Context(),
		Config{Client: d.client, By: "marit", Version: "4.3.0", Theme: "dark",
			Clock: func() time.Time { return d.now }})
	d.send(tea.WindowSizeMsg{Width: 142, Height: 38})
	d.show(s)
	return d
}

func (d *desk) show(s crossing.State) {
	snapshot := keeper.Snapshot{View: engine.View{At: d.now, Service: "sailings", Crossing: s, Live: split.Blue,
		Planned: legs}}
	snapshot.Sides[split.Blue].Instances = []reading.Condition{{Instance: reading.Instance{Name: "blue-1", Part: "web",
		Version: "4.2.0", Build: "7c1e40d9a0b1", Running: true}}}
	snapshot.Front.Split.Share, snapshot.Front.At, snapshot.Front.Every = s.Share, d.now, 500*time.Millisecond
	snapshot.Traffic.Rate, snapshot.Guarding = 300, forecast.Guarding{Margin: 0.005, Level: 0.0024, Blocks: 4200}
	d.send(snapshotRead{snapshot})
}

// snapshot shows the last snapshot with a change.
func (d *desk) snapshot(change func(*keeper.Snapshot)) {
	s := d.root.snapshot
	change(&s)
	d.send(snapshotRead{s})
}

// send delivers a message, and runs the commands that it leads to.
func (d *desk) send(m tea.Msg) {
	d.t.Helper()
	model, cmd := d.root.Update(m)
	d.root = model.(root)
	if cmd == nil {
		return
	}
	switch result := cmd().(type) {
	case commanded, answered, settled:
		d.send(result)
	case tea.RawMsg:
		d.rings++
	case tea.QuitMsg:
		d.quit = true
	}
}

// sees shows a state, and reports whether the bell rang for it.
func (d *desk) sees(s crossing.State) bool {
	before := d.rings
	d.show(s)
	return d.rings > before
}

func (d *desk) press(keys ...string) {
	d.t.Helper()
	special := map[string]tea.Key{
		"left": {Code: tea.KeyLeft}, "right": {Code: tea.KeyRight},
		"shift+right": {Code: tea.KeyRight, Mod: tea.ModShift},
		"enter":       {Code: tea.KeyEnter}, "up": {Code: tea.KeyUp}, "down": {Code: tea.KeyDown},
		"esc": {Code: tea.KeyEscape}, "space": {Code: tea.KeySpace, Text: " "},
		"ctrl+r": {Code: 'r', Mod: tea.ModCtrl}, "ctrl+c": {Code: 'c', Mod: tea.ModCtrl},
		"backspace": {Code: tea.KeyBackspace},
	}
	for _, k := range keys {
		d.now = d.now.Add(80 * time.Millisecond) // as hands are
		key, ok := special[k]
		if !ok {
			key = tea.Key{Code: []rune(k)[0], Text: k}
		}
		d.send(tea.KeyPressMsg(key))
	}
}

func (d *desk) pass(wait time.Duration) {
	d.now = d.now.Add(wait)
	d.send2(ticked{})
}

// send2 delivers a message whose command is a timer that nobody waits for.
func (d *desk) send2(m tea.Msg) {
	model, _ := d.root.Update(m)
	d.root = model.(root)
}

func (d *desk) screen() string { return ansi.Strip(d.root.View().Content) }

func (d *desk) shows(what ...string) {
	d.t.Helper()
	for _, w := range what {
		if !strings.Contains(d.screen(), w) {
			d.t.Errorf("the screen does not show %q:\n%s", w, d.screen())
		}
	}
}

// did holds the commands so far against what was wanted.
func (d *desk) did(want ...string) {
	d.t.Helper()
	var got []string
	for _, c := range d.client.taken() {
		text := c.Act.About().Name
		switch a := c.Act.(type) {
		case crossing.Steer:
			text += " " + a.Share.String()
		case crossing.Begin:
			text += fmt.Sprintf(" %s hold=%v", a.Version, a.Hold)
		case crossing.Retire:
			text += " " + a.Typed
		case crossing.Yes:
			text += fmt.Sprint(" ", a.Question)
		case crossing.Next:
			text += fmt.Sprint(" ", a.Leg)
		case crossing.Back:
			if a.Force {
				text += " with force"
			}
		}
		if c.By != "marit" {
			d.t.Errorf("%s is by %q", text, c.By)
		}
		got = append(got, text)
	}
	if strings.Join(got, ", ") != strings.Join(want, ", ") {
		d.t.Errorf("did %q, want %q", got, want)
	}
}

var legs = route.Route{{Part: 500}, {Part: split.Whole}}

var shifting = crossing.State{
	Stage: crossing.Shifting, Number: 18, Target: split.Green, Version: "4.3.0", Route: legs, Share: 2500, Leg: -1,
	Proven: true, Moved: true,
}

func TestGoingBackTakesTwoPresses(t *testing.T) {
	d := newDesk(t, shifting)
	d.press("b")
	d.shows("▲ b again within 2 s: all requests to blue at once: green has 25 % now")
	d.did()
	d.pass(3 * time.Second)
	d.press("b") // too late: the first of a new pair
	d.did()
	d.press("b")
	d.did("back")
	d.press("b", "n", "b", "n") // another key between them
	d.did("back")
}

// Where there is nothing to roll back, it says why.
func TestNothingToRollBack(t *testing.T) {
	d := newDesk(t, crossing.State{})
	d.press("b", "b")
	d.shows("there is nothing to roll back: no crossing is under way")
	settled := shifting
	settled.Stage, settled.Share = crossing.Settled, split.Whole
	d.show(settled)
	d.snapshot(func(s *keeper.Snapshot) { s.Sides[split.Blue].Instances = nil })
	d.press("b", "b")
	d.shows("there is nothing to roll back to: blue has been retired")
	d.root.snapshot = keeper.Snapshot{}
	d.press("b", "b")
	d.shows("▲ the keeper has said nothing yet", "vaiven back PLAN in another terminal")
	d.did()
}

func TestGoingBackWorksFromEveryView(t *testing.T) {
	d := newDesk(t, shifting)
	d.press("?", "b", "b")
	d.did("back")
	d.press("right", "right", "b", "b")
	d.did("back", "back")
	kept := shifting
	kept.Stage, kept.Share = crossing.Keeping, split.Whole
	d.show(kept)
	d.press("x", "b", "b") // letters of what is typed
	d.did("back", "back")
	d.press("ctrl+r", "ctrl+r")
	d.did("back", "back", "back")
	raising := crossing.State{Stage: crossing.Raising, Target: split.Green, Route: legs}
	d.show(raising)
	d.press("b")
	d.shows("call off")
	settled := shifting
	settled.Stage, settled.Share = crossing.Settled, split.Whole
	d = newDesk(t, settled) // the old side still stands
	d.press("b", "b")
	d.did("back")
	d.snapshot(func(s *keeper.Snapshot) { s.Sides[split.Blue].Instances = nil })
	d.press("b", "b")
	d.did("back")
}

func TestSteeringMovesAGhostAndThenTheShare(t *testing.T) {
	d := newDesk(t, shifting)
	d.press("right", "right", "shift+right")
	d.shows("enter: 36 % on green (new side), 108 of 300 requests/s", "→ 36 %", "is found after ~")
	d.press("esc")
	if strings.Contains(d.screen(), "→ 36 %") {
		t.Error("cancelled, the ghost is still there")
	}
	d.did()
	d.press("left", "enter")
	d.did("steer 20 %")
	for range 30 {
		d.press("right")
	}
	d.shows("→ 100 %")
	back := shifting
	back.GoingBack = true
	d.show(back) // it goes back under our hands
	d.press("enter")
	d.did("steer 20 %")
}

// Where the live side is dead, one key shows what it is to send all forward, and another does it.
func TestForward(t *testing.T) {
	d := newDesk(t, shifting)
	d.press("f") // nothing is the matter
	d.press("enter")
	d.did()
	d.snapshot(func(s *keeper.Snapshot) {
		s.WaysOut = []wayout.Way{{Do: wayout.Forward, Share: split.Whole,
			Rate: 40}}
	})
	d.press("f")
	d.shows("enter: all to green, ~0 of 40 /s fail", "f forward: all to green")
	d.did()
	d.press("enter")
	d.did("steer 100 %")
}

// offers are what there is to choose from.
var offers = []keeper.Offer{{
	Part: "web",
	Versions: []raise.Version{
		{Name: "4.3.0", ID: "b92f1a7e0c1d", At: start.Add(-26 * time.Hour)},
		{Name: "4.2.0", ID: "7c1e40d9a0b1", At: start.Add(-100 * time.Hour)},
	},
	Past: []crossing.Past{{Number: 7, Version: "4.3.0", Build: "b92f1a7e0c1d", Stage: crossing.RolledBack}},
}}

// A part with versions of its own is asked for, unless it has the same version.
func TestVersionsAreChosenPartByPart(t *testing.T) {
	d := newDesk(t, crossing.State{})
	d.client.offers = append(offers,
		keeper.Offer{Part: "worker", Versions: []raise.Version{{Name: "2.2", ID: "aa"}, {Name: "2.1", ID: "bb"}}})
	d.press("s", "enter")
	d.shows("2.2", "2.1")
	d.press("down", "enter")
	if got := d.client.taken(); len(got) != 1 || got[0].Act.(crossing.Begin).Version != "4.3.0" ||
		got[0].Act.(crossing.Begin).Versions["worker"] != "2.1" {
		t.Errorf("it began %+v", got)
	}
	// Without any versions there is nothing to choose, and it says why.
	d.client.err = errors.New("the registry is closed")
	d.press("s")
	d.shows("versions: the registry is closed")
}

// The pages have a cursor, checks are made again from them, and going back works on
// each.
func TestPages(t *testing.T) {
	d := newDesk(t, shifting)
	d.snapshot(func(s *keeper.Snapshot) {
		s.Parts = []engine.Part{{Name: "web", Wanted: [2]int{1, 1}}}
		s.Sides[split.Green].Instances = []reading.Condition{{Instance: reading.Instance{Name: "green-1", Part: "web",
			Running: true}, State: reading.Healthy, At: start, Since: start}}
		s.Proof.Results = []proof.Result{
			{Part: "web", Kind: proof.KindSmoke, Check: "search", Instance: "green-1", Pass: true, Got: "status 200",
				At: start},
			{Part: "web", Kind: proof.KindNeed, Check: "fares", Instance: "green-1", Want: "a connection",
				Got: "connection refused after 2ms; reached from blue in 3ms", Answer: "dial tcp", At: start},
		}
		s.About.Differences = difference.Report{Compared: 9, List: []difference.Difference{
			{Part: "web", Area: difference.Environment, Name: "REGION", Value: [2]string{"north", "south"},
				Has: [2]bool{true, true}},
			{Part: "web", Area: difference.Build, Value: [2]string{"7c1e", "b92f"}, Has: [2]bool{true, true},
				Meant: true},
		}}
	})
	d.press("p")
	d.shows("proof of GREEN", "needs fares", "reached from blue in 3ms", "k check again")
	d.press("k", "up", "k", "K")
	var cells []string
	for _, c := range d.client.taken() {
		cells = append(cells, c.Act.(crossing.Prove).Check.Check)
	}
	if want := []string{"fares", "search", ""}; !slices.Equal(cells, want) {
		t.Errorf("did %q, want %q", cells, want)
	}
	d.press("d")
	d.shows("differences", "◇ environment REGION", "north", "south", "1 planned differences")
	d.press("m")
	d.shows("planned: build", "7c1e")
	d.press("right", "enter") // steers nothing here
	d.press("b")
	d.shows("b again within 2 s")
	d.press("b", "d")
	d.shows("guards")
	if got := d.client.taken(); got[len(got)-1].Act.About().Name != "back" {
		t.Errorf("the last command is %+v", got[len(got)-1])
	}
}

func TestKeysFollowTheState(t *testing.T) {
	d := newDesk(t, crossing.State{})
	d.shows("s start a crossing", "s starts a crossing (4.3.0 is new)")
	d.press("n", "a", "space", "x", "left", "enter", "b", "b")
	d.did()
	d.client.offers = offers
	d.press("s")
	d.shows("which version is to be raised?", "▸ 4.3.0", "crossing 7: rolled back", "live on blue")
	d.press("4", ".", "2", "enter")
	d.did("begin 4.2.0 hold=true")
	d.press("s", "esc", "s", "q", "enter") // q is a letter here, and nothing fits it
	d.shows("none fits what you typed")
	d.press("esc", "s", "down", "enter")
	d.did("begin 4.2.0 hold=true", "begin 4.2.0 hold=true")

	asking := shifting
	asking.Question = crossing.Question{ID: 41, Side: split.Green, Is: crossing.AskLeg{Step: crossing.Step{Leg: 1,
		Part: split.Whole}}}
	d = newDesk(t, asking)
	d.shows("a yes: 100 %", "◇ go on to 100 % on green?  a answers")
	d.press("n", "enter") // is not offered while a question stands
	d.press("a")
	d.shows("enter: 100 % on green (new side), 300 of 300 requests/s")
	d.did()
	d.press("enter")
	d.did("yes 41")

	d = newDesk(t, shifting)
	d.shows("n 100 % now")
	d.press("n", "enter", "space")
	frozen := shifting
	frozen.Freezes = []crossing.Freezing{{ID: 7, Cause: crossing.Because(crossing.ByHand{})}}
	d.show(frozen)
	d.shows("space resume")
	d.pass(time.Second)
	d.press("space")
	d.shows("enter: resume")
	d.press("enter")
	d.did("next 1", "freeze", "resume")

	over := shifting
	over.Stage, over.Share = crossing.RolledBack, 0
	d = newDesk(t, over)
	d.snapshot(func(s *keeper.Snapshot) { s.Sides[split.Green].Instances = s.Sides[split.Blue].Instances })
	d.shows("x retire green")
	d.press("x")
	d.shows("type the service's name (sailings)")
	for _, c := range "sailings" {
		d.press(string(c))
	}
	d.press("enter")
	d.did("retire sailings")
}

// What moves traffic takes two different keys, the second answers what was named and nothing
// else: a key that is held down does nothing, however the questions follow each other.
func TestAHeldKeyMovesNothing(t *testing.T) {
	first := shifting
	first.Question = crossing.Question{ID: 41, Side: split.Green, Is: crossing.AskLeg{Step: crossing.Step{Part: 500}}}
	second := shifting
	second.Question = crossing.Question{ID: 52, Side: split.Green, Is: crossing.AskLeg{Step: crossing.Step{Leg: 1,
		Part: split.Whole}}}
	d := newDesk(t, first)
	d.press("a")
	d.show(second) // another question under our hands
	d.press("enter")
	d.did()
	for _, k := range []string{"a", "n", "space", "o", "right", "enter"} {
		d = newDesk(t, shifting)
		for range 40 {
			d.press(k)
		}
		if got := d.client.taken(); k != "space" && len(got) > 0 || len(got) > 40 ||
			slices.ContainsFunc(got,
				func(c keeper.Command) bool { _, freezes := c.Act.(crossing.Freeze); return !freezes }) {
			t.Errorf("holding %s did %v", k, got)
		}
	}
	d = newDesk(t, second)
	d.press("a")
	d.pass(lapses + time.Second)
	d.press("enter") // it has lapsed
	d.did()
	d.press("a", "esc", "enter")
	d.did()
	d.press("right", "p", "enter") // Enter on another page
	d.did()
	d.press("c", "a")
	d.send(tea.KeyPressMsg(tea.Key{Code: tea.KeyEnter, IsRepeat: true}))
	d.did()
	for _, k := range "vessa" { // pasted, with the end of its line
		d.send(tea.KeyPressMsg(tea.Key{Code: k, Text: string(k)}))
	}
	d.press("esc", "esc")
	for _, k := range "xya" {
		d.send(tea.KeyPressMsg(tea.Key{Code: k, Text: string(k)}))
	}
	d.send(tea.KeyPressMsg(tea.Key{Code: tea.KeyEnter}))
	d.shows("Enter came with pasted text: once more")
	d.did()
	d.press("enter", "enter", "enter")
	d.did("yes 52")
}

// b b counts at any gap, and not out of a paste, a held key or a burst.
func TestHowBBIsPressed(t *testing.T) {
	press := func(d *desk, gap time.Duration, keys ...tea.Key) {
		for n, k := range keys {
			if n > 0 {
				d.now = d.now.Add(gap)
			}
			model, cmd := d.root.Update(tea.KeyPressMsg(k))
			d.root = model.(root)
			if cmd != nil {
				if _, waits := d.root.mode.(watching); waits && d.root.presses.pending > 0 {
					defer d.send(settled{d.root.presses.pending}) // after what follows at once
					continue
				}
				d.send(cmd())
			}
		}
	}
	b := tea.Key{Code: 'b', Text: "b"}
	held := b
	held.IsRepeat = true
	letter := func(r rune) tea.Key { return tea.Key{Code: r, Text: string(r)} }
	for _, c := range []struct {
		name string
		gap  time.Duration
		keys []tea.Key
		back bool
	}{
		{"at once", 0, []tea.Key{b, b}, true},
		{"by a hand", 120 * time.Millisecond, []tea.Key{b, b}, true},
		{"after two seconds", 2 * time.Second, []tea.Key{b, b}, true},
		{"too late", 2001 * time.Millisecond, []tea.Key{b, b}, false},
		{"held, as the terminal tells", 30 * time.Millisecond, []tea.Key{b, held, held, held}, false},
		{"in a burst with others", time.Millisecond, []tea.Key{letter('x'), letter('y'), b, b}, false},
		{"held up with one key before", time.Millisecond, []tea.Key{letter('r'), b, b}, true},
		{"in the middle of a word in a burst", time.Millisecond, []tea.Key{letter('a'), b, b, letter('e')}, false},
		{"in a burst before others", time.Millisecond, []tea.Key{b, b, letter('l'), letter('y')}, false},
		{"Caps Lock", 120 * time.Millisecond,
			[]tea.Key{{Code: 'b', Text: "B", Mod: tea.ModCapsLock},
				{Code: 'b', Text: "B", ShiftedCode: 'B', Mod: tea.ModShift}}, true},
		{"Cyrillic", 120 * time.Millisecond, []tea.Key{letter('и'), letter('И')}, true},
		{"Cyrillic, as the terminal tells", 120 * time.Millisecond,
			[]tea.Key{{Code: 'и', BaseCode: 'b', Text: "и"}, {Code: 'и', BaseCode: 'b', Text: "и"}}, true},
		{"Greek", 120 * time.Millisecond, []tea.Key{letter('β'), letter('β')}, true},
		{"another letter", 120 * time.Millisecond, []tea.Key{letter('v'), letter('v')}, false},
	} {
		d := newDesk(t, shifting)
		func() { press(d, c.gap, c.keys...) }()
		if got := d.client.taken(); len(got) == 1 != c.back {
			t.Errorf("%s: did %v", c.name, got)
		}
		if strings.Contains(c.name, "burst") {
			d.shows("▲ not rolled back: b came together with other characters")
			d.press("b", "b") // by hand
			d.did("back")
		}
	}
	d := newDesk(t, shifting)
	d.press("b")
	d.send(tea.PasteMsg{Content: "b b b"})
	d.press("b")
	d.did()
}

// What was asked is on the screen with the next frame, whatever the keeper and the front do;
// leaving never waits without a word.
func TestWhatWasAskedIsShownAtOnce(t *testing.T) {
	d := newDesk(t, shifting)
	ask := func(keys ...string) { // nobody answers
		for _, k := range keys {
			d.now = d.now.Add(80 * time.Millisecond)
			d.send2(tea.KeyPressMsg(tea.Key{Code: rune(k[0]), Text: k}))
		}
	}
	ask("b", "b")
	d.shows("▲ rolling back to blue: asked 0.0 s ago, the front has not confirmed")
	d.snapshot(func(s *keeper.Snapshot) {
		for n := range 4 {
			s.Track = append(s.Track,
				engine.Point{At: d.now.Add(time.Duration(n) * time.Second), All: 100, Failing: 71})
		}
	})
	d.pass(3 * time.Second)
	d.shows("asked 3.0 s ago, the front has not confirmed; 284 requests failed since")
	ask("q")
	d.shows("▲ roll back: asked 3.1 s ago, not answered yet. q again leaves without waiting")
	if d.quit {
		t.Error("it left at the first q")
	}
	if d.press("q"); !d.quit {
		t.Error("it did not leave at the second q")
	}
	d = newDesk(t, shifting)
	ask(" ")
	d.pass(2 * time.Second)
	d.shows("freeze: asked 2.0 s ago")
}

// Our clock may stand differently from the keeper's, and either may be set.
func TestClocks(t *testing.T) {
	d := newDesk(t, shifting)
	ages := func(what string, want ...string) {
		t.Helper()
		for n := range 10 { // the last snapshots tell how the clocks differ
			d.pass(500 * time.Millisecond)
			at := d.now.Add(-time.Duration(n%2) * 100 * time.Millisecond)
			d.snapshot(func(s *keeper.Snapshot) {
				s.At, s.Front.At = at.Add(d.off),
					at.Add(d.off-300*time.Millisecond)
			})
		}
		d.pass(400 * time.Millisecond)
		d.shows(want...)
	}
	ages("the same", "read 0.8 s ago")
	d.off = -time.Hour
	ages("the keeper's is behind", "read 0.8 s ago")
	d.off = time.Hour
	ages("and ahead", "read 0.8 s ago")
	d.now = d.now.Add(-2 * time.Hour)
	ages("ours was set back", "read 0.8 s ago")
	for range 18 { // the last snapshot again says nothing of now
		d.pass(500 * time.Millisecond)
		d.snapshot(func(*keeper.Snapshot) {})
	}
	d.shows("the keeper has not answered for 9s: what is shown is old. b b rolls back without it", "read 9.8 s ago")
}

// What nobody has read or judged for a while is not shown as if it were so.
func TestWhatIsOldLooksOld(t *testing.T) {
	d := newDesk(t, shifting)
	d.now = now
	d.send(snapshotRead{sample()})
	d.shows("● OPEN", "● blue-1")
	for range 26 {
		d.pass(500 * time.Millisecond)
	}
	d.shows("the keeper has not answered for 1", "○ was open 1", "○ blue-1", "live, not read for 1")
}

// A yes shows all that it accepts: what differs, both values, and how often.
func TestAYesShowsWhatItAccepts(t *testing.T) {
	asks := shifting
	asks.Stage = crossing.Proving
	asks.Question = crossing.Question{ID: 9, Is: crossing.AskFindings{Findings: []proof.Finding{{Check: "differences",
		Instance: "green", Want: "none",
		Got: "2: environment REGION, file fares.conf"},
		{Check: "same request", Instance: "green", Want: "the same", Got: "7 of 40 differ"}}}}
	for _, size := range [][2]int{{142, 38}, {80, 24}} {
		d := newDesk(t, asks)
		d.send(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		d.snapshot(func(s *keeper.Snapshot) {
			s.About.Differences = difference.Report{Compared: 9, List: []difference.Difference{
				{Part: "web", Area: difference.Environment, Name: "REGION", Value: [2]string{"north", "south"},
					Has: [2]bool{true, true}},
			}}
			s.About.Pairs = pairs.Report{Pairs: 40,
				Findings: []pairs.Finding{{Request: "GET /sailings", What: "price", Value: [2]string{"12.50", "13.00"},
					Count: 7}}}
		})
		d.shows("◇ accept these 2 findings and go on?  a answers", "a see and accept")
		d.press("a")
		d.shows("a yes accepts all of this", "enter: accept these 2 findings and go on", "enter do it",
			"differences on green")
		for range 12 {
			d.press("down")
		}
		d.shows("price of GET /sailings, in 7 of 40 answers", "12.50", "13.00")
		for range 12 {
			d.press("up")
		}
		if size[1] == 38 {
			d.shows("environment REGION", "north", "south")
		}
		d.did()
		d.press("enter")
		d.did("yes 9")
	}
}

// A home where nobody serves takes a second word.
func TestGoingBackToNobody(t *testing.T) {
	d := newDesk(t, shifting)
	d.client.err = crossing.Refuse(crossing.NobodyThere{
		Serving: crossing.Serving{Known: true, Side: split.Blue, Instances: 3, Other: 3}})
	d.press("b", "b")
	d.shows("none of the 3 instances of blue is healthy, and 3 of green are. To send everything to blue all the " +
		"same, type blue: ")
	d.client.err = nil
	d.press("n", "o", "enter")
	d.did("back")
	d.client.err = crossing.Refuse(crossing.NobodyThere{
		Serving: crossing.Serving{Known: true, Side: split.Blue, Instances: 3, Other: 3}})
	d.press("b", "b")
	d.client.err = nil
	d.press("b", "l", "u", "e", "enter")
	d.did("back", "back", "back with force")
}

func TestARefusalIsShownAndGoesAway(t *testing.T) {
	d := newDesk(t, shifting)
	d.client.err = fmt.Errorf("%w: blue is on fire", crossing.ErrNotNow)
	d.press("n", "enter")
	d.shows("go to the next share now: blue is on fire")
	d.pass(saidFor + time.Second)
	if strings.Contains(d.screen(), "on fire") {
		t.Error("the refusal stays for ever")
	}
}

// Closing the screen stops nothing, so that it needs no second word.
func TestQuittingLeavesItToTheKeeper(t *testing.T) {
	for _, state := range []crossing.State{shifting, {}} {
		d := newDesk(t, state)
		if d.press("q"); !d.quit {
			t.Errorf("at %q one press did not quit", state.Stage)
		}
		if len(d.client.taken()) > 0 {
			t.Errorf("it said %v", d.client.taken())
		}
	}
}

// Who has the wheel stands on every page; it is taken by two presses of a key, and who loses it
// is told until they press one.
func TestTheWheel(t *testing.T) {
	theirs := shifting
	theirs.Wheel = crossing.Wheel{Client: "other", By: "marit", From: "quay2 pts/3",
		Since: time.Date(2026, 11, 26, 14, 2, 0, 0, time.Local)}
	d := newDesk(t, theirs)
	d.root.Identity = "mine"
	for _, page := range []string{"", "p", "d", "t"} {
		if page != "" {
			d.press(page)
		}
		d.shows("marit (quay2 pts/3) steers since 14:02")
	}
	d.press("esc", "g")
	d.shows("g again within 2 s: take the wheel. marit (quay2 pts/3) has the wheel since 14:02, and is told")
	d.did()
	d.press("g")
	d.did("take-wheel")
	mine := theirs
	mine.Wheel.Client = "mine"
	d.sees(mine)
	d.shows("you steer since 14:02")
	d.sees(theirs)
	d.shows("marit (quay2 pts/3) has taken the wheel from you: g g takes it back")
	d.pass(time.Hour)
	d.shows("has taken the wheel from you")
	d.press("?", "?")
	if strings.Contains(d.screen(), "has taken the wheel") {
		t.Error("it is said for ever")
	}
	vacant := theirs
	vacant.Wheel = crossing.Wheel{}
	d.sees(vacant)
	d.shows("wheel free")
	if d.press("g", "g"); len(d.client.taken()) != 1 {
		t.Errorf("a wheel that nobody has was taken: %v", d.client.taken())
	}
}

// A question rings once, and says since when it is open.
func TestAQuestionRings(t *testing.T) {
	d := newDesk(t, shifting)
	asks := shifting
	asks.Seq, asks.Question = 40, crossing.Question{ID: 40, At: d.now, Is: crossing.AskLeg{Step: crossing.Step{Leg: 2}}}
	for n := range 3 {
		if rang := d.sees(asks); rang != (n == 0) {
			t.Errorf("at the %d. sight of the question it rang: %v", n+1, rang)
		}
	}
	if strings.Contains(d.screen(), "(asked") {
		t.Error("a fresh question is said to be old")
	}
	d.pass(3 * time.Minute)
	d.sees(asks)
	d.shows("(asked 3m ago)")
	frozen := asks
	frozen.Freezes = []crossing.Freezing{{ID: 41, Cause: crossing.Because(crossing.ByHand{})}}
	if !d.sees(frozen) {
		t.Error("a freeze did not ring")
	}
}

func TestRehearsing(t *testing.T) {
	d := newDesk(t, shifting)
	d.snapshot(func(s *keeper.Snapshot) { s.WayBack.State = wayback.Open })
	d.press("h")
	d.shows("a rollback would take 4.0 ms: read what is in force 4.0 ms")
}

func TestHelpIsMadeFromTheKeys(t *testing.T) {
	d := newDesk(t, shifting)
	d.press("?")
	d.shows("steering moves (○) by 5 %", "100 % now", "roll back", "while you type or choose: ctrl+r ctrl+r", "proof",
		"the route to come")
	if strings.Contains(d.screen(), "start a crossing") {
		t.Error("the help names a key that does nothing now")
	}
	for _, k := range []string{"?", "q"} {
		if d.press(k); strings.Contains(d.screen(), "the route to come") || d.quit {
			t.Errorf("the help does not go away by %s", k)
		}
		d.press("?")
	}
}

// A whole program, from the first frame to a clean end, in a terminal without
// colours.
func TestTheProgramRunsAndEnds(t *testing.T) {
	c := &client{err: errors.New("not reached"),
		snapshot: keeper.Snapshot{View: engine.View{Service: "sailings", Planned: legs}}}
	in, out := io.Pipe()
	var screen terminal
	done := make(chan error, 1)
	go func() {
		_, err := Run(t.Context(), Config{Client: c, Theme: "dark"}, tea.WithInput(in), tea.WithOutput(&screen),
			tea.WithWindowSize(80, 24),
			tea.WithColorProfile(colorprofile.ASCII),
			tea.WithEnvironment([]string{"TERM=xterm-256color", "NO_COLOR=1"}), tea.WithoutSignals())
		done <- err
	}()
	testkit.Eventually(t, "the first frame",
		func() bool { return strings.Contains(screen.String(), "no crossing yet") })
	if _, err := out.Write([]byte("q")); err != nil {
		t.Fatal(err)
	}
	select {
	case err := <-done:
		if err != nil {
			t.Fatal(err)
		}
	case <-time.After(20 * time.Second):
		t.Fatal("it does not end")
	}
	if strings.Contains(screen.String(), "38;2;") {
		t.Error("colours were drawn where there are none")
	}
}

// terminal is what was written to one.
type terminal struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (t *terminal) Write(data []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.text.Write(data)
}

func (t *terminal) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.text.String()
}

// The route that a person has edited goes with the next crossing that is started, and with that alone;
// one that is under way goes on by it.
func TestAnEditedRoute(t *testing.T) {
	d := newDesk(t, crossing.State{})
	d.snapshot(func(s *keeper.Snapshot) {
		s.Planned = route.Route{{Part: 500, Dwell: time.Minute}, {Part: split.Whole}}
		s.Keep = time.Minute
	})
	d.press("r")
	d.shows("5 % for 1m", "100 % for 1m", "a fault of 5 % costs ~")
	d.press("right", "enter")
	d.shows("goes by 6 % for 1m; 100 %")
	r, _ := d.root.send(keeper.Command{Act: crossing.Begin{Version: "4.3.0"}})
	if first := r.flying[0].command.Act.(crossing.Begin).Route; len(first) != 2 || first[0].Part != 600 {
		t.Errorf("it begins by %v", first)
	}
	r, _ = r.send(keeper.Command{Act: crossing.Begin{Version: "4.3.0"}})
	if r.flying[1].command.Act.(crossing.Begin).Route != nil {
		t.Errorf("and once more by %v", r.flying[1].command.Act.(crossing.Begin).Route)
	}
}

// What "and 1 more" stands for can be read.
func TestAllReasons(t *testing.T) {
	frozen := shifting
	frozen.Freezes = []crossing.Freezing{
		{ID: 7, At: start, Cause: crossing.Because(crossing.ByHand{Why: "the pier is wet"})},
		{ID: 8, At: start, Cause: crossing.Because(crossing.Unwatched{Missed: 20 * time.Second})}}
	d := newDesk(t, frozen)
	d.press("i")
	d.shows("why it stands still", "the pier is wet", "nobody watched for 20s")
	d.press("esc")
	if strings.Contains(d.screen(), "why it stands still") {
		t.Error("the box is still there")
	}
}

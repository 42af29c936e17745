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

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/difference"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/core/wayout"
	"vaiven/internal/front"
	"vaiven/internal/keeper"
	"vaiven/internal/testkit"
	"vaiven/internal/tryout"
)

// client takes commands and remembers them.
type client struct {
	mu       sync.Mutex
	commands []keeper.Command
	err      error
	snapshot keeper.Snapshot
	offers   []keeper.Offer
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

func (c *client) Rehearse(context.Context) (wayback.Rehearsal, error) {
	return wayback.Rehearsal{At: time.Now(), Took: 4 * time.Millisecond, Steps: []wayback.Step{{What: "read what is in force", Took: 4 * time.Millisecond}}}, nil
}

func (c *client) Tryout(context.Context) (tryout.Report, string, error) {
	return tryout.Report{}, "client", errors.New("the plan names no access log")
}

func (c *client) Foresee(_ context.Context, share split.Share) (front.Change, error) {
	return front.Change{From: 500, Wanted: share, Reached: share, Steps: []string{"set server sailings/green1 weight 3"}, Connections: "every connection stays open", Usually: 2 * time.Millisecond}, nil
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
	rings  int // how often the bell rang
}

func newDesk(t *testing.T, s crossing.State) *desk {
	t.Helper()
	d := &desk{t: t, client: &client{}, now: start}
	d.root = newRoot(t.Context(), Config{Client: d.client, By: "marit", Version: "4.3.0", Theme: "dark"})
	d.send(tea.WindowSizeMsg{Width: 142, Height: 38})
	d.show(s)
	return d
}

func (d *desk) show(s crossing.State) {
	snapshot := keeper.Snapshot{View: engine.View{At: d.now, Service: "sailings", Crossing: s, Live: split.Blue, Planned: legs}}
	snapshot.Sides[split.Blue].Instances = []reading.Condition{{Instance: reading.Instance{Name: "blue-1", Part: "web", Version: "4.2.0", Build: "7c1e40d9a0b1", Running: true}}}
	snapshot.Front.Split.Share, snapshot.Front.At = s.Share, d.now
	snapshot.Traffic.Rate = 300
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
	case commanded:
		d.send(result)
	case versionsListed:
		d.send(result)
	case rehearsed:
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
		"left": {Code: tea.KeyLeft}, "right": {Code: tea.KeyRight}, "shift+right": {Code: tea.KeyRight, Mod: tea.ModShift},
		"enter": {Code: tea.KeyEnter}, "up": {Code: tea.KeyUp}, "down": {Code: tea.KeyDown}, "esc": {Code: tea.KeyEscape}, "space": {Code: tea.KeySpace, Text: " "},
		"ctrl+b": {Code: 'b', Mod: tea.ModCtrl}, "ctrl+c": {Code: 'c', Mod: tea.ModCtrl}, "backspace": {Code: tea.KeyBackspace},
	}
	for _, k := range keys {
		key, ok := special[k]
		if !ok {
			key = tea.Key{Code: rune(k[0]), Text: k}
		}
		d.send(tea.KeyPressMsg(key))
	}
}

func (d *desk) pass(wait time.Duration) {
	d.now = d.now.Add(wait)
	d.send2(ticked{d.now})
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
		text := string(c.Do)
		switch c.Do {
		case keeper.Steer:
			text += " " + c.Share.String()
		case keeper.Begin:
			text += fmt.Sprintf(" %s hold=%v", c.Version, c.Hold)
		case keeper.Retire:
			text += " " + c.Typed
		case keeper.Yes:
			text += fmt.Sprint(" ", c.Question)
		case keeper.Next:
			text += fmt.Sprint(" ", c.Leg)
		case keeper.Back:
			if c.Force {
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
	Stage: crossing.Shift, Number: 18, Target: split.Green, Version: "4.3.0", Route: legs, Share: 2500, Leg: -1, Proven: true, Moved: true,
}

func TestGoingBackTakesTwoPresses(t *testing.T) {
	d := newDesk(t, shifting)
	d.press("b")
	d.shows("b again within 2 s: all requests back to blue at once (25 % → 0 % on green)")
	d.did()
	d.pass(3 * time.Second)
	d.press("b") // too late: the first of a new pair
	d.did()
	d.press("b")
	d.did("back")
	d.press("b", "n", "b") // another key between them
	d.did("back", "next 1")
}

func TestGoingBackWorksFromEveryView(t *testing.T) {
	d := newDesk(t, shifting)
	d.press("?", "b", "b")
	d.did("back")
	d.press("right", "right", "b", "b")
	d.did("back", "back")
	kept := shifting
	kept.Stage, kept.Share = crossing.Keep, split.Whole
	d.show(kept)
	d.press("x", "b", "b") // letters of what is typed
	d.did("back", "back")
	d.press("ctrl+b", "ctrl+b")
	d.did("back", "back", "back")
	raising := crossing.State{Stage: crossing.Raise, Target: split.Green, Route: legs}
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
	d.shows("enter: 36 % on green", "→ 36 %", "would be seen for sure after ~")
	d.press("esc")
	if strings.Contains(d.screen(), "→ 36 %") {
		t.Error("let go, the ghost is still there")
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
	d.snapshot(func(s *keeper.Snapshot) { s.WaysOut = []wayout.Way{{Do: wayout.Forward, Share: split.Whole, Rate: 40}} })
	d.press("f")
	d.shows("enter: all to green, 0 of 40 /s fail. esc lets go", "f forward, all of it")
	d.did()
	d.press("enter")
	d.did("steer 100 %")
}

// offers are what there is to choose from.
var offers = []keeper.Offer{{
	Part: "web",
	Versions: []raise.Version{
		{Name: "4.3.0", ID: "b92f1a7e0c1d", At: start.Add(-26 * time.Hour)}, {Name: "4.2.0", ID: "7c1e40d9a0b1", At: start.Add(-100 * time.Hour)},
	},
	Past: []crossing.Past{{Number: 7, Version: "4.3.0", Build: "b92f1a7e0c1d", Stage: crossing.RolledBack}},
}}

// A part with versions of its own is asked for, unless it has the same version.
func TestVersionsAreChosenPartByPart(t *testing.T) {
	d := newDesk(t, crossing.State{})
	d.client.offers = append(offers, keeper.Offer{Part: "worker", Versions: []raise.Version{{Name: "2.2", ID: "aa"}, {Name: "2.1", ID: "bb"}}})
	d.press("s", "enter")
	d.shows("2.2", "2.1")
	d.press("down", "enter")
	if got := d.client.taken(); len(got) != 1 || got[0].Version != "4.3.0" || got[0].Versions["worker"] != "2.1" {
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
		s.Sides[split.Green].Instances = []reading.Condition{{Instance: reading.Instance{Name: "green-1", Part: "web", Running: true}, State: reading.Healthy, At: start, Since: start}}
		s.Proof.Results = []proof.Result{
			{Part: "web", Kind: proof.KindSmoke, Check: "search", Instance: "green-1", Pass: true, Got: "status 200", At: start},
			{Part: "web", Kind: proof.KindNeed, Check: "fares", Instance: "green-1", Want: "a connection", Got: "connection refused after 2ms; reached from blue in 3ms", Answer: "dial tcp", At: start},
		}
		s.About.Differences = difference.Report{Compared: 9, List: []difference.Difference{
			{Part: "web", Area: difference.Environment, Name: "REGION", Value: [2]string{"north", "south"}, Has: [2]bool{true, true}},
			{Part: "web", Area: difference.Build, Value: [2]string{"7c1e", "b92f"}, Has: [2]bool{true, true}, Meant: true},
		}}
	})
	d.press("p")
	d.shows("proof of GREEN", "needs fares", "reached from blue in 3ms", "r this once more")
	d.press("r", "up", "r", "R")
	var cells []string
	for _, c := range d.client.taken() {
		cells = append(cells, string(c.Do)+" "+c.Cell.Check)
	}
	if want := []string{"again fares", "again search", "prove "}; !slices.Equal(cells, want) {
		t.Errorf("did %q, want %q", cells, want)
	}
	d.press("d")
	d.shows("differences", "environment REGION", "north", "south", "1 more were meant")
	d.press("m")
	d.shows("meant: build", "7c1e")
	d.press("right") // steers nothing here
	d.press("b")
	d.shows("b again within 2 s")
	d.press("b", "d")
	d.shows("guards")
	if got := d.client.taken(); got[len(got)-1].Do != keeper.Back {
		t.Errorf("the last command is %+v", got[len(got)-1])
	}
}

func TestKeysFollowTheState(t *testing.T) {
	d := newDesk(t, crossing.State{})
	d.shows("s start a crossing", "s chooses a version (4.3.0 is new)")
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
	asking.Question = crossing.Question{ID: 41, Kind: crossing.AskLeg, Leg: 1, Part: split.Whole, Side: split.Green}
	d = newDesk(t, asking)
	d.shows("a say yes", "◇ go on to 100 % on green?")
	d.press("n") // next leg is not offered while a question stands
	d.press("a")
	d.did("yes 41")

	d = newDesk(t, shifting)
	d.press("n", "space")
	frozen := shifting
	frozen.Freezes = []crossing.Freeze{{ID: 7, Cause: crossing.Cause{Kind: crossing.ByHand}}}
	d.show(frozen)
	d.shows("space go on")
	d.pass(time.Second)
	d.press("space")
	d.did("next 1", "freeze", "go on")

	over := shifting
	over.Stage, over.Share = crossing.RolledBack, 0
	d = newDesk(t, over)
	d.shows("x retire green")
	d.press("x")
	d.shows("type the service's name (sailings)")
	for _, c := range "sailings" {
		d.press(string(c))
	}
	d.press("enter")
	d.did("retire sailings")
}

// One press is one act: a key that is held down comes again and again, and what it would do
// next is another thing.
func TestAHeldKeyActsOnce(t *testing.T) {
	first := shifting
	first.Question = crossing.Question{ID: 41, Kind: crossing.AskLeg, Side: split.Green, Part: 500}
	d := newDesk(t, first)
	d.press("a")
	second := shifting
	second.Question = crossing.Question{ID: 52, Kind: crossing.AskLeg, Leg: 1, Side: split.Green, Part: split.Whole}
	for range 20 {
		d.pass(100 * time.Millisecond)
		d.show(second)
		d.press("a")
	}
	d.did("yes 41")
	d.pass(time.Second)
	d.press("a")
	d.did("yes 41", "yes 52")
	d.pass(time.Second)
	d.send(tea.KeyPressMsg(tea.Key{Code: 'a', Text: "a", IsRepeat: true}))
	d.did("yes 41", "yes 52")
}

// A home where nobody serves takes a second word.
func TestGoingBackToNobody(t *testing.T) {
	d := newDesk(t, shifting)
	d.client.err = &crossing.Refusal{Kind: crossing.NobodyThere, Bench: crossing.Bench{Known: true, Side: split.Blue, Instances: 3, Other: 3}}
	d.press("b", "b")
	d.shows("not sent: none of the 3 instances of blue is healthy, and 3 of green are", "type blue")
	d.client.err = nil
	d.press("n", "o", "enter")
	d.did("back")
	d.client.err = &crossing.Refusal{Kind: crossing.NobodyThere, Bench: crossing.Bench{Known: true, Side: split.Blue, Instances: 3, Other: 3}}
	d.press("b", "b")
	d.client.err = nil
	d.press("b", "l", "u", "e", "enter")
	d.did("back", "back", "back with force")
}

func TestARefusalIsShownAndGoesAway(t *testing.T) {
	d := newDesk(t, shifting)
	d.client.err = fmt.Errorf("%w: blue is on fire", crossing.ErrNotNow)
	d.press("n")
	d.shows("next: blue is on fire")
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
	theirs.Wheel = crossing.Wheel{Client: "other", By: "marit", From: "quay2 pts/3", Since: time.Date(2026, 11, 26, 14, 2, 0, 0, time.Local)}
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
	d.did("take the wheel")
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
	d.shows("nobody steers")
	if d.press("g", "g"); len(d.client.taken()) != 1 {
		t.Errorf("a wheel that nobody has was taken: %v", d.client.taken())
	}
}

// A question rings once, and says since when it is open.
func TestAQuestionRings(t *testing.T) {
	d := newDesk(t, shifting)
	asks := shifting
	asks.Seq, asks.Question = 40, crossing.Question{ID: 40, Kind: crossing.AskLeg, Leg: 2, At: d.root.now}
	for n := range 3 {
		if rang := d.sees(asks); rang != (n == 0) {
			t.Errorf("at the %d. sight of the question it rang: %v", n+1, rang)
		}
	}
	if strings.Contains(d.screen(), "(asked") {
		t.Error("a fresh question is said to be old")
	}
	d.pass(3 * time.Minute)
	d.shows("(asked 3m ago)")
	frozen := asks
	frozen.Freezes = []crossing.Freeze{{ID: 41, Cause: crossing.Cause{Kind: crossing.ByHand}}}
	if !d.sees(frozen) {
		t.Error("a freeze did not ring")
	}
}

func TestRehearsing(t *testing.T) {
	d := newDesk(t, shifting)
	d.snapshot(func(s *keeper.Snapshot) { s.WayBack.State = wayback.Open })
	d.press("h")
	d.shows("home would take 4.0 ms: read what is in force 4.0 ms")
}

func TestHelpIsMadeFromTheKeys(t *testing.T) {
	d := newDesk(t, shifting)
	d.press("?")
	d.shows("steer towards green", "next leg", "roll back", "ctrl+b ctrl+b also while typing")
	if strings.Contains(d.screen(), "start a crossing") {
		t.Error("the help names a key that does nothing now")
	}
	d.press("?")
	if strings.Contains(d.screen(), "steer towards green") {
		t.Error("the help does not go away")
	}
}

// A whole program, from the first frame to a clean end, in a terminal without
// colours.
func TestTheProgramRunsAndEnds(t *testing.T) {
	c := &client{err: errors.New("not reached"), snapshot: keeper.Snapshot{View: engine.View{Service: "sailings", Planned: legs}}}
	in, out := io.Pipe()
	var screen terminal
	done := make(chan error, 1)
	go func() {
		_, err := Run(t.Context(), Config{Client: c, Theme: "dark"}, tea.WithInput(in), tea.WithOutput(&screen), tea.WithWindowSize(80, 24),
			tea.WithColorProfile(colorprofile.ASCII), tea.WithEnvironment([]string{"TERM=xterm-256color", "NO_COLOR=1"}), tea.WithoutSignals())
		done <- err
	}()
	testkit.Eventually(t, "the first frame", func() bool { return strings.Contains(screen.String(), "no crossing yet") })
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

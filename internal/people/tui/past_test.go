package tui

import (
	"log/slog"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/past"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/recording"
	"vaiven/internal/words"
	folder "vaiven/internal/world/state"
	"vaiven/lab/testkit"
)

// remembers gives a client crossings that were recorded: the third settled, the fourth was rolled back.
func remembers(t *testing.T, c *client) {
	t.Helper()
	c.events, c.recorded = map[int][]crossing.Event{}, map[int][]byte{}
	for number := 3; number <= 4; number++ {
		in, err := folder.Open(filepath.Join(t.TempDir(), "state"))
		if err != nil {
			t.Fatal(err)
		}
		defer in.Close()
		w := recording.NewWriter(in, 0, slog.New(slog.DiscardHandler))
		begun := start.Add(time.Duration(number-5) * 24 * time.Hour)
		now := begun
		var s crossing.State
		add := func(f crossing.Fact) {
			e := crossing.Event{Seq: s.Seq + 1, Crossing: number, At: now, By: "ines", What: f}
			c.events[number] = append(c.events[number], e)
			s = crossing.Apply(s, e)
		}
		second := func(n int) {
			for range n {
				now = now.Add(time.Second)
				v := keeper.Snapshot{View: engine.View{At: now, Ready: true, Service: "sailings", Crossing: s,
					Live: split.Blue}}
				for _, side := range split.Sides {
					v.Sides[side].Instances = []reading.Condition{{Instance: reading.Instance{Name: side.String() +
						"-1",
						Side: side, Running: true, Started: begun}, State: reading.Healthy, At: now}}
					v.Sides[side].Healthy, v.Sides[side].Wanted, v.Sides[side].At, v.Sides[side].Every = 1, 1, now,
						time.Second
				}
				v.Front.At, v.Front.Every, v.Front.Split.Share = now, time.Second, s.Share
				p := engine.Point{At: now, Planned: s.Share, All: 300, Green: int64(300 * s.Share.Fraction())}
				if number == 4 {
					p.Failing = p.Green / 5
					p.GreenFailing = p.Failing
				}
				w.Take(v, []engine.Point{p})
			}
		}
		add(crossing.Begun{Service: "sailings", Number: number, Target: split.Green, LiveVersion: "4.2.0",
			Choices: []raise.Choice{{Part: "web", Version: "4.3.0"}}, Route: legs})
		second(30)
		add(crossing.Ordered{Task: crossing.Task{Do: crossing.TaskMove, Share: 500}})
		add(crossing.TookEffect{Task: s.Seq, Share: 500, Nearest: 500, Took: time.Millisecond})
		second(30)
		if number == 3 {
			add(crossing.Ordered{Task: crossing.Task{Do: crossing.TaskMove, Share: split.Whole, Leg: 1}})
			add(crossing.TookEffect{Task: s.Seq, Share: split.Whole, Nearest: split.Whole})
			second(30)
			add(crossing.Ended{Stage: crossing.Settled, Counted: crossing.Counted{Requests: 9450}})
		} else {
			add(crossing.RollsBack{Cause: crossing.Because(crossing.ByHand{Why: "searches fail"})})
			add(crossing.Ordered{Task: crossing.Task{Do: crossing.TaskHome, Side: split.Blue}})
			add(crossing.Returned{Task: s.Seq})
			add(crossing.Ended{Stage: crossing.RolledBack,
				Cause:   crossing.Because(crossing.ByHand{Why: "searches fail"}),
				Counted: crossing.Counted{Requests: 450, Failed: 90}})
		}
		second(10)
		w.Close()
		testkit.Eventually(t, "it is recorded", func() bool {
			c.recorded[number], err = recording.Find(in, number)
			if err != nil {
				return false
			}
			r, err := recording.Read(c.recorded[number])
			return err == nil && r.To().Equal(now)
		})
		one, _ := past.Of(c.events[number], nil, now)
		c.book.Crossings = append([]past.Crossing{one}, c.book.Crossings...)
	}
	c.book.Crossings = append(c.book.Crossings, past.Crossing{Number: 2, Version: "4.1.0",
		Begun: start.Add(-90 * 24 * time.Hour),
		Stage: crossing.CalledOff, Ended: start.Add(-90 * 24 * time.Hour)})
	c.book.Acts = []words.Act{{At: start.Add(-time.Hour), By: "marit", What: "shift to 5 % on green",
		Outcome: "5 % on green",
		Ended:   start}}
}

// The logbook lists what was, and finds it by typing.
func TestTheLogbook(t *testing.T) {
	d := newDesk(t, crossing.State{})
	remembers(t, d.client)
	d.press("l")
	d.shows("logbook", "3 crossings", "shift to 5 % on green, by marit", "4.2.0 → 4.3.0", "rolled back",
		"searches fail",
		"90 of 450 failed", "called off", "2026-08-25")
	d.press("down")
	d.shows("crossing 4 to green, ines", "rolled back: searches fail")
	d.press("/")
	for _, letter := range "blue bob settled" { // words with b b in them roll nothing back
		d.press(string(letter))
	}
	d.shows("find: blue bob settled", "nothing is found")
	d.press("esc", "/")
	d.send(tea.PasteMsg{Content: "called"})
	d.shows("1 with \"called\"")
	d.press("esc", "/", "s", "e", "t", "t", "enter")
	d.shows("1 with \"sett\"")
	if text := d.screen(); strings.Contains(text, "called off") {
		t.Errorf("what was not asked for is there:\n%s", text)
	}
	d.did()
}

// A crossing is seen again as it was, at its own pace, and nothing that is pressed there acts on the live one but b b.
func TestSeenAgain(t *testing.T) {
	d := newDesk(t, shifting)
	remembers(t, d.client)
	d.press("l", "down", "enter")
	d.shows("PAST", "2026-11-22", "stands still", "crossing 4", "BLUE", "begun")
	d.press(">")
	d.shows("21:00:31", "took effect: 5 % on green")
	if text := d.screen(); !strings.Contains(strings.Split(text, "\n")[1], "5 %") {
		t.Errorf("line 2 is not that of then:\n%s", text)
	}
	d.press(".", ".", ",")
	d.shows("21:00:32")
	d.press(">", "<")
	d.shows("21:00:31")
	d.press("+")
	d.pass(3 * time.Second)
	d.shows("1x", "21:00:34")
	d.press("+", "+", "+")
	d.pass(10 * time.Second)
	d.shows("stands still", "ended: rolled back: searches fail")
	// What is wrong now is in line 1.
	d.snapshot(func(s *keeper.Snapshot) { s.At, s.Trouble = d.now, "the disk is full" })
	d.shows("▲ now: ", "the disk is full")
	d.press("n", "a", "space", "left", "right", "enter", "f", "x", "o", "s", "g", "g", "h", "w", "t", "r", "e", "l",
		"v")
	d.did()
	d.shows("PAST")
	d.press("p", "d", "c", "<", "-", "?")
	d.shows("PAST", "nothing here acts on a crossing but b b")
	d.press("b", "b")
	d.did("back")
	if strings.Contains(d.screen(), "PAST") {
		t.Error("after rolling back the past is still shown")
	}
}

// Two are seen beside each other, and what was never recorded says so.
func TestBesideEachOther(t *testing.T) {
	d := newDesk(t, crossing.State{})
	remembers(t, d.client)
	d.press("l", "down", "m", "down")
	d.shows("see it beside crossing 4")
	d.press("m")
	d.shows("two crossings beside each other", "crossing 3  4.2.0 → 4.3.0  settled",
		"crossing 4  4.2.0 → 4.3.0  rolled back",
		"failed")
	for _, size := range [][2]int{{80, 24}, {40, 10}, {20, 5}, {1, 1}, {220, 60}} {
		d.send(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		_ = d.screen()
	}
	d.send(tea.WindowSizeMsg{Width: 142, Height: 38})
	d.press("q")
	d.shows("3 crossings")
	d.press("down", "enter")
	d.shows("crossing 2: nothing is recorded of it")
	if d.quit {
		t.Error("q left the screen, and not the past")
	}
}

// A key of the page that is shown is the page's, also where it means something else elsewhere.
func TestAPagesOwnKeys(t *testing.T) {
	d := newDesk(t, crossing.State{})
	d.press("r", "right", "w")
	d.shows("there is no plan at hand that a copy could be made of")
	d.press("c", "w")
	d.shows("set server sailings/green1 weight 3")
}

package main

import (
	"slices"
	"strings"
	"syscall"
	"testing"

	"vaiven/lab/demo"
)

// onFirstLeg is a screen on which a crossing was begun and taken to its first leg.
func onFirstLeg(t *testing.T, s *demo.Scenario, w, h int) *terminal {
	t.Helper()
	term := newTerminal(t, w, h, "open", s.File, "--version", "4.3.0")
	term.wait("s starts a crossing", "4 of 4")
	term.press("s")
	term.wait("▸ 4.3.0")
	term.press("Enter")
	term.wait("Start to shift?")
	term.confirm("a")
	term.wait("leg 1 of 3")
	return term
}

// door is the last of the door log.
func (d drawing) door() string {
	for line := range strings.SplitSeq(d.text, "\n") {
		if _, marks, ok := strings.Cut(line, "front door"); ok {
			marks, _, _ = strings.Cut(strings.TrimSpace(marks), " ")
			return marks[max(0, len(marks)-15):]
		}
	}
	return ""
}

// The whole job by hand, on the real screen: start, prove, shift by keys, see it in
// the door log, roll back, quit, and nothing is left.
func TestTheScreen(t *testing.T) {
	term := newTerminal(t, 142, 38, "demo", "--theme", "dark")
	term.wait("s starts a crossing (4.3.0 is new)", "4 of 4 healthy")
	term.press("s")
	term.wait("which version of search is to be raised?", "▸ 4.3.0", "same build as blue", "live on blue")
	term.press("Enter")
	term.wait("◇ green is proven. Start to shift?", "29 of 29 passing")
	term.press("p")
	term.wait("proof of GREEN 4.3.0", "needs fares, from here", "same request", "green-berths-1")
	term.press("d")
	term.wait("no unplanned difference", "15 of 15 answers are the same", "3 planned differences")
	term.press("c")
	if marks := term.look().door(); strings.ContainsAny(marks, "gG") {
		t.Errorf("before anybody said so, green answered: %q", marks)
	}
	term.press("a")
	term.wait("enter: 5 % on green (new side)")
	term.press("Enter")
	term.wait("leg 1 of 4: 5 % on green", "way back  ● OPEN")

	// By hand to 60 %: eleven steps to the right, and enter.
	term.press(slices.Repeat([]string{"Right"}, 11)...)
	term.wait("→ 60 %", "enter: 60 % on green")
	term.press("Enter")
	term.wait("frozen: the share was changed by hand", "live, gets 40 %")
	term.until("both sides are in the door log", func(d drawing) bool {
		marks := d.door()
		return strings.ContainsAny(marks, "g") && strings.ContainsAny(marks, "b")
	})

	// It bears being resized at any time, and a look at the keys.
	for _, size := range [][2]int{{80, 24}, {40, 10}, {220, 60}, {142, 38}} {
		term.resize(size[0], size[1])
		term.wait("now ", "b b roll back", "frozen: the share was")
	}
	term.press("?")
	term.wait("what the marks mean", "steering moves")

	// Back from within the help: the first press says what the second will do.
	term.twice("b", "b again within 2 s: all requests to blue at once: green has 60 % now")
	term.wait("rolled back ", "ago: by hand", "none lost")
	term.until("the door log is blue again", func(d drawing) bool {
		marks := d.door()
		return len(marks) == 15 && !strings.ContainsAny(marks, "gG")
	})
	term.press("q")
	term.wait("ended with status 0")
	leftNothing(t)
}

// A version that does not reach what it depends on, and one whose configuration and
// runtime are others: each is named on the screen before any traffic moves.
func TestBadVersionsOnTheScreen(t *testing.T) {
	t.Parallel() // it mostly waits
	s := scenario(t)
	term := newTerminal(t, 142, 38, "open", s.File)
	term.wait("4 of 4 healthy")
	term.press("s")
	term.wait("4.4.0", "4.5.0")
	term.press("4", ".", "4")
	term.wait("▸ 4.4.0")
	term.press("Enter")
	term.wait("proof failed. Try again?")
	term.press("p")
	term.wait("not proven", "connection refused", "reached from blue in")
	term.press("k")
	term.wait("tried 2 times") // the same check, once more
	term.press("b", "b")
	term.wait("s start a crossing")
	term.press("c", "s")
	term.wait("crossing 1: called off")
	term.press("4", ".", "5")
	term.wait("▸ 4.5.0")
	term.press("Enter")
	term.wait("accept these 2 findings and go on?")
	term.press("d")
	term.wait("search runtime", "vessa 1.8", "vessa 2.0", "sailings.yaml berths.hold", "0 of 15 answers are the same")
	term.press("a")
	term.wait("a yes accepts all of this", "sailings.yaml berths.hold")
	term.press("Enter")
	term.wait("green is proven. Start to shift?")
	term.press("p")
	term.wait("proven, with what was accepted", "27 of 29 passing")
	term.resize(80, 24)
	term.wait("proof of GREEN 4.5.0", "b b call off")
	term.press("b", "b")
	term.wait("s start a crossing")
	term.until("it ends", func(d drawing) bool {
		if d.process != 0 {
			term.tmux("send-keys", "q") // it takes two while the side is being cleared away
		}
		return d.shows("ended with status 0")
	})
}

// Closed in the middle, the keeper goes on, and opened again the screen shows it where it is. A
// keeper that was killed meanwhile says what it finds, and offers to go on or back.
func TestTheScreenOpenedAgain(t *testing.T) {
	s := scenarioOf(t, demo.Options{Rate: 100, Stays: true})
	term := onFirstLeg(t, s, 100, 30)
	term.press("Space")
	term.wait("frozen: by hand")
	term.press("q")
	term.wait("the keeper goes on with it. vaiven open", "ended with status 0")

	again := newTerminal(t, 80, 24, "open", s.File)
	again.wait("frozen: by hand", "10 %", "wheel free")
	kill(t, keeperOf(t, s.File))
	again.wait("Vaiven was restarted: the front has 10 %") // the screen has started another
	again.confirm("Space")
	again.wait("leg ")
	again.press("b", "b")
	again.wait("rolled back ")
	again.press("q")
	again.wait("ended with status 0")
}

// A terminal that can show nothing is refused, with what does the same; one that shows no
// colours gets none. The screen can be suspended, and one that was killed leaves nothing behind
// once another has been opened.
func TestTerminals(t *testing.T) {
	s := scenario(t)
	term := newTerminal(t, 100, 30, "open", s.File)
	term.wait("4 of 4")
	term.press("q")
	term.wait("ended with status 0")
	shell := startTerminal(t, 200, 29, "env PS1='ready> ' dash -i")
	shell.wait("ready>")
	line := func(text string) { shell.types(text, "Enter") }
	for _, kind := range []string{"dumb", ""} {
		line("clear; TERM=" + kind + " " + program + " open " + s.File + "; echo status $?")
		shell.wait("without a screen: vaiven cross PLAN", "status 2")
	}
	opened := func(after int) int {
		t.Helper()
		return shell.until("the screen is there", func(d drawing) bool {
			return d.process != 0 && d.process != after && d.shows("front door")
		}).process
	}
	line("clear; TERM=vt100 " + program + " open " + s.File)
	first := opened(0)
	if colour := coloured.FindString(shell.tmux("capture-pane", "-p", "-e")); colour != "" {
		t.Errorf("a vt100 got a colour: %q", colour)
	}
	shell.tmux("send-keys", "C-z")
	shell.wait("Stopped")
	line("clear; fg")
	opened(0)
	shell.press("q")
	shell.until("the shell is back", func(d drawing) bool { return d.process == 0 && d.shows("ready>") })
	line("clear; " + program + " open " + s.File)
	second := opened(first)
	if err := syscall.Kill(second, syscall.SIGKILL); err != nil {
		t.Fatal("kill the screen: ", err)
	}
	shell.wait("illed")
	line = func(text string) { shell.types(text, "C-j") } // nothing makes a new line of Enter now
	line("clear; " + program + " open " + s.File)
	opened(second)
	shell.press("q")
	shell.wait("had left this terminal in disorder", "tput reset")
	line("clear; stty -a | tr ' ;' '\\n\\n' | grep -x icanon; echo done")
	shell.wait("icanon", "done")
}

package main

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"vaiven/lab/demo"
	"vaiven/lab/testkit"
)

// coloured is a colour of the foreground, in a screen with its escapes.
var coloured = regexp.MustCompile(`\x1b\[([0-9;]*;)?(38;|3[0-7]m|9[0-7]m)`)

// terminal is a real terminal with the program in it.
type terminal struct {
	t    *testing.T
	sock string
}

// newTerminal starts the program in tmux.
func newTerminal(t *testing.T, w, h int, args ...string) *terminal {
	t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Fatal("tmux is needed to test the real interface: make test installs it")
	}
	term := &terminal{t, filepath.Join(t.TempDir(), "tmux")}
	command := program
	if args[0] == "open" {
		args = append(args, "--ascii=false") // whatever the locale of the tests is
	}
	for _, a := range args {
		command += fmt.Sprintf(" '%s'", a)
	}
	term.tmux("-f", "/dev/null", "new-session", "-d", "-x", fmt.Sprint(w), "-y", fmt.Sprint(h),
		command+"; echo ended with status $?; sleep 600")
	t.Cleanup(func() { exec.Command("tmux", "-S", term.sock, "kill-server").Run() })
	return term
}

func (term *terminal) tmux(args ...string) string {
	term.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-u", "-S", term.sock}, args...)...).CombinedOutput()
	if err != nil {
		term.t.Fatalf("tmux %v: %v: %s", args, err, out)
	}
	return string(out)
}

func (term *terminal) screen() string { return term.tmux("capture-pane", "-p") }

func (term *terminal) press(keys ...string) {
	term.t.Helper()
	term.tmux(append([]string{"send-keys"}, keys...)...)
}

// confirm presses a key that names something, and Enter once that is on the screen.
func (term *terminal) confirm(key string) {
	term.t.Helper()
	term.press(key)
	term.wait("enter: ")
	term.press("Enter")
}

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

// wait waits until the screen shows all of the texts.
func (term *terminal) wait(texts ...string) string {
	term.t.Helper()
	var screen string
	deadline := time.Now().Add(60 * time.Second)
	for time.Now().Before(deadline) {
		screen = term.screen()
		all := true
		for _, text := range texts {
			all = all && strings.Contains(screen, text)
		}
		if all {
			return screen
		}
		time.Sleep(50 * time.Millisecond)
	}
	term.t.Fatalf("the screen never showed %q:\n%s", texts, screen)
	return ""
}

// door is the last of the door log.
func (term *terminal) door() string {
	for _, line := range strings.Split(term.screen(), "\n") {
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
	if marks := term.door(); strings.ContainsAny(marks, "gG") {
		t.Errorf("before anybody said so, green answered: %q", marks)
	}
	term.press("a")
	term.wait("enter: 5 % on green (new side)")
	term.press("Enter")
	term.wait("leg 1 of 4: 5 % on green", "way back  ● OPEN")

	// By hand to 60 %: eleven steps to the right, and enter.
	for range 11 {
		term.press("Right")
	}
	term.wait("→ 60 %", "enter: 60 % on green")
	term.press("Enter")
	term.wait("frozen: the share was changed by hand", "live, gets 40 %")
	testkit.Eventually(t, "both sides are in the door log", func() bool {
		marks := term.door()
		return strings.ContainsAny(marks, "g") && strings.ContainsAny(marks, "b")
	})

	// It bears being resized at any time, and a look at the keys.
	for _, size := range [][2]string{{"80", "24"}, {"40", "10"}, {"220", "60"}, {"142", "38"}} {
		term.tmux("resize-window", "-x", size[0], "-y", size[1])
		term.wait("now ", "b b roll back", "frozen: the share was")
	}
	term.press("?")
	term.wait("what the marks mean", "steering moves")

	// Back from within the help: the first press says what the second will do.
	term.press("b")
	term.wait("b again within 2 s: all requests to blue at once: green has 60 % now")
	term.press("b")
	term.wait("rolled back ", "ago: by hand", "none lost")
	testkit.Eventually(t, "the door log is blue again", func() bool {
		marks := term.door()
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
	term.tmux("resize-window", "-x", "80", "-y", "24")
	term.wait("proof of GREEN 4.5.0", "b b call off")
	term.press("b", "b")
	term.wait("s start a crossing")
	testkit.Eventually(t, "it ends", func() bool {
		term.press("q") // twice while the side is being cleared away
		return strings.Contains(term.screen(), "ended with status 0")
	})
}

// Closed in the middle, the keeper goes on, and opened again the screen shows it where it is. A
// keeper that was killed meanwhile says what it finds, and offers to go on or back.
func TestTheScreenOpenedAgain(t *testing.T) {
	s := scenario(t)
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
	shell := &terminal{t, filepath.Join(t.TempDir(), "shell")}
	shell.tmux("-f", "/dev/null", "new-session", "-d", "-x", "200", "-y", "30", "env PS1='ready> ' dash -i")
	t.Cleanup(func() { exec.Command("tmux", "-S", shell.sock, "kill-server").Run() })
	shell.wait("ready>")
	line := func(text string) { shell.press(text, "Enter") }
	for _, kind := range []string{"dumb", ""} {
		line("clear; TERM=" + kind + " " + program + " open " + s.File + "; echo status $?")
		shell.wait("without a screen: vaiven cross PLAN", "status 2")
	}
	line("clear; TERM=vt100 " + program + " open " + s.File)
	shell.wait("front door")
	if colour := coloured.FindString(shell.tmux("capture-pane", "-p", "-e")); colour != "" {
		t.Errorf("a vt100 got a colour: %q", colour)
	}
	shell.press("C-z")
	shell.wait("Stopped")
	line("fg")
	shell.wait("front door")
	shell.press("q")
	shell.wait("ready>")
	line("clear; " + program + " open " + s.File)
	shell.wait("front door")
	for _, pid := range pids(t, program, "open", s.File) {
		if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
			t.Fatal("kill the screen: ", err)
		}
	}
	shell.wait("illed")
	line = func(text string) { shell.press(text, "C-j") } // nothing makes a new line of Enter now
	line("clear; " + program + " open " + s.File)         // what the other one had drawn is no sign of this one
	shell.wait("front door")
	shell.press("q")
	shell.wait("had left this terminal in disorder", "tput reset")
	line("clear; stty -a | tr ' ;' '\\n\\n' | grep -x icanon; echo done")
	shell.wait("icanon", "done")
}

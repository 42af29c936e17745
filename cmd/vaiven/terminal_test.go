package main

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"vaiven/internal/people/framed"
	"vaiven/lab/testkit"
)

// coloured is a colour of the foreground, in a screen with its escapes.
var coloured = regexp.MustCompile(`\x1b\[([0-9;]*;)?(38;|3[0-7]m|9[0-7]m)`)

// terminal is a real terminal with the program in it.
type terminal struct {
	t    *testing.T
	sock string
}

// newTerminal starts the program in tmux, in so many columns and rows.
func newTerminal(t *testing.T, w, h int, args ...string) *terminal {
	t.Helper()
	command := program
	if args[0] == "open" {
		args = append(args, "--ascii=false") // whatever the locale of the tests is
	}
	for _, a := range args {
		command += fmt.Sprintf(" '%s'", a)
	}
	return startTerminal(t, w, h, command+"; echo ended with status $?; sleep 600")
}

// startTerminal starts a command in tmux. Below the rows there is one for the number of the drawing.
func startTerminal(t *testing.T, w, h int, command string) *terminal {
	t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Fatal("tmux is needed to test the real interface: make test installs it")
	}
	term := &terminal{t, filepath.Join(t.TempDir(), "tmux")}
	term.tmux("-f", "/dev/null", "new-session", "-d", "-x", fmt.Sprint(w), "-y", fmt.Sprint(h+1),
		"-e", framed.Numbered+"=1", command)
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

// drawing is what a terminal shows. Without a process it is not the program's.
type drawing struct {
	text    string
	process int // that drew it
	keys    int // that it had taken in
	rows    int // of the terminal
}

var numbers = regexp.MustCompile(`(?m)^#(\d+)\.(\d+)\.(\d+) *$`)

// look is what the terminal shows now.
func (term *terminal) look() drawing {
	term.t.Helper()
	d := drawing{text: term.tmux("capture-pane", "-p")}
	if at := numbers.FindStringSubmatchIndex(d.text); at != nil {
		d.process, _ = strconv.Atoi(d.text[at[2]:at[3]])
		d.keys, _ = strconv.Atoi(d.text[at[4]:at[5]])
		d.rows, _ = strconv.Atoi(d.text[at[6]:at[7]])
		d.text = d.text[:at[0]]
	}
	return d
}

func (term *terminal) screen() string { return term.look().text }

// until waits until the terminal shows what is wanted.
func (term *terminal) until(what string, ok func(drawing) bool) drawing {
	term.t.Helper()
	for w := testkit.Waiting(term.t, what); ; w.Again() {
		d := term.look()
		if ok(d) {
			return d
		}
		w.Last("\n" + d.text)
	}
}

// wait waits until the screen shows all of the texts.
func (term *terminal) wait(texts ...string) string {
	term.t.Helper()
	return term.until(fmt.Sprintf("the screen shows %q", texts), func(d drawing) bool { return d.shows(texts...) }).text
}

func (d drawing) shows(texts ...string) bool {
	for _, text := range texts {
		if !strings.Contains(d.text, text) {
			return false
		}
	}
	return true
}

// handPause is longer than what the program takes for pasted text.
const handPause = 20 * time.Millisecond

// press presses keys, one after the other without a pause, and returns when the program has drawn what came of them:
// what is waited for after it was not there before. The keys of two calls come as from a hand.
func (term *terminal) press(keys ...string) {
	term.t.Helper()
	before := term.until("the program has drawn something", func(d drawing) bool { return d.process != 0 })
	term.tmux(append([]string{"send-keys"}, keys...)...)
	term.until(fmt.Sprintf("the keys %q are taken in", keys), func(d drawing) bool {
		return d.process != before.process || d.keys >= before.keys+len(keys)
	})
	time.Sleep(handPause) // as a hand does
}

// twice presses a key that has to be pressed twice within two seconds: the first time it shows what it will do. On a
// busy machine that time can have passed.
func (term *terminal) twice(key, prompt string) {
	term.t.Helper()
	term.press(key)
	term.wait(prompt)
	for w := testkit.Waiting(term.t, "a second "+key+" in time"); ; w.Again() {
		if term.press(key); !term.look().shows(prompt) {
			return
		}
	}
}

// types types a line at a shell.
func (term *terminal) types(line, enter string) {
	term.t.Helper()
	term.tmux("send-keys", line, enter)
}

// resize changes the terminal's size, and waits until the program has drawn itself in it.
func (term *terminal) resize(w, h int) {
	term.t.Helper()
	term.tmux("resize-window", "-x", fmt.Sprint(w), "-y", fmt.Sprint(h+1))
	term.until("the program has the new size", func(d drawing) bool { return d.rows == h+1 })
}

// confirm presses a key that names something, and Enter once that is on the screen.
func (term *terminal) confirm(key string) {
	term.t.Helper()
	term.press(key)
	term.wait("enter: ")
	term.press("Enter")
}

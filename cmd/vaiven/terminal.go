package main

import (
	"cmp"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/term"
	"golang.org/x/sys/unix"
)

// canShow reports why a screen cannot be shown here, and what does the same without one.
func canShow() error {
	const without = "without a screen: vaiven cross PLAN --version V crosses, vaiven where PLAN looks, vaiven back " +
		"PLAN rolls back"
	if !atTerminal() || !term.IsTerminal(os.Stdout.Fd()) {
		return usage("the screen needs a terminal on standard input and output; %s", without)
	}
	switch kind := os.Getenv("TERM"); kind {
	case "":
		return usage("TERM is not set, so it is not known what the terminal can show; %s", without)
	case "dumb":
		return usage("a terminal of TERM=dumb cannot show a screen; %s", without)
	}
	return nil
}

// atTerminal reports whether somebody is there to be asked.
func atTerminal() bool { return term.IsTerminal(os.Stdin.Fd()) }

// colourless are terminals that show no colours, whatever else the environment says.
var colourless = []string{"vt52", "vt100", "vt102", "vt220", "vt320", "ansi-m", "linux-m"}

// screenOptions are how the screen has to behave on this kind of terminal.
func screenOptions(kind string) []tea.ProgramOption {
	if slices.Contains(colourless, kind) || strings.HasSuffix(kind, "-mono") || strings.HasSuffix(kind, "-m") {
		return []tea.ProgramOption{tea.WithColorProfile(colorprofile.ASCII)}
	}
	return nil
}

// tidied puts a terminal right that a screen has left as it was when it was killed, and reports
// whether it had to.
func tidied(in *os.File, out io.Writer) bool {
	fd := int(in.Fd())
	t, err := unix.IoctlGetTermios(fd, unix.TCGETS)
	if err != nil || t.Lflag&unix.ICANON != 0 {
		return false
	}
	t.Iflag |= unix.ICRNL | unix.BRKINT | unix.IXON
	t.Oflag |= unix.OPOST | unix.ONLCR
	t.Lflag |= unix.ICANON | unix.ECHO | unix.ECHOE | unix.ECHOK | unix.ISIG | unix.IEXTEN
	if unix.IoctlSetTermios(fd, unix.TCSETS, t) != nil {
		return false
	}
	// Keyboard protocol, pasting and focus reports off; cursor on; the main screen; no colours.
	fmt.Fprint(out, "\x1b[<9u\x1b[?2004l\x1b[?1004l\x1b[?25h\x1b[?1049l\x1b[m")
	return true
}

// onTerminal reports whether what is written there is seen as it comes.
func onTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(f.Fd())
}

// onlyASCII reports whether the locale says that the terminal knows no signs but those of ASCII. One that says nothing
// is taken for one that does: nearly all do.
func onlyASCII(getenv func(string) string) bool {
	locale := cmp.Or(getenv("LC_ALL"), getenv("LC_CTYPE"), getenv("LANG"))
	encoding := strings.ToLower(strings.ReplaceAll(locale, "-", ""))
	return locale != "" && !strings.Contains(encoding, "utf8")
}

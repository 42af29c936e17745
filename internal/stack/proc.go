package stack

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"syscall"
)

// Marker is the environment variable by which an instance is found whose start
// was not noted to its end. Its value is the path of its note.
const Marker = "VAIVEN_INSTANCE"

// Guard is the shell script under which a program is started, as the first process
// of its session: it writes down how the program ended even if nobody of Vaiven is
// there any more. Its $0 is the file for that, the program and its arguments follow. It
// passes no signals on: a stop goes to the whole session.
const Guard = `trap : TERM INT HUP; "$@"; echo $? >"$0.new" && mv "$0.new" "$0"`

// Ended says how a program ended by what its guard wrote down, "" if that is nothing.
func Ended(status string) string {
	n, err := strconv.Atoi(strings.TrimSpace(status))
	switch {
	case err != nil:
		return "gone, and nobody saw how"
	case n > 128:
		return fmt.Sprintf("ended by signal %d (%v)", n-128, syscall.Signal(n-128))
	}
	return fmt.Sprintf("exit status %d", n)
}

// session are the environment variables, or what their names begin with, that say
// who started something from where, and nothing about what was started.
var session = []string{
	Marker, "PWD", "OLDPWD", "SHLVL", "SHELL", "TERM*", "COLORTERM", "COLUMNS", "LINES", "DISPLAY", "WAYLAND_*", "WINDOWID", "VTE_*",
	"TMUX*", "STY", "SSH_*", "XDG_*", "DBUS_*", "MAIL", "_",
}

// ofSession reports whether a variable belongs to the session.
func ofSession(name string) bool {
	return slices.ContainsFunc(session, func(s string) bool {
		beginning, open := strings.CutSuffix(s, "*")
		return name == s || open && strings.HasPrefix(name, beginning)
	})
}

// FromProc reads the files cmdline, environ and limits of a process (proc(5)).
// Variables that belong to the session it was started from are left out.
func FromProc(cmdline, environ, limits []byte) Description {
	d := Description{Environment: map[string]string{}, Limits: map[string]string{}}
	for word := range bytes.SplitSeq(bytes.TrimRight(cmdline, "\x00"), []byte{0}) {
		d.Command = append(d.Command, string(word))
	}
	for variable := range strings.SplitSeq(string(environ), "\x00") {
		name, value, ok := strings.Cut(variable, "=")
		if ok && !ofSession(name) {
			d.Environment[name] = value
		}
	}
	for n, line := range strings.Split(string(limits), "\n") {
		// Columns of fixed width: name, soft limit, hard limit, unit.
		if n > 0 && len(line) > 46 {
			name := strings.ToLower(strings.TrimPrefix(strings.TrimSpace(line[:26]), "Max "))
			d.Limits[name] = strings.TrimSpace(line[26:47])
		}
	}
	return d
}

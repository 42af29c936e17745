package stack

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"vaiven/internal/core/reading"
)

// Marker is the environment variable by which an instance is found whose start
// was not noted to its end. Its value is the path of its note.
const Marker = "VAIVEN_INSTANCE"

// Record is the environment variable with what is noted of an instance, as JSON: where its note is lost, what runs
// still says what it is.
const Record = "VAIVEN_RECORD"

// RecordOf is what is recorded of an instance as it is started.
func RecordOf(i reading.Instance) string {
	i.Running, i.Exit, i.Output = false, "", nil
	data, err := json.Marshal(i)
	if err != nil {
		return "" // of plain values: cannot be
	}
	return string(data)
}

// Recover is what a record says, and false where it is none of an instance of that name.
func Recover(text, name string) (i reading.Instance, ok bool) {
	err := json.Unmarshal([]byte(text), &i)
	return i, err == nil && i.Name == name
}

// Guard is the shell script under which a program is started, as the first process
// of its session: it writes down how the program ended even if nobody of Vaiven is
// there any more. Its $0 is the file for that, the program and its arguments follow. It
// passes no signals on: a stop goes to the whole session.
const Guard = `trap : TERM INT HUP; "$@"; echo $? >"$0.new" && mv "$0.new" "$0"`

// inherited are the variables of Vaiven's own environment that instances on this machine
// get, or what their names begin with. Any other may hold a secret of somebody else's.
var inherited = []string{"PATH", "HOME", "USER", "LOGNAME", "LANG", "LANGUAGE", "LC_*", "TZ", "TMPDIR"}

// Inherited is what instances get of an environment, beside what the plan gives them.
func Inherited(environment []string) []string {
	list := []string{}
	for _, variable := range environment {
		if name, _, _ := strings.Cut(variable, "="); among(inherited, name) {
			list = append(list, variable)
		}
	}
	return list
}

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
	Marker, Record, "PWD", "OLDPWD", "SHLVL", "SHELL", "TERM*", "COLORTERM", "COLUMNS", "LINES", "DISPLAY", "WAYLAND_*",
	"WINDOWID", "VTE_*",
	"TMUX*", "STY", "SSH_*", "XDG_*", "DBUS_*", "MAIL", "_",
}

// among reports whether a name is in a list, or begins as an entry that ends with a star.
func among(list []string, name string) bool {
	return slices.ContainsFunc(list, func(s string) bool {
		beginning, open := strings.CutSuffix(s, "*")
		return name == s || open && strings.HasPrefix(name, beginning)
	})
}

// Background is what is said of an instance that has put itself into the background: how
// its first process ended says nothing then, and nobody hears how the rest does.
func Background(exit string, pid int) string {
	return fmt.Sprintf("%s, and left process %d behind: its command has to stay in the foreground", exit, pid)
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
		if ok && !among(session, name) {
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

package difference

import (
	"fmt"
	"slices"
	"strings"

	"vaiven/internal/core/split"
)

// shell are the variables that a login shell or a terminal sets for whatever is started from it, with * for any text.
var shell = []string{
	"BASH*", "COLORTERM", "COLUMNS", "DBUS_SESSION_BUS_ADDRESS", "DISPLAY", "EDITOR", "HIST*", "HOME",
	"HOSTNAME", "INVOCATION_ID", "JOURNAL_STREAM", "LANG", "LANGUAGE", "LC_*", "LESS*", "LINES", "LOGNAME",
	"LS_COLORS", "MAIL", "MANAGERPID", "MOTD_SHOWN", "OLDPWD", "PAGER", "PS1", "PWD", "SHELL", "SHLVL",
	"SSH_*", "STY", "SUDO_*", "SYSTEMD_*", "TERM", "TERM_*", "TMUX*", "USER", "VISUAL", "WINDOW*",
	"XAUTHORITY", "XDG_*", "_",
}

// FromShell is the name of a difference of all the variables that one side has from where it was started.
const FromShell = "of the shell that it was started from"

// WithoutShell makes one difference, and so one question, of all those of a part's environment that come from the
// shell or service manager that an adopted side was started from. Those that were meant stay as they are, and so
// does PATH, by which other programs may be found.
func (r Report) WithoutShell(adopted func(part string) bool) Report {
	var kept []Difference
	grouped := map[string]*Difference{}
	names := map[string][2][]string{}
	var parts []string
	for _, d := range r.List {
		if d.Meant || d.Area != Environment || !adopted(d.Part) ||
			!slices.ContainsFunc(shell, func(pattern string) bool { return Matches(pattern, d.Name) }) {
			kept = append(kept, d)
			continue
		}
		if grouped[d.Part] == nil {
			grouped[d.Part] = &Difference{Part: d.Part, Area: Environment, Name: FromShell}
			parts = append(parts, d.Part)
		}
		set := names[d.Part]
		for _, side := range split.Sides {
			if d.Has[side] {
				grouped[d.Part].Has[side] = true
				set[side] = append(set[side], d.Name+"="+d.Value[side])
			}
		}
		names[d.Part] = set
	}
	for _, part := range parts {
		d := grouped[part]
		for _, side := range split.Sides {
			switch list := names[part][side]; len(list) {
			case 0:
				d.Value[side] = "none of them"
			default:
				d.Value[side] = fmt.Sprintf("%d set: %s", len(list), strings.Join(list, " "))
			}
		}
		kept = append(kept, *d)
	}
	r.List = sorted(kept)
	return r
}

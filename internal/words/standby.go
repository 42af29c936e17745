package words

import (
	"fmt"
	"strings"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
)

// Elsewhere says what keeping a plan on another machine takes, a line each.
func Elsewhere(e plan.Elsewhere) []string {
	var lines []string
	switch {
	case len(e.Ties) > 0:
		lines = append(lines, "standby: not possible on another machine. Only this one has "+Ties(e.Ties))
	case len(e.Unsure) > 0:
		lines = append(lines, fmt.Sprintf("standby: possible on another machine. It takes over only when told to (vaiven "+
			"take-over), since %s cannot refuse what this keeper sends after that", And(e.Unsure)))
	default:
		lines = append(lines, "standby: possible on another machine. It takes over when told to (vaiven take-over) or by "+
			"itself (--after), and the front then refuses what this keeper sends")
	}
	if len(e.Ties) == 0 && len(e.Copies) > 0 {
		lines = append(lines, "standby: its machine needs "+And(e.Copies)+" as well")
	}
	return lines
}

// Ties are things with where they are, those of the same name together.
func Ties(list []plan.Tie) string {
	var names []string
	at := map[string][]string{}
	for _, t := range list {
		if _, there := at[t.What]; !there {
			names = append(names, t.What)
		}
		at[t.What] = append(at[t.What], t.Where)
	}
	for n, name := range names {
		if where := strings.TrimSpace(strings.Join(at[name], " ")); where != "" {
			names[n] = fmt.Sprintf("%s (%s)", name, strings.Join(at[name], ", "))
		}
	}
	return And(names)
}

// Standby says how it stands with a standby for a keeper: since when it follows that one, or why it does not, and after
// how long it takes over by itself, 0 for never.
func Standby(of string, follows bool, since time.Time, after time.Duration, trouble string) string {
	at := since.Local().Format("15:04:05")
	if follows {
		return fmt.Sprintf("standby for the keeper of %s, followed since %s", of, at)
	}
	text := fmt.Sprintf("standby for the keeper of %s, not followed since %s", of, at)
	if trouble != "" {
		text += " (" + trouble + ")"
	}
	if after > 0 {
		text += fmt.Sprintf("; it takes over %s after that keeper was last heard of", route.Short(after))
	}
	return text + "; vaiven take-over PLAN has it take over now"
}

// Followed says after how many watch where standbys follow, "" for none.
func Followed(standbys []string) string {
	if len(standbys) == 0 {
		return ""
	}
	return ", standby at " + And(standbys)
}

package planfile

import (
	"fmt"
	"strings"

	"vaiven/internal/core/route"
)

// WithRoute is a plan's text with other legs; all else stays as it is, comments as well. The text has to be that of a
// good plan.
func WithRoute(name string, data []byte, legs route.Route) ([]byte, error) {
	lines := strings.SplitAfter(string(data), "\n")
	begin, end := -1, len(lines)
	for n, line := range lines {
		m := topKey.FindStringSubmatch(line)
		switch {
		case m == nil:
		case m[1] == "route" && begin < 0:
			begin = n
		case begin >= 0 && end == len(lines):
			end = n
		}
	}
	if begin < 0 { // its base has one
		if len(lines) > 0 && lines[len(lines)-1] != "" {
			lines[len(lines)-1] += "\n"
		}
		begin, end = len(lines), len(lines)
	}
	for end > begin+1 { // what stands before the next key belongs to that
		if line := strings.TrimSpace(lines[end-1]); line != "" && !strings.HasPrefix(lines[end-1], "#") {
			break
		}
		end--
	}
	var b strings.Builder
	b.WriteString(strings.Join(lines[:begin], ""))
	b.WriteString("route:\n")
	for _, l := range legs {
		if l.Ask {
			b.WriteString("  - ask\n")
		}
		fmt.Fprintf(&b, "  - %v%s\n", l.Part, l.Terms())
	}
	b.WriteString(strings.Join(lines[end:], ""))
	if _, err := Parse(name, []byte(b.String())); err != nil {
		return nil, fmt.Errorf("with these legs it is no plan: %w", err)
	}
	return []byte(b.String()), nil
}

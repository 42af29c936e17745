package headless

import (
	"fmt"
	"io"
	"strings"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/words"
)

// PrintMoment says what was seen at a moment that is past, with the situation as it was shown then; times in a zone.
func PrintMoment(w io.Writer, s keeper.Snapshot, is situation.Situation, in *time.Location) error {
	var b strings.Builder
	at := s.At.In(in)
	fmt.Fprintf(&b, "PAST  %s, crossing %d at %s (%s)\n", s.Service, s.Crossing.Number, at.Format("2006-01-02 15:04:05 MST"),
		at.UTC().Format("15:04:05 UTC"))
	text := words.Situation(is, s.View, "", s.At)
	if next := words.NextOf(is, s.Crossing); next != "" {
		text += "; " + next
	}
	fmt.Fprintln(&b, text)
	for _, side := range split.Sides {
		v := s.Sides[side]
		if len(v.Instances) == 0 {
			fmt.Fprintf(&b, "%-6v nobody\n", side)
			continue
		}
		f := v.Figures
		fmt.Fprintf(&b, "%-6v %s, %v of the requests: %.1f /s, %d of %d failed; p50 %s, p99 %s; %d of %d healthy\n", side,
			v.Version, s.Front.Split.Share.Of(side), f.Rate, f.Failing, f.Requests, words.Milliseconds(f.P50),
			words.Milliseconds(f.P99), v.Healthy, max(v.Wanted, len(v.Instances)))
		for _, i := range v.Instances {
			if i.State != reading.Healthy {
				fmt.Fprintf(&b, "       %s %s: %s\n", i.Name, i.State, i.Said)
			}
		}
	}
	for _, g := range s.Guards {
		fmt.Fprintf(&b, "guard  %s: %s\n", g.Name, words.Guard(g))
	}
	if s.WayBack.State != "" {
		fmt.Fprintf(&b, "way back %s", s.WayBack.State)
		if why := words.WayBack(s.WayBack, s.At); why != "" {
			fmt.Fprintf(&b, ": %s", why)
		}
		b.WriteByte('\n')
	}
	if d := s.Door; d.Answers > 0 {
		fmt.Fprintf(&b, "front door: %s answers, %s lost, %s failing; longest gap %s\n", words.Thousands(d.Answers),
			words.Thousands(d.Lost), words.Thousands(d.Failing), words.Milliseconds(d.LongestGap))
	}
	_, err := io.WriteString(w, b.String())
	return err
}

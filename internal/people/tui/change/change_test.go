package change

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/people/tui/theme"
	"vaiven/lab/tuitest"
)

func TestAChangeFitsEveryScreen(t *testing.T) {
	th := theme.New(true)
	c := Change{From: 500, Wanted: 1234, Reached: 1235, Usually: 100 * time.Millisecond,
		Connections: strings.Repeat("every connection stays open ", 9), Notes: []string{"a reload would undo it"}}
	for n := range 60 {
		c.Steps = append(c.Steps, fmt.Sprintf("set server sailings/green-%d weight 17 ", n)+strings.Repeat("x", 200))
	}
	for _, s := range [][2]int{{142, 38}, {80, 24}, {40, 10}, {20, 5}} {
		g := cells.New(s[0], s[1])
		frame.Box(g, th, 2, s[1]-2, Title(c), Lines(th, c, s[0]-8), "esc closes", 0)
		tuitest.Fits(t, g)
	}
	g := cells.New(142, 38)
	most := frame.Box(g, th, 2, 36, Title(c), Lines(th, c, 134), "esc closes", 0)
	first := tuitest.Fits(t, g)
	g = cells.New(142, 38)
	frame.Box(g, th, 2, 36, Title(c), Lines(th, c, 134), "esc closes", frame.Scroll(most))
	last := tuitest.Fits(t, g)
	for text, want := range map[string]string{
		"5 % → 12.35 % on green, the nearest to 12.34 %": first, "100 ms": first,
		"set server sailings/green-0 weight 17": first, "↓ ": first,
		"green-59": last, "every connection stays open": last, "◇ a reload would undo it": last,
	} {
		if !strings.Contains(want, text) {
			t.Errorf("%q is missing in\n%s", text, want)
		}
	}
}

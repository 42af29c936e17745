package change

import (
	"strings"
	"testing"
	"time"

	"charm.land/lipgloss/v2"

	"vaiven/internal/front"
	"vaiven/internal/tui/theme"
)

func TestAChangeFitsEveryScreen(t *testing.T) {
	c := front.Change{From: 500, Wanted: 1234, Reached: 1235, Usually: 100 * time.Millisecond, Connections: strings.Repeat("every connection stays open ", 9), Notes: []string{"a reload would undo it"}}
	for range 60 {
		c.Steps = append(c.Steps, "set server sailings/green-1 weight 17 "+strings.Repeat("x", 200))
	}
	for _, s := range [][2]int{{142, 38}, {80, 24}, {40, 10}, {20, 5}} {
		box := New(theme.New(true), c).View(s[0], s[1])
		if lipgloss.Width(box) > s[0] || lipgloss.Height(box) > s[1] {
			t.Errorf("%d×%d: the box is %d×%d", s[0], s[1], lipgloss.Width(box), lipgloss.Height(box))
		}
	}
	box := New(theme.New(true), c).View(142, 38)
	for _, want := range []string{"5 % → 12.35 % on green", "the nearest to 12.34 %", "100 ms", "set server sailings/green-1 weight 17", "and 3", "a reload would undo it"} {
		if !strings.Contains(box, want) {
			t.Errorf("%q is missing in\n%s", want, box)
		}
	}
}

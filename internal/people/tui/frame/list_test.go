package frame

import "testing"

func TestScroll(t *testing.T) {
	s := Scroll(0)
	for _, key := range []string{"up", "down", "pgdown", "down", "pgup", "x"} {
		s = s.Press(key)
	}
	if s != 2 || s.Press("pgup") != 0 || !ScrollKey("pgup") || ScrollKey("x") {
		t.Errorf("it is scrolled by %d", s)
	}
	for _, c := range []struct{ scroll, lines, room, want int }{
		{0, 10, 4, 0}, {3, 10, 4, 3}, {9, 10, 4, 6}, {9, 3, 4, 0}, {9, 10, 0, 9},
	} {
		if got := Scroll(c.scroll).Of(c.lines, c.room); got != c.want {
			t.Errorf("%+v: the first line is %d", c, got)
		}
	}
}

func TestWindow(t *testing.T) {
	for _, c := range []struct{ at, rows, room, want int }{
		{0, 20, 5, 0}, {2, 20, 5, 0}, {3, 20, 5, 1}, {10, 20, 5, 8}, {19, 20, 5, 15}, {4, 5, 9, 0}, {3, 4, 0, 3},
		{0, 0, 5, 0},
	} {
		got := Window(c.at, c.rows, c.room)
		if got != c.want || c.room > 0 && c.rows > 0 && (c.at < got || c.at >= got+c.room) {
			t.Errorf("%+v: the first row is %d", c, got)
		}
	}
}

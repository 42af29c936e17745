package frame

import (
	"testing"
	"time"

	"vaiven/internal/people/tui/theme"
	"vaiven/internal/words"
)

func TestFiguresInText(t *testing.T) {
	for _, c := range []struct{ got, want string }{
		{words.Clock(72 * time.Second), "1:12"}, {words.Clock(3723 * time.Second), "1:02:03"},
		{words.Clock(-1), "0:00"},
		{Milliseconds(300 * time.Microsecond), "0.3 ms"}, {Milliseconds(41 * time.Millisecond), "41 ms"},
		{Milliseconds(1400 * time.Millisecond), "1.4 s"},
		{Rate(4.25), "4.2 /s"}, {Rate(255.4), "255 /s"}, {Percent(0), "0 %"}, {Percent(0.0008), "0.08 %"},
		{Percent(0.053), "5.3 %"}, {Percent(0.53), "53 %"},
		{words.Thousands(7), "7"}, {words.Thousands(48211), "48 211"}, {words.Thousands(1234567), "1 234 567"},
		{About(1234567, 0), "1 234 567"}, {About(1234567, 1234.4), "1 234 567 ±1 234"},
		{words.Age(400 * time.Millisecond), "0.4 s"}, {words.Age(75 * time.Second), "1m15s"},
	} {
		if c.got != c.want {
			t.Errorf("%q, want %q", c.got, c.want)
		}
	}
}

// Figures show their age: bright, then dim and called old, then struck out.
func TestFiguresAge(t *testing.T) {
	th := theme.New(true)
	for age, want := range map[time.Duration]string{
		400 * time.Millisecond: "86 /s bright", 2 * time.Second: "86 /s old dim", 20 * time.Second: "— 20s dim",
	} {
		text, style := Aged(th, "86 /s", age, 500*time.Millisecond, th.Ink)
		got := text + " dim"
		if style == th.Ink {
			got = text + " bright"
		}
		if got != want {
			t.Errorf("after %v: %q, want %q", age, got, want)
		}
	}
}

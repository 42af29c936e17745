package calendar

import (
	"testing"
	"time"
)

func TestClock(t *testing.T) {
	rome, err := time.LoadLocation("Europe/Rome")
	if err != nil {
		t.Fatal(err)
	}
	at, err := ParseClock("02:30")
	if err != nil {
		t.Fatal(err)
	}
	night := Clock{rome, at}
	for from, want := range map[string]string{
		"2026-06-01T00:10:00Z": "2026-06-01T00:30:00Z",
		"2026-06-01T00:30:00Z": "2026-06-01T00:30:00Z",
		"2026-06-01T00:30:01Z": "2026-06-02T00:30:00Z",
		"2026-03-28T12:00:00Z": "2026-03-29T01:30:00Z", // there is no 02:30 on that day
	} {
		begun, err := time.Parse(time.RFC3339, from)
		if err != nil {
			t.Fatal(err)
		}
		if got := night.After(begun).UTC().Format(time.RFC3339); got != want {
			t.Errorf("after %s it is %s, not %s", from, got, want)
		}
	}
	now := time.Now()
	if got := (Clock{}).After(now); !got.Equal(now) {
		t.Errorf("without one it is %v", got)
	}
	for _, text := range []string{"", "24:00", "2 o'clock", "12:60", "-1:00"} {
		if got, err := ParseClock(text); err == nil {
			t.Errorf("%q is %v", text, got)
		}
	}
}

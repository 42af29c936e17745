package backlog

import (
	"testing"
	"time"
)

// Open requests get the grace time and no more; messages as long as they become fewer.
func TestDrain(t *testing.T) {
	at := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	type look struct {
		after         time.Duration
		open, waiting int64
		want          Drained
	}
	for name, looks := range map[string][]look{
		"nothing":       {{0, 0, 0, Empty}},
		"answered":      {{0, 3, 0, Waits}, {10 * time.Second, 1, 0, Waits}, {11 * time.Second, 0, 0, Empty}},
		"grace is over": {{0, 3, 0, Waits}, {30 * time.Second, 3, 0, Waits}, {31 * time.Second, 2, 0, Cut}},
		"fewer and fewer": {{0, 0, 9, Waits}, {4 * time.Minute, 0, 8, Waits}, {8 * time.Minute, 0, 7, Waits},
			{12 * time.Minute, 1, 6, Waits}, {13 * time.Minute, 0, 0, Empty}},
		"nobody takes them": {{0, 0, 9, Waits}, {5 * time.Minute, 0, 9, Waits},
			{5*time.Minute + time.Second, 0, 9, Stuck}},
		"more are no fewer": {{0, 0, 5, Waits}, {time.Minute, 0, 9, Waits}, {4 * time.Minute, 0, 6, Waits},
			{6 * time.Minute, 0, 5, Stuck}},
	} {
		d := NewDrain(30*time.Second, at)
		for _, l := range looks {
			if got, again := d.Look(at.Add(l.after), l.open, l.waiting); got != l.want ||
				(got == Waits) != (again > 0) {
				t.Errorf("%s: after %v with %d open and %d waiting it is %v, again after %v; want %v", name, l.after, l.open,
					l.waiting, got, again, l.want)
			}
		}
	}
	if d := NewDrain(time.Hour, at); d.Patience() != time.Hour {
		t.Errorf("a longer grace time is %v", d.Patience())
	}
}

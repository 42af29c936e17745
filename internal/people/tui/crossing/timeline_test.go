package crossing

import (
	"testing"
	"time"
)

func TestTheRunningLegOwnsHalfOfThePast(t *testing.T) {
	now := time.Date(2026, 11, 23, 21, 4, 9, 300_000_000, time.UTC)
	for _, c := range []struct {
		rows       int
		leg, begun time.Duration // ago
		near, far  time.Duration // the steps
		legRows    int           // at least
	}{
		{12, 72 * time.Second, 28 * time.Minute, 15 * time.Second, 5*time.Minute + 0*time.Second, 5},
		{12, 3 * time.Second, 3 * time.Second, time.Second, 5 * time.Second, 3},
		{20, time.Hour, 10 * time.Hour, 10 * time.Minute, 6 * time.Hour, 6},
		{3, 30 * time.Second, 10 * time.Minute, 30 * time.Second, 24 * time.Hour, 1},
	} {
		list := timeline(c.rows, now, now.Add(-c.leg), now.Add(-c.begun))
		if len(list) > c.rows || len(list) == 0 {
			t.Fatalf("%+v: %d rows", c, len(list))
		}
		within := 0
		for n, s := range list {
			if n > 0 && !s.to.Equal(list[n-1].from) || !s.from.Before(s.to) {
				t.Errorf("%+v: row %d is %v to %v", c, n, s.from, s.to)
			}
			if n > 1 && s.whole && list[n-1].whole && s.to.Sub(s.from) < list[n-1].to.Sub(list[n-1].from) {
				t.Errorf("%+v: row %d is shorter than the newer one", c, n)
			}
			if s.whole && s.from.Truncate(s.to.Sub(s.from)) != s.from {
				t.Errorf("%+v: row %d begins at %v", c, n, s.from)
			}
			if s.to.After(now.Add(-c.leg)) {
				within++
			}
		}
		if within < c.legRows || within > (c.rows+1)/2+1 {
			t.Errorf("%+v: the leg has %d rows", c, within)
		}
		if c.rows > 3 && list[len(list)-1].from.After(now.Add(-c.begun)) {
			t.Errorf("%+v: the past begins at %v", c, list[len(list)-1].from)
		}
	}
	if timeline(0, now, now, now) != nil {
		t.Error("no rows, and a past")
	}
}

// What is in a finished row stays as it is: while time goes on, rows only come and go.
func TestFinishedRowsStay(t *testing.T) {
	leg := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	at := func(now time.Time) map[span]bool {
		set := map[span]bool{}
		for _, s := range timeline(14, now, leg, leg.Add(-5*time.Minute)) {
			if s.whole {
				set[s] = true
			}
		}
		return set
	}
	before := at(leg.Add(31 * time.Second))
	same := 0
	for s := range at(leg.Add(33 * time.Second)) {
		if before[s] {
			same++
		}
	}
	if same < 6 {
		t.Errorf("%d of %d rows stayed", same, len(before))
	}
}

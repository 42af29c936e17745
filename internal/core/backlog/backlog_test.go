package backlog

import (
	"math/rand/v2"
	"testing"
	"time"
)

var start = time.Date(2026, 5, 4, 6, 0, 0, 0, time.UTC)

func at(seconds float64) time.Time { return start.Add(time.Duration(seconds * float64(time.Second))) }

func TestOldest(t *testing.T) {
	type reading struct {
		at          float64
		came, there int64
	}
	for what, c := range map[string]struct {
		readings []reading
		oldest   float64 // at the time of the last reading
	}{
		"nothing was read":             {nil, 0},
		"all have gone":                {[]reading{{0, 10, 0}, {1, 30, 0}}, 0},
		"what was there came at least": {[]reading{{0, 10, 10}, {4, 10, 10}}, 4},
		"evenly between two":           {[]reading{{0, 0, 0}, {10, 100, 51}}, 5},
		"the oldest goes on":           {[]reading{{0, 0, 0}, {10, 100, 100}, {20, 100, 21}}, 12},
		"a pause in what comes": {[]reading{{0, 0, 0}, {1, 10, 1}, {2, 10, 1}, {3, 10, 1}, {60, 10, 1}},
			59},
		"what came after the pause":      {[]reading{{0, 0, 0}, {1, 10, 0}, {50, 10, 0}, {51, 20, 10}}, 0.9},
		"counting anew after a restart":  {[]reading{{0, 500, 500}, {9, 600, 600}, {10, 3, 3}, {12, 3, 3}}, 2},
		"counting begins after some":     {[]reading{{0, 0, 50}, {10, 20, 60}, {20, 20, 15}}, 17},
		"a clock that was put back":      {[]reading{{10, 5, 5}, {3, 6, 6}, {4, 6, 6}}, 1},
		"only the newest are left there": {[]reading{{0, 0, 0}, {1, 100, 100}, {2, 200, 10}}, 0.09},
		"nobody takes, and it is told late": {[]reading{{0, 100, 0}, {1, 100, 10}, {2, 110, 20}, {3, 110, 30},
			{4, 110, 40}, {5, 150, 50}, {6, 150, 60}}, 5.9},
		"fewer are there than was told": {[]reading{{0, 100, 0}, {1, 100, 50}, {2, 100, 20}, {3, 150, 20}}, 2.38},
	} {
		var l Line
		last := start
		for _, r := range c.readings {
			last = at(r.at)
			l.Add(last, r.came, r.there)
		}
		if got := l.Oldest(last).Seconds(); got < c.oldest-1e-6 || got > c.oldest+1e-6 {
			t.Errorf("%s: the oldest is there for %.3f s, want %.3f s", what, got, c.oldest)
		}
	}
}

// A queue whose messages are known one by one: what is computed of its counts is off by no more than the counts are
// late.
func TestAgainstTheMessages(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 7))
		var l Line
		var came []time.Time
		gone, now := 0, start
		every := time.Duration(1+r.IntN(3)) * time.Second
		gathers := 1 + r.IntN(2)*r.IntN(5) // readings from one count of what has come to the next
		// both curves are late, and what came between two readings is taken to have come evenly
		told, off := 0, time.Duration(2*gathers-1)*every
		for n := range 300 {
			last := now
			now = now.Add(every)
			for at := last; at.Before(now); at = at.Add(time.Duration(1+r.IntN(400)) * time.Millisecond) {
				came = append(came, at)
			}
			if n%100 < 60 && r.IntN(4) > 0 { // and then nobody takes any
				gone = min(len(came), gone+r.IntN(25))
			}
			if n%gathers == 0 {
				told = len(came)
			}
			l.Add(now, int64(told), int64(len(came)-gone))
			want := time.Duration(0)
			if gone < len(came) {
				want = now.Sub(came[gone])
			}
			if got := l.Oldest(now); (got - want).Abs() > off {
				t.Fatalf("seed %d at %v, off by %v at most: the oldest is there for %v, in truth for %v", seed,
					now.Sub(start), off, got, want)
			}
		}
	}
}

func TestNoMoreThanBounded(t *testing.T) {
	var l Line
	for n := range int64(3 * pointsMost) {
		l.Add(at(float64(n)), n, n)
	}
	if len(l.points) > pointsMost || l.Oldest(at(3*pointsMost)) < pointsMost*time.Second {
		t.Errorf("%d points, the oldest for %v", len(l.points), l.Oldest(at(3*pointsMost)))
	}
}

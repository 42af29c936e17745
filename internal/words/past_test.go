package words

import (
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/past"
	"vaiven/internal/core/split"
)

func TestSmallTrack(t *testing.T) {
	at := func(s int) time.Time { return time.Date(2026, 11, 28, 14, 0, s, 0, time.UTC) }
	c := past.Crossing{Target: split.Green, Begun: at(0), Ended: at(40), Steps: []past.Step{{At: at(0)},
		{At: at(10), Part: 500}, {At: at(20), Part: 5000}, {At: at(30), Part: split.Whole}}}
	for name, v := range map[string]struct{ got, want string }{
		"up":             {SmallTrack(c, 6, at(99)), "▁▁▅▅██"},
		"of one":         {SmallTrack(c, 1, at(99)), "█"},
		"none":           {SmallTrack(c, 0, at(99)), ""},
		"never moved":    {SmallTrack(past.Crossing{Steps: c.Steps[:1]}, 6, at(99)), ""},
		"goes on":        {SmallTrack(past.Crossing{Steps: c.Steps[:2]}, 4, at(50)), "▁▁▁▁"},
		"home":           {SmallTrack(home(c, at), 6, at(99)), "▁▁▅▅▅▅"},
		"ends as it was": {SmallTrack(past.Crossing{Steps: c.Steps[:2], Ended: at(10)}, 3, at(99)), "▁▁▁"},
	} {
		if v.got != v.want {
			t.Errorf("%s: %q, want %q", name, v.got, v.want)
		}
	}
}

// home is the crossing rolled back at its end.
func home(c past.Crossing, at func(int) time.Time) past.Crossing {
	c.Steps = append(append([]past.Step(nil), c.Steps[:3]...), past.Step{At: at(30)})
	c.Ended = at(30)
	return c
}

func TestPastInWords(t *testing.T) {
	now := time.Date(2026, 11, 28, 14, 2, 0, 0, time.UTC)
	c := past.Crossing{From: "4.2.0", Version: "4.3.0", By: "marit", Counted: crossing.Counted{Requests: 84210,
		Failed: 12,
		Lost:   2, LongestGap: 1500 * time.Millisecond}}
	yes := c
	yes.Approved = []past.Word{{By: "ines"}, {By: "ines"}, {By: "bo"}}
	own := c
	own.Approved = []past.Word{{By: "marit"}}
	u := past.Usual{Raise: past.Spread{Median: 31 * time.Second, Low: 28 * time.Second, High: 40 * time.Second, Of: 9},
		Home:  past.Spread{Median: 3 * time.Millisecond, Low: 3 * time.Millisecond, High: 3 * time.Millisecond, Of: 2},
		Prove: past.Spread{Median: time.Second, Of: 1}}
	for _, v := range []struct{ got, want string }{
		{Versions(c), "4.2.0 → 4.3.0"}, {Versions(past.Crossing{Version: "4.2.0"}), "4.2.0"},
		{Met(c), "12 of 84 210 failed, 2 lost, nobody answered for 1.5s"}, {Met(past.Crossing{}), ""},
		{Who(c), "marit"}, {Who(yes), "marit, yes by ines and bo"}, {Who(own), "marit"},
		{Day(now.Add(-time.Hour), now), "13:02"}, {Day(now.Add(-20*time.Hour), now), "18:02 yesterday"},
		{Day(now.Add(-4*24*time.Hour), now), "14:02 Tuesday"}, {Day(now.AddDate(0, -1, 0), now), "2026-10-28 14:02"},
		{PastUsual(u), "usual here: raised in 31s (28s to 40s) · rolled back in 3.0 ms"}, {PastUsual(past.Usual{}), ""},
		{Odd([]past.Odd{{Step: "raise", Times: 3}, {Step: "failed", Times: 12.4}, {Step: "prove", Times: 0.4}}),
			"this one raised 3 times as long, 12 times as much failed as usual, was proven in 1/2.5 of the time"},
		{Odd(nil), ""}, {Both(past.Overlap{Lasted: time.Minute, Still: true, Cost: 0.5, Unit: "EUR"}),
			"both sides up for 1m so far, 0.5000 EUR"},
	} {
		if v.got != v.want {
			t.Errorf("%q, want %q", v.got, v.want)
		}
	}
}

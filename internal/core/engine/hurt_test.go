package engine

import (
	"fmt"
	"testing"
	"time"

	"vaiven/internal/core/figures"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayout"
)

func TestWhenUsersAreHurt(t *testing.T) {
	now := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	view := func(requests, failing int64) View {
		v := View{Front: FrontView{At: now, Every: time.Second, Split: reading.Split{Share: 2500}}}
		v.Sides[split.Green].Figures = figures.Figures{Requests: requests, Failing: failing,
			Rate: float64(requests) / 10, Span: 10 * time.Second, To: now}
		return v
	}
	lost := func(v View, n int, ago time.Duration) View {
		for range n {
			v.Door.Bad = append(v.Door.Bad,
				reading.Bad{Mark: reading.Mark{Kind: reading.LostAnswer}, At: now.Add(-ago), Why: "connection refused"})
		}
		return v
	}
	old := view(1000, 900)
	old.Front.At = now.Add(-time.Minute)
	none := view(1000, 900)
	none.Front.Split.Share = 0
	tail := view(1000, 900)
	tail.Front.Split.Share, tail.Front.Everywhere = 0, now.Add(time.Minute)
	ways := view(1000, 0)
	ways.WaysOut = []wayout.Way{{Do: wayout.Home}}
	for _, c := range []struct {
		name  string
		view  View
		hurts bool
		want  string // failing and all on green, lost
	}{
		{"nobody asks", view(0, 0), false, "0.0 of 0, 0 lost"},
		{"all well", view(1000, 0), false, "0.0 of 100, 0 lost"},
		{"as usual", view(1000, 8), false, "0.8 of 100, 0 lost"},
		{"one of few", view(12, 1), false, "0.1 of 1, 0 lost"},
		{"a part", view(1000, 60), true, "6.0 of 100, 0 lost"},
		{"all", view(1000, 1000), true, "100.0 of 100, 0 lost"},
		{"a side that gets nothing", none, false, "0.0 of 0, 0 lost"},
		{"one to which some still go", tail, true, "90.0 of 100, 0 lost"},
		{"read long ago", old, false, "0.0 of 0, 0 lost"},
		{"one check lost", lost(view(1000, 0), 1, time.Second), false, "0.0 of 100, 1 lost"},
		{"checks lost", lost(view(1000, 0), 4, time.Second), true, "0.0 of 100, 4 lost"},
		{"checks lost long ago", lost(view(1000, 0), 8, time.Minute), false, "0.0 of 100, 0 lost"},
		{"a side is ill", ways, true, "0.0 of 100, 0 lost"},
	} {
		h, hurts := c.view.Hurt(now)
		a := h.Sides[split.Green]
		if got := fmt.Sprintf("%.1f of %.0f, %d lost", a.Failing, a.Rate, h.Lost); got != c.want || hurts != c.hurts {
			t.Errorf("%s: %s, %v; want %s, %v", c.name, got, hurts, c.want, c.hurts)
		}
		if total := h.Total(); total.Failing != a.Failing {
			t.Errorf("%s: %v in all", c.name, total)
		}
	}
}

func TestHowManyFailedSince(t *testing.T) {
	at := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	var v View
	for n := range 10 {
		v.Track = append(v.Track, Point{At: at.Add(time.Duration(n) * time.Second), Failing: int64(n)})
	}
	if got := v.FailedSince(at.Add(7 * time.Second)); got != 7+8+9 {
		t.Errorf("%d failed", got)
	}
	if v.FailedSince(at.Add(time.Hour)) != 0 {
		t.Error("something failed in the future")
	}
}

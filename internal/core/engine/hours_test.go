package engine

import (
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/split"
)

// What the live side answered is kept by the hour for a day, and not what both sides answered together; a keeper that
// begins has what the track tells.
func TestHours(t *testing.T) {
	var h hours
	at := first.Truncate(time.Hour)
	for n := range 30 * 60 { // a point a minute
		p := Point{At: at.Add(time.Duration(n) * time.Minute), All: 100, Failing: int64(n / 60)}
		if n%2 == 1 {
			p.Planned, p.Green, p.Failing = 5000, 50, 100
		}
		h.add(p)
	}
	h.add(Point{At: at.Add(30 * time.Hour), Planned: split.Whole, Green: 10, All: 10, Failing: 12})
	list := h.counts(at.Add(30*time.Hour + time.Minute))
	if len(list) != mostHours || list[0] != (evidence.Count{Bad: 30 * 7, Of: 3000}) ||
		list[mostHours-1] != (evidence.Count{Bad: 10, Of: 10}) {
		t.Errorf("%d hours, the first %+v, the last %+v", len(list), list[0], list[len(list)-1])
	}
	if list := h.counts(at.Add(60 * time.Hour)); len(list) != 0 {
		t.Errorf("of the day before the last there is still %+v", list)
	}
	b := newBench(t)
	e := New(b.e.plan, crossing.State{}, at.Add(2*time.Hour),
		Memory{Track: []Point{{At: at, All: 40, Failing: 2}, {At: at.Add(time.Hour), All: 60}}})
	if list := e.hours.counts(at.Add(2 * time.Hour)); len(list) != 2 || list[0] != (evidence.Count{Bad: 2, Of: 40}) {
		t.Errorf("from the track there is %+v", list)
	}
	other := New(b.e.plan, crossing.State{}, at.Add(2*time.Hour), e.Hand(at.Add(2*time.Hour)))
	if list := other.hours.counts(at.Add(2 * time.Hour)); len(list) != 2 {
		t.Errorf("handed over is %+v", list)
	}
}

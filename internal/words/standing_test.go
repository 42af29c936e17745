package words

import (
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
)

// What a front answers itself is said, but before a first release, and both sides that fail alike are no matter of
// which one.
func TestWhatIsNobodys(t *testing.T) {
	now := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	v := engine.View{At: now, Ready: true, Crossing: crossing.State{Number: 2, Stage: crossing.Settled},
		Front: engine.FrontView{At: now, Every: time.Second, Own: 12}}
	for side := range v.Sides {
		v.Sides[side].At, v.Sides[side].Every = now, time.Second
	}
	says := func() (string, situation.Gravity) {
		s := situation.Of(v, situation.Seen{}, now)
		return Situation(s, v, "", now), s.Gravity
	}
	if s, g := says(); !strings.Contains(s, "answered 12 requests itself") || g != situation.Wrong {
		t.Errorf("it says %s", s)
	}
	v.Crossing = crossing.State{Number: 1, Stage: crossing.Proving, First: true, Target: split.Green}
	if s, _ := says(); strings.Contains(s, "itself") {
		t.Errorf("before a first release it says %s", s)
	}
	v.Crossing = crossing.State{Number: 2, Stage: crossing.Shifting, Target: split.Green, Share: 2500}
	v.Alike = true
	for side := range v.Sides {
		v.Sides[side].Figures = figures.Figures{Requests: 100, Failing: 60, Span: 10 * time.Second, Rate: 10}
	}
	if s, _ := says(); !strings.Contains(s, "Both fail alike") || strings.Contains(s, "b b") {
		t.Errorf("of both sides it says %s", s)
	}
}

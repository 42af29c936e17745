package weighing

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/people/tui/theme"
	"vaiven/lab/testkit"
	"vaiven/lab/tuitest"
)

var legs = route.Route{{Part: 500, Dwell: 2 * time.Minute}, {Part: 2500, Dwell: 20 * time.Minute, Sure: true},
	{Part: 5000, Dwell: 2 * time.Minute, Ask: true}, {Part: split.Whole}}

func sample(w, h int) frame.Frame {
	v := engine.View{
		Service: "sailings", Planned: legs, Keep: 30 * time.Minute, Live: split.Blue,
		Traffic:  forecast.Traffic{Rate: 341, Capacity: [2]float64{480, 480}, Failing: 0.0008},
		Guarding: forecast.Guarding{Margin: 0.005, Level: 0.0024, Blocks: 4200},
		Sure:     engine.Sureness{Of: 0.99, Find: 0.01},
	}
	return frame.Frame{Theme: theme.New(true), W: w, H: h, S: keeper.Snapshot{View: v}}
}

// counted knows the clients of a log.
type counted struct{ keeper.Client }

func (counted) Clients(context.Context) (forecast.Clients, error) {
	return forecast.Clients{Of: 900, Span: 3600, Asks: []float64{0.02, 0.1, 0.4, 1.5}}, nil
}

// does has the page do what it wishes to read.
func does(t *testing.T, p frame.Page, w frame.Wish) frame.Page {
	t.Helper()
	if w.Read != nil {
		p = p.Take(w.Read(t.Context(), counted{}))
	}
	return p
}

// press presses keys that are there.
func press(t *testing.T, p frame.Page, f frame.Frame, keys ...string) (frame.Page, frame.Wish) {
	t.Helper()
	var wish frame.Wish
	for _, k := range keys {
		there := false
		for _, b := range p.Keys(f) {
			there = there || b.Enabled() && slices.Contains(b.Keys(), k)
		}
		if !there {
			t.Fatalf("%q does nothing now", k)
		}
		p, wish = p.Press(f, k)
		p = does(t, p, wish)
	}
	return p, wish
}

func TestScreens(t *testing.T) {
	page := does(t, func() frame.Page { p, w := New().(Model).Open(sample(142, 38)); return does(t, p, w) }(),
		frame.Wish{})
	for _, s := range [][2]int{{142, 38}, {220, 60}, {80, 24}, {40, 10}, {20, 5}} {
		testkit.Golden(t, fmt.Sprintf("route-%dx%d.txt", s[0], s[1]), tuitest.Draw(t, page, sample(s[0], s[1]))+"\n")
	}
}

// Legs are edited in place, and the cost follows; what is used is what is shown.
func TestEditing(t *testing.T) {
	f := sample(142, 38)
	p, w := New().(Model).Open(f)
	p = does(t, p, w)
	for _, b := range p.Keys(f) {
		if b.Enabled() && slices.Contains(b.Keys(), "w") {
			t.Error("what was not edited can be written")
		}
	}
	before := tuitest.Draw(t, p, f)
	p, _ = press(t, p, f, "down", "right", "shift+right", "v", "-")
	if _, wish := p.Press(f, "w"); len(wish.Copy) != len(legs) || wish.Copy[1].Part != 3600 {
		t.Errorf("for a copy of the plan: %v", wish.Copy)
	}
	if text := tuitest.Draw(t, p, f); text == before || !strings.Contains(text, "36 % for 15m") {
		t.Errorf("after a few keys\n%s", text)
	}
	p, _ = press(t, p, f, "m", "i", "delete", "up", "+")
	p, wish := press(t, p, f, "enter")
	want := route.Route{{Part: 500, Dwell: 3 * time.Minute}, {Part: 3600, Dwell: 15 * time.Minute, Ask: true}, legs[2],
		legs[3]}
	if !slices.Equal(wish.Legs, want) {
		t.Errorf("it wishes %v, want %v", wish.Legs, want)
	}
	p, _ = press(t, p, f, "right", "u")
	if m := p.(Model); m.edited != nil {
		t.Errorf("undone, it still has %v", m.edited)
	}
	// A share stays between its neighbours'.
	for range 70 {
		p, _ = p.Press(f, "shift+right")
	}
	if m := p.(Model); m.edited[0].Part != 2400 {
		t.Errorf("it went to %v", m.edited[0].Part)
	}
	for range 70 {
		p, _ = p.Press(f, "left")
	}
	if m := p.(Model); m.edited[0].Part != 100 {
		t.Errorf("it went to %v", m.edited[0].Part)
	}
}

// In a crossing, what is behind and the present leg stay, and the edited route goes to the keeper.
func TestInACrossing(t *testing.T) {
	f := sample(142, 38)
	f.S.Crossing = crossing.State{Stage: crossing.Shifting, Route: legs, Leg: 1, Share: 2500, Target: split.Green,
		Keep: 30 * time.Minute}
	p, w := New().(Model).Open(f)
	p = does(t, p, w)
	p, _ = press(t, p, f, "down")
	for _, b := range p.Keys(f) {
		if b.Enabled() && (slices.Contains(b.Keys(), "right") || slices.Contains(b.Keys(), "delete")) {
			t.Error("the present leg can be edited")
		}
	}
	p, _ = press(t, p, f, "down", "right")
	_, wish := press(t, p, f, "enter")
	if a, ok := wish.Do.Act.(crossing.Reroute); !ok || len(a.Route) != 4 || a.Route[2].Part != 5100 ||
		!slices.Equal(a.Route[:2], legs[:2]) {
		t.Errorf("it asks for %+v", wish.Do)
	}
}

func TestWithoutTraffic(t *testing.T) {
	f := sample(100, 20)
	f.S.Traffic = forecast.Traffic{}
	p, w := New().(Model).Open(f)
	if text := tuitest.Draw(t, p, f); w.Read != nil || !strings.Contains(text, "there is no traffic") ||
		!strings.Contains(text, "5 % for 2m") {
		t.Errorf("without traffic\n%s", text)
	}
	f.S.Planned = nil
	if text := tuitest.Draw(t, p, f); !strings.Contains(text, "nothing is known of the route") {
		t.Errorf("without a route\n%s", text)
	}
}

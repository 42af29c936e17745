package chooser

import (
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"vaiven/internal/core/engine"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/theme"
	"vaiven/lab/tuitest"
)

var now = time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)

func many(n int) keeper.Offer {
	o := keeper.Offer{Part: "web"}
	for k := range n {
		o.Versions = append(o.Versions, raise.Version{
			Name: fmt.Sprintf("4.%d.0", n-k), ID: fmt.Sprintf("sha256:%012x", 1000+k),
			At: now.Add(-time.Duration(k) * 30 * time.Hour), Note: "the timetable of week " + fmt.Sprint(k),
		})
	}
	return o
}

func (m Model) shown(t *testing.T, w, h int) string {
	g := cells.New(w, h)
	m.Draw(g, 2, h-2)
	return tuitest.Fits(t, g)
}

func typed(m Model, text string) Model {
	for _, r := range text {
		m = m.Typed(tea.KeyPressMsg{Code: r, Text: string(r)})
	}
	return m
}

func chosen(m Model) string {
	v, _ := m.Chosen()
	return v.Name
}

func TestFilteredWhileTyping(t *testing.T) {
	m := New(theme.New(true)).SetOffer(many(40), "4.7.0")
	if chosen(m) != "4.7.0" {
		t.Errorf("what is offered is %q", chosen(m))
	}
	if got := chosen(typed(m, "4.1")); got != "4.19.0" {
		t.Errorf("by its name: %q, want the newest that fits", got)
	}
	if got := chosen(typed(m, "0000000003f")); got != "4.32.0" {
		t.Errorf("by its identity: %q", got)
	}
	if got := chosen(typed(m, "week 12")); got != "4.28.0" {
		t.Errorf("by its note: %q", got)
	}
	if _, ok := typed(m, "nothing of it").Chosen(); ok {
		t.Error("what fits nothing chose something")
	}
	if got := chosen(m.Move(-99)) + chosen(m.Move(99)); got != "4.40.04.1.0" {
		t.Errorf("from end to end: %q", got)
	}
}

func TestTheBoxFits(t *testing.T) {
	s := keeper.Snapshot{View: engine.View{Parts: make([]engine.Part, 2)}}
	s.Sides[split.Blue].Instances = []reading.Condition{{Instance: reading.Instance{Part: "web", Version: "4.3.0",
		Build: many(3).Versions[0].ID, Running: true}}}
	for _, m := range []Model{New(theme.New(true)), New(theme.New(false)).SetOffer(many(300), ""),
		New(theme.New(true)).SetOffer(keeper.Offer{}, "")} {
		m = m.SetSnapshot(s, now)
		for _, size := range [][2]int{{142, 38}, {80, 24}, {40, 12}} {
			m.shown(t, size[0], size[1])
		}
	}
	v := New(theme.New(true)).SetOffer(many(3), "").SetSnapshot(s, now).shown(t, 142, 38)
	if !strings.Contains(v, "live on blue") || !strings.Contains(v, "2 d") {
		t.Errorf("the list is\n%s", v)
	}
}

// What cannot be raised says why, in the room of all that is not known of it, and what was not
// looked at yet says that.
func TestVersionsThatCannotBeRaised(t *testing.T) {
	o := many(1)
	o.Versions = append(o.Versions, raise.Version{Name: "4.4.0", Wrong: "4.4.0 is a link to nowhere, which leads " +
		"nowhere"}, raise.Version{Name: "0.1.0"})
	m := New(theme.New(true)).SetOffer(o, "")
	view := m.shown(t, 100, 30)
	for _, want := range []string{"cannot be raised: 4.4.0 is a link to nowhere, which leads", "not looked at yet"} {
		if !strings.Contains(view, want) {
			t.Errorf("it does not say %q:\n%s", want, view)
		}
	}
}

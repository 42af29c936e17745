package differences

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/difference"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/proof"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/people/tui/theme"
	"vaiven/internal/proving/pairs"
	"vaiven/lab/testkit"
	"vaiven/lab/tuitest"
)

var now = time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)

func sample() keeper.Snapshot {
	s := keeper.Snapshot{View: engine.View{Service: "sailings", Parts: []engine.Part{{Name: "search"}}}}
	s.Sides[0].Version, s.Sides[1].Version = "4.2.0", "4.5.0"
	both := [2]bool{true, true}
	s.About.Differences = difference.Report{Compared: 118, Missing: []string{"configuration motd of green-3: no such " +
		"file"}, List: []difference.Difference{
		{Area: difference.Command,
			Value: [2]string{"/srv/builds/{version}/sailings --cache 64 --quiet",
				"/srv/builds/{version}/sailings --cache 32 --quiet"}, Has: both},
		{Area: difference.Environment, Name: "REGION", Value: [2]string{"north", ""}, Has: [2]bool{true, false}},
		{Area: difference.Configuration, Name: "motd.txt", Value: [2]string{"2 lines", "2 lines"}, Has: both,
			Lines: []string{"--- blue motd.txt", "+++ green motd.txt", "@@ -1,2 +1,2 @@", " welcome", "-hold 15m",
				"+hold 5m"}},
		{Area: difference.Build, Value: [2]string{"7c1e", "b92f"}, Has: both, Meant: true},
	}}
	s.About.Pairs = pairs.Report{
		Pairs: 15, Same: 10, Times: [2]pairs.Times{{P50: 9, P99: 20}, {P50: 11, P99: 24}},
		At: now.Add(-5 * time.Second),
		Findings: []pairs.Finding{{
			Request: "GET /sailings", What: "body price", Count: 5, Value: [2]string{"900", "950"},
			Answer: [2]string{"HTTP 200 OK\n\n{\n  \"price\": 900\n}", "HTTP 200 OK\n\n{\n  \"price\": 950\n}"},
		}},
	}
	return s
}

func view(w, h int, s keeper.Snapshot) page {
	return page{Model{}, frame.Frame{Theme: theme.New(true), W: w, H: h, S: s, Now: now}}
}

func (m page) shown(t *testing.T) string { return tuitest.Draw(t, m.Model, m.Frame) }

func (m page) unfold() page {
	m.unfolded = !m.unfolded
	return m
}

func TestViewFits(t *testing.T) {
	many := sample()
	for n := range 200 {
		many.About.Differences.List = append(many.About.Differences.List, difference.Difference{
			Area: difference.Environment, Name: fmt.Sprint("V", n),
			Value: [2]string{strings.Repeat("x", n), strings.Repeat("x", n) + "y"},
		})
	}
	for name, s := range map[string]keeper.Snapshot{"sample": sample(), "nothing": {}, "many": many} {
		for _, size := range [][2]int{{142, 38}, {80, 24}, {220, 60}, {40, 10}, {20, 5}, {0, 0}} {
			w, h := size[0], size[1]
			end := view(w, h, s).unfold()
			end.Model = end.Move(99)
			for _, m := range []page{view(w, h, s), end} {
				if text := m.shown(t); t.Failed() {
					t.Fatalf("%s:\n%s", name, text)
				}
			}
		}
	}
	for _, size := range [][2]int{{142, 38}, {80, 24}} {
		w, h := size[0], size[1]
		testkit.Golden(t, fmt.Sprintf("differences-%dx%d.txt", w, h), view(w, h, sample()).shown(t)+"\n")
	}
}

func TestTheChosenOneStandsInFull(t *testing.T) {
	m := view(142, 38, sample())
	for _, step := range []struct {
		by    int
		kind  proof.Kind
		shows []string
	}{
		{0, proof.KindDifference, []string{"/srv/builds/{version}/sailings --cache 64", "…", "--cache 32"}},
		{2, proof.KindDifference, []string{"-hold 15m", "+hold 5m", "@@"}},
		{1, proof.KindPairs, []string{`"price": 900`, `"price": 950`, "HTTP 200 OK"}},
		{9, proof.KindPairs, nil},
	} {
		m.Model = m.Move(step.by)
		v := m.shown(t)
		for _, text := range step.shows {
			if !strings.Contains(v, text) {
				t.Errorf("it does not show %q:\n%s", text, v)
			}
		}
		if m.Chosen() != step.kind {
			t.Errorf("chosen is %q, want %q", m.Chosen(), step.kind)
		}
	}
	if v := m.shown(t); strings.Contains(v, "planned: build") ||
		!strings.Contains(m.unfold().shown(t), "planned: build") {
		t.Error("planned differences are not folded away, or do not unfold")
	}
}

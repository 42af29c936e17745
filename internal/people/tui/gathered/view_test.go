package gathered

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/people/tui/theme"
	"vaiven/lab/testkit"
	"vaiven/lab/tuitest"
)

var start = time.Date(2026, 11, 23, 21, 0, 0, 0, time.Local)

// sample is a guard that is well for a while, and then sees a fault, and one that sees none.
func sample() []guard.Story {
	failing := guard.Story{Guard: "failing", Watch: plan.Failing, Unit: guard.Requests, Margin: 0.005}
	door := guard.Story{Guard: "door", Watch: plan.Door, Unit: guard.Probes, Margin: 0.05}
	grows := guard.Story{Guard: "memory grows", Watch: plan.Grows, Figure: "process_resident_memory_bytes",
		Margin: 10e6}
	power := -0.3
	for n := range 60 {
		m := guard.Point{At: start.Add(time.Duration(n) * 5 * time.Second),
			Live: evidence.Count{Bad: int64(n % 3), Of: 450}, Trial: evidence.Count{Of: 50}, Needed: 2.5,
			Range: evidence.Interval{Low: -0.02, High: 0.02}}
		if power -= 0.05; n >= 45 {
			m.Trial.Bad = 4
			power += 0.35
			m.Difference = float64(n-44) * 0.002
			m.Range = evidence.Interval{Low: m.Difference - 0.015, High: m.Difference + 0.02}
		}
		m.Evidence, m.Apart = power, evidence.Interval{Low: 0.001, High: 0.01 + 0.02/float64(n+1)}
		failing.Points = append(failing.Points, m)
		lost := int64(0)
		if n == 20 || n == 21 {
			lost = int64(4 + 60*(n-20))
		}
		grows.Points = append(grows.Points,
			guard.Point{At: m.At, Value: 32e6 + float64(n)*2.6e6, Beside: 31e6, Evidence: float64(n)/20 - 0.5,
				Needed: 2.8, Difference: 31e6,
				Range: evidence.Interval{Low: 31e6 - 9e8/float64(n+10), High: 31e6 + 9e8/float64(n+10)}})
		door.Points = append(door.Points,
			guard.Point{At: m.At, Live: evidence.Count{Bad: lost, Of: 90}, Trial: evidence.Count{Of: 10},
				Evidence: -0.3 - float64(n)/20, Needed: 2.5})
	}
	return []guard.Story{failing, door, grows}
}

func sized(w, h int) frame.Frame {
	return frame.Frame{Theme: theme.New(true), W: w, H: h,
		S: keeper.Snapshot{View: engine.View{Service: "sailings", Crossing: crossing.State{Target: split.Green}}}}
}

func TestScreens(t *testing.T) {
	p := New().Take(read{sample(), nil})
	for _, s := range [][2]int{{142, 38}, {220, 60}, {80, 24}, {40, 10}, {20, 5}} {
		f := sized(s[0], s[1])
		testkit.Golden(t, fmt.Sprintf("evidence-%dx%d.txt", s[0], s[1]), tuitest.Draw(t, p, f)+"\n")
		figure, _ := p.Press(f, "right")
		figure, _ = figure.Press(f, "right")
		testkit.Golden(t, fmt.Sprintf("figure-%dx%d.txt", s[0], s[1]), tuitest.Draw(t, figure, f)+"\n")
	}
}

func TestTheCursor(t *testing.T) {
	f := sized(142, 38)
	p := New().Take(read{sample(), nil})
	press := func(keys ...string) string {
		for _, k := range keys {
			p, _ = p.Press(f, k)
		}
		return tuitest.Draw(t, p, f)
	}
	if text := press(); !strings.Contains(text, "21:04:55  blue 2 of 450, 0.44 % (its own 0.1 % to 1.0 %)   green 4 "+
		"of 50, 8 %") || !strings.Contains(text, "of 316") || !strings.Contains(text, "▸21:04:55") {
		t.Errorf("on the newest\n%s", text)
	}
	if text := press("up", "pgup"); !strings.Contains(text, "21:04:00  blue") {
		t.Errorf("eleven before\n%s", text)
	}
	if text := press("down", "right"); !strings.Contains(text, "▸ door") ||
		!strings.Contains(text, "green 0 of 10, 0 %") || !strings.Contains(text, "in probes") {
		t.Errorf("of the other guard\n%s", text)
	}
	for range 20 {
		press("pgup")
	}
	if text := press("left"); !strings.Contains(text, "21:00:15  blue") {
		t.Errorf("far back\n%s", text)
	}
	if text := press("pgdown"); !strings.Contains(text, "▸21:0") || strings.Contains(text, "▸21:00:15") {
		t.Errorf("and on\n%s", text)
	}
}

func TestWhatThereIsNot(t *testing.T) {
	f := sized(100, 20)
	for want, p := range map[string]frame.Page{"no guard has come to anything yet": New(),
		"keeper is gone": New().Take(read{err: errors.New("the keeper is gone")}),
		"no guard has":   New().Take(read{[]guard.Story{{Guard: "failing"}}, nil})} {
		if text := tuitest.Draw(t, p, f); !strings.Contains(text, want) {
			t.Errorf("%q is missing in\n%s", want, text)
		}
	}
	if r, again := New().(frame.Reader); !again || r.Every() <= 0 {
		t.Error("it is not read again")
	}
	// Many moments share rows, none is lost, and the newest have one each.
	list := sample()[0].Points
	for room := range 62 {
		all := evidence.Count{}
		got := rows(list, room)
		for _, r := range got {
			all = all.Plus(r.Live)
		}
		if len(got) > room || room > 1 && all.Of != 60*450 || room > 1 && !got[len(got)-1].At.Equal(list[59].At) ||
			room > 1 && got[len(got)-1].Live.Of != 450 {
			t.Errorf("%d rows of %d with %+v", len(got), room, all)
		}
	}
}

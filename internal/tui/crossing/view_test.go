package crossing

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/core/wayout"
	"vaiven/internal/keeper"
	"vaiven/internal/plan"
	"vaiven/internal/testkit"
	"vaiven/internal/tui/frame"
	"vaiven/internal/tui/theme"
)

var now = time.Date(2026, 11, 23, 21, 4, 9, 0, time.Local)

// sample is a crossing in the middle of its way.
func sample() keeper.Snapshot {
	legs := route.Route{
		{Part: 500, Dwell: 2 * time.Minute}, {Part: 2500, Dwell: 2 * time.Minute}, {Part: 5000, Dwell: 2 * time.Minute, Ask: true}, {Part: split.Whole},
	}
	s := keeper.Snapshot{View: engine.View{
		At: now, Service: "sailings", Planned: legs, Keep: 30 * time.Minute, Then: plan.ThenRetire, Live: split.Blue, Left: 48 * time.Second,
		Crossing: crossing.State{
			Stage: crossing.Shift, Service: "sailings", Number: 18, Target: split.Green, Version: "4.3.0", Build: "b92f0aa1c3d2", LiveVersion: "4.2.0",
			Route: legs, Keep: 30 * time.Minute, Then: plan.ThenRetire, Share: 2500, Leg: 1, Since: now.Add(-72 * time.Second),
			Begun: now.Add(-112 * time.Second), Proven: true, Moved: true,
		},
		Front:   engine.FrontView{At: now.Add(-400 * time.Millisecond), Every: 500 * time.Millisecond, Split: reading.Split{Revision: 9, Share: 2500, Since: now.Add(-72 * time.Second)}},
		Bound:   evidence.Bound{Margin: 0.005, Sure: 0.99, AtLeast: 50},
		Traffic: route.Traffic{Rate: 341, Capacity: [2]float64{480, 480}, Failing: 0.0008},
		Switch:  engine.Switch{At: now.Add(-72 * time.Second), Share: 2500, Took: 2100 * time.Microsecond},
		Door:    reading.Door{At: now, Answers: 48_211, LongestGap: 54 * time.Millisecond},
	}}
	for n := range 240 {
		m := reading.Mark{Side: "blue"}
		switch {
		case n == 200:
			m = reading.Mark{Side: "green", Kind: reading.FailingAnswer}
		case n == 210:
			m = reading.Mark{Kind: reading.LostAnswer}
		case n > 120 && n%4 == 0:
			m.Side = "green"
		}
		s.Door.Recent = append(s.Door.Recent, m)
	}
	s.Door.Lost, s.Door.Failing = 1, 1
	s.Door.Bad = []reading.Bad{
		{Mark: reading.Mark{Side: "green", Kind: reading.FailingAnswer}, At: now.Add(-7 * time.Second), Why: "status 500: no fare for this sailing"},
		{Mark: reading.Mark{Kind: reading.LostAnswer}, At: now.Add(-5 * time.Second), Why: "connection refused"},
	}
	for _, side := range split.Sides {
		v := engine.SideView{Version: "4.2.0", Build: "7c1e40d9a0b1", Healthy: 3, Wanted: 3, At: now, Every: time.Second, Capacity: 480}
		v.Figures = figures.Figures{Requests: 2550, Timed: 2550, Failing: 2, Rate: 255, P50: 11 * time.Millisecond, P99: 41 * time.Millisecond, Span: 10 * time.Second, To: now}
		if side == split.Green {
			v.Version, v.Build = "4.3.0", "b92f0aa1c3d2"
			v.Figures = figures.Figures{Requests: 860, Timed: 860, Failing: 1, Rate: 86, P50: 10 * time.Millisecond, P99: 58 * time.Millisecond, Span: 10 * time.Second, To: now}
		}
		for n := range 3 {
			c := reading.Condition{
				Instance: reading.Instance{Name: fmt.Sprintf("%v-%d", side, n+1), Side: side, Running: true}, State: reading.Healthy,
				Since: now.Add(-time.Hour), At: now, Took: time.Duration(n+1) * time.Millisecond, History: []float64{1, 2, 4, 2, 1, 3, 2, 1, 2, 5},
			}
			v.Instances = append(v.Instances, c)
		}
		s.Sides[side] = v
	}
	for n := range 110 {
		p := engine.Point{At: now.Add(time.Duration(n-110) * time.Second), All: 340}
		switch {
		case n >= 38:
			p.Planned, p.Green = 2500, 85
		case n >= 8:
			p.Planned, p.Green = 500, 17
		}
		if n == 60 {
			p.Failing = 40
		}
		s.Track = append(s.Track, p)
	}
	s.Proof = proof.Proof{Results: make([]proof.Result, 12)}
	for n := range s.Proof.Results {
		s.Proof.Results[n] = proof.Result{Check: "search", Pass: true}
	}
	s.Guards = []guard.Status{
		{Name: "failing", Watch: plan.Failing, State: guard.Clear, Bound: evidence.Bound{Margin: 0.005}, Baseline: evidence.Count{Bad: 20, Of: 25_000}, Trial: evidence.Count{Bad: 10, Of: 8600}, Sureness: []float64{0, 0, 0.1, 0}},
		{Name: "over 250ms", Watch: plan.Slow, State: guard.Watching, Bound: evidence.Bound{Margin: 0.02}, Baseline: evidence.Count{Bad: 2, Of: 25_000}, Trial: evidence.Count{Bad: 190, Of: 8600}, Comparison: evidence.Comparison{Sure: 0.78}, More: 40 * time.Second, Sureness: []float64{0, 0.2, 0.4, 0.6, 0.78}},
		{Name: "unhealthy", Watch: plan.Unhealthy, State: guard.Clear},
		{Name: "lost at front", Watch: plan.Lost, State: guard.Tripped, Trial: evidence.Count{Bad: 1}},
		{Name: "door", Watch: plan.Door, State: guard.Unknown, Lack: guard.TooFew, Bound: evidence.Bound{Margin: 0.05, AtLeast: 10}, Baseline: evidence.Count{Bad: 2, Of: 400}, Trial: evidence.Count{Of: 8}},
	}
	s.WayBack = wayback.Judge(wayback.Facts{Side: split.Blue, Healthy: 3, Instances: 3, Rate: 710, Capacity: 1000, FrontRead: true, Rehearsal: wayback.Rehearsal{At: s.At.Add(-9 * time.Second), Took: s.Switch.Took}, Rehearsed: wayback.SpreadOf([]time.Duration{s.Switch.Took})})
	return s
}

var hintsSample = []frame.Hint{
	{Key: "b b", Does: "roll back"}, {Key: "n", Does: "next leg"}, {Key: "space", Does: "freeze"}, {Key: "← →", Does: "steer"}, {Key: "?", Does: "keys"}, {Key: "q", Does: "quit"},
}

func draw(s keeper.Snapshot, w, h int) Model {
	return New(theme.New(true)).SetSize(w, h).SetSnapshot(s, now).SetKeys(hintsSample, nil)
}

// screen is what a terminal of the size would show, without colours.
func screen(view string, w, h int) string {
	return ansi.Strip(lipgloss.NewCanvas(w, h).Compose(lipgloss.NewLayer(view)).Render()) + "\n"
}

func TestTheViewAtItsSizes(t *testing.T) {
	for _, size := range [][2]int{{80, 24}, {142, 38}, {220, 60}, {100, 30}, {40, 10}} {
		w, h := size[0], size[1]
		v := draw(sample(), w, h).View()
		if lipgloss.Width(v) > w || lipgloss.Height(v) > h {
			t.Errorf("the view overflows %d×%d: %d×%d", w, h, lipgloss.Width(v), lipgloss.Height(v))
		}
		testkit.Golden(t, fmt.Sprintf("shift-%dx%d.txt", w, h), screen(v, w, h))
	}
}

// No size may make it panic, nor draw beyond its edges.
func TestTheViewAtEverySize(t *testing.T) {
	for w := 0; w < 150; w += 7 {
		for h := 0; h < 64; h += 3 {
			for _, s := range []keeper.Snapshot{{}, sample()} {
				v := draw(s, w, h).SetGhost(4000, true).View()
				if lipgloss.Width(v) > w || lipgloss.Height(v) > max(h, 1) {
					t.Fatalf("the view overflows %d×%d", w, h)
				}
			}
		}
	}
}

func TestTheGhostShowsWhatWouldBe(t *testing.T) {
	v := ansi.Strip(draw(sample(), 142, 38).SetGhost(5000, true).View())
	for _, want := range []string{"→ 170 /s", "→ 36 %", "→ 50 %", "(○)"} {
		if !strings.Contains(v, want) {
			t.Errorf("the ghost at 50 %% does not show %q:\n%s", want, v)
		}
	}
}

// Every state says in words what it is.
func TestStatesInWords(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(*keeper.Snapshot)
		want   []string
	}{
		{"nothing yet", func(s *keeper.Snapshot) {
			*s = keeper.Snapshot{View: engine.View{Service: "sailings", Planned: s.Planned}}
		}, []string{"no crossing yet", "front not read yet", "nothing to go back from", "planned, not begun"}},
		{"raising", func(s *keeper.Snapshot) {
			s.Crossing.Stage, s.Crossing.Since = crossing.Raise, now.Add(-14*time.Second)
			i := &s.Sides[split.Green].Instances[2]
			i.State, i.Since, s.Sides[split.Green].Healthy = reading.Starting, now.Add(-14*time.Second), 2
			i.Output = []string{"starting", "waiting for the timetable"}
		}, []string{"raise  2 of 3 healthy, 0:14", "○ green-3", "starting 0:14", "waiting for the timetable"}},
		{"raising, against the typical time", func(s *keeper.Snapshot) {
			s.Crossing.Stage, s.Crossing.Since, s.Typical = crossing.Raise, now.Add(-14*time.Second), 3*time.Second
			s.Parts = []engine.Part{{Name: "web", Wanted: [2]int{3, 3}}, {Name: "berths", Wanted: [2]int{1, 2}}}
			green := s.Sides[split.Green].Instances
			for n := range green {
				green[n].Part = "web"
				green[n].State, green[n].Since, green[n].Started = reading.Answering, now.Add(-time.Second), now.Add(-2*time.Second)
			}
			green[2].Started, green[2].Output = now.Add(-14*time.Second), []string{"waiting for the timetable"}
			s.Overlap = engine.Overlap{Since: now.Add(-192 * time.Second), Cost: plan.Price{Amount: 0.0128, Unit: "EUR"}}
		}, []string{"◐ green-1 ━━━", "answering 0:01", "stuck 0:14 of 0:03", "waiting for the timetable", "green-berths-1", "green-berths-2", "asked for", "both up   3:12 · 0.0128 EUR"}},
		{"proving failed", func(s *keeper.Snapshot) {
			s.Crossing.Stage, s.Crossing.Question = crossing.Prove, crossing.Question{ID: 7, Kind: crossing.AskProof}
			s.Proof.Results[3] = proof.Result{Check: "search", Instance: "green-2", Want: "status 200", Got: "status 503"}
		}, []string{"11 of 12 passing", "search on green-2", "status 503", "◇ the proof failed. Try again?", "a says yes"}},
		{"asking", func(s *keeper.Snapshot) {
			s.Crossing.Question = crossing.Question{ID: 7, Kind: crossing.AskLeg, Leg: 2, Part: 5000, Side: split.Green}
		}, []string{"◇ go on to 50 % on green?"}},
		{"frozen", func(s *keeper.Snapshot) {
			s.Left = 30 * time.Second
			s.Crossing.Freezes = []crossing.Freeze{{ID: 7, Cause: crossing.Cause{Kind: crossing.ByHand}}, {ID: 8, Cause: crossing.Cause{Kind: crossing.ByGuard, Alarm: crossing.Alarm{Guard: "failing", Watch: plan.Failing, Level: 0.2, Sure: 0.995}}}}
		}, []string{"frozen  leg 2 of 4", "frozen: failing: 20 % against 0 %, worse, 99.50 % sure (and 1 more)", "frozen, 0:30 left"}},
		{"not watched", func(s *keeper.Snapshot) {
			s.Lacks = []crossing.Lack{{Kind: crossing.LackSide, Side: split.Green, Since: now.Add(-12 * time.Second), Said: "host green.vessa does not answer"}}
		}, []string{"time does not count: green's instances were not read for 12s (host green.vessa does not answer)"}},
		{"too little is known", func(s *keeper.Snapshot) {
			lacks := []crossing.Lack{{Kind: crossing.LackAnswers, Guard: "door", Have: 8, Need: 10, Since: now.Add(-2 * time.Minute)}, {Kind: crossing.LackBaseline, Guard: "failing"}}
			s.Crossing.Freezes = []crossing.Freeze{{ID: 7, Cause: crossing.Cause{Kind: crossing.NotKnown, Lacks: lacks}}}
		}, []string{"frozen: not enough is known to go on: door waits for answers since " + now.Add(-2*time.Minute).Format("15:04:05") + ", and has 8 of 10 (and 1 more)"}},
		{"the live side is dead", func(s *keeper.Snapshot) {
			s.Crossing.Freezes = []crossing.Freeze{{ID: 7, Cause: crossing.Cause{Kind: crossing.HomeIll, Home: crossing.Bench{Known: true, Side: split.Blue, Instances: 3, Other: 3}}}}
			s.WaysOut = wayout.List(wayout.Facts{Target: split.Green, Share: 2500, Moved: true, Proven: true, Rate: 340, Sides: [2]wayout.Side{{Known: true, Instances: 3}, {Known: true, Healthy: 3, Instances: 3}}})
		}, []string{"frozen: the live side is dead: none of the 3 instances of blue is healthy. What helps most: all to green, 0 of 340 /s fail",
			"what helps", "f enter  all to green   0 of 340 /s fail", "         hold         255 of 340 /s fail", "b b      all to blue  340 of 340 /s fail"}},
		{"compared with what was", func(s *keeper.Snapshot) { s.Guards[0].AsOf = now }, []string{"no sign of it, against 21:04"}},
		{"going back", func(s *keeper.Snapshot) {
			s.Crossing.GoingBack, s.Crossing.Why = true, crossing.Cause{Kind: crossing.ByHand}
		}, []string{"going back: by hand", "all back to blue"}},
		{"kept", func(s *keeper.Snapshot) {
			s.Crossing.Stage, s.Crossing.Share, s.Crossing.Leg, s.Left = crossing.Keep, split.Whole, 3, 20*time.Minute
			s.Front.Split.Share = split.Whole
		}, []string{"keep blue", "10:00 of 30:00", "20:00 more", "retire blue"}},
		{"over", func(s *keeper.Snapshot) {
			s.Crossing.Stage, s.Crossing.Why = crossing.RolledBack, crossing.Cause{Kind: crossing.ByHand, Why: "it looks wrong"}
		}, []string{"rolled back: it looks wrong"}},
		{"front gone", func(s *keeper.Snapshot) {
			s.Front.Error, s.Front.At = "front does not answer at front.sock", now.Add(-8*time.Second)
		}, []string{"front does not answer", "read 8.0 s ago", "— 8.0 s"}},
		{"disk full", func(s *keeper.Snapshot) { s.Trouble = "the logbook cannot be written" }, []string{"the logbook cannot be written"}},
		{"instances in trouble", func(s *keeper.Snapshot) {
			list := s.Sides[split.Green].Instances
			list[0].State, list[0].Said = reading.Failing, "status 503"
			list[1].State, list[1].Said = reading.Exited, "exit status 3"
		}, []string{"▲ green-1", "failing: status 503", "× green-2", "exit status 3"}},
		{"a side that cannot be read", func(s *keeper.Snapshot) { s.Sides[split.Blue].Error = "permission denied" }, []string{"blue cannot be read: permission denied"}},
		{"way back narrow", func(s *keeper.Snapshot) {
			s.WayBack = wayback.Judge(wayback.Facts{Side: split.Blue, Healthy: 2, Instances: 3, FrontRead: true})
		}, []string{"NARROW", "2 of 3"}},
		{"to blue", func(s *keeper.Snapshot) {
			s.Live, s.Crossing.Target, s.Crossing.Share, s.Front.Split.Share = split.Green, split.Blue, 7500, 7500
		}, []string{"live · keeps 75 %", "candidate", "100 %, keep green 30m"}},
	} {
		s := sample()
		c.change(&s)
		v := ansi.Strip(draw(s, 142, 38).View())
		for _, want := range c.want {
			if !strings.Contains(v, want) {
				t.Errorf("%s: the screen does not say %q:\n%s", c.name, want, v)
			}
		}
	}
}

// Figures show their age: bright, then dim, then struck out.
func TestFiguresAge(t *testing.T) {
	m := draw(sample(), 142, 38)
	for age, want := range map[time.Duration]string{
		400 * time.Millisecond: "86 /s bright", 2 * time.Second: "86 /s dim", 20 * time.Second: "— 20s dim",
	} {
		text, style := m.aged("86 /s", now.Add(-age), 500*time.Millisecond, m.theme.Ink)
		got := text + " dim"
		if style == m.theme.Ink {
			got = text + " bright"
		}
		if got != want {
			t.Errorf("after %v: %q, want %q", age, got, want)
		}
	}
	if text, _ := m.aged("0 /s", time.Time{}, time.Second, m.theme.Ink); text != "—" {
		t.Errorf("never read: %q", text)
	}
}

func TestFiguresInText(t *testing.T) {
	for _, c := range []struct{ got, want string }{
		{frame.Clock(72 * time.Second), "1:12"}, {frame.Clock(3723 * time.Second), "1:02:03"}, {frame.Clock(-1), "0:00"},
		{frame.Milliseconds(300 * time.Microsecond), "0.3 ms"}, {frame.Milliseconds(41 * time.Millisecond), "41 ms"}, {frame.Milliseconds(1400 * time.Millisecond), "1.4 s"},
		{frame.Rate(4.25), "4.2 /s"}, {frame.Rate(255.4), "255 /s"}, {frame.Percent(0), "0 %"}, {frame.Percent(0.0008), "0.08 %"}, {frame.Percent(0.053), "5.3 %"}, {frame.Percent(0.53), "53 %"},
		{frame.Thousands(7), "7"}, {frame.Thousands(48211), "48 211"}, {frame.Thousands(1234567), "1 234 567"}, {frame.Age(400 * time.Millisecond), "0.4 s"}, {frame.Age(75 * time.Second), "1m15s"},
	} {
		if c.got != c.want {
			t.Errorf("%q, want %q", c.got, c.want)
		}
	}
}

// Without colour the screen says the same.
func TestColourCarriesNoMeaningAlone(t *testing.T) {
	dark, light := draw(sample(), 142, 38), draw(sample(), 142, 38).SetTheme(theme.New(false))
	if ansi.Strip(dark.View()) != ansi.Strip(light.View()) {
		t.Error("dark and light differ in more than their colours")
	}
	if dark.View() == light.View() {
		t.Error("dark and light do not differ at all")
	}
}

func BenchmarkView(b *testing.B) {
	m := draw(sample(), 200, 60)
	b.ReportAllocs()
	for b.Loop() {
		_ = m.View()
	}
}

// A front that measures no times shows none, and a long share stays apart from the
// version.
func TestWhatIsNotKnownIsNotZero(t *testing.T) {
	s := sample()
	for side := range s.Sides {
		s.Sides[side].Figures.Timed, s.Sides[side].Figures.P50, s.Sides[side].Figures.P99 = 0, 0, 0
	}
	s.Front.Split.Share = 8755
	v := ansi.Strip(draw(s, 142, 38).View())
	for _, want := range []string{"BLUE  4.2.0       keeps 12.45 %", "p50                           —", "p99                           —"} {
		if !strings.Contains(v, want) {
			t.Errorf("the view does not say %q:\n%s", want, v)
		}
	}
}

// Any number of guards has room: the gravest are shown, and how the rest stands.
func TestManyGuards(t *testing.T) {
	s := sample()
	for n := range 6 {
		g := guard.Status{Name: fmt.Sprintf("fares %d", n), Watch: plan.Failing, State: guard.Clear}
		if n == 4 {
			g.State, g.Lack = guard.Unknown, guard.NotRead
		}
		s.Guards = append(s.Guards, g)
	}
	for _, size := range [][2]int{{80, 24}, {142, 38}} {
		v := screen(draw(s, size[0], size[1]).View(), size[0], size[1])
		rest := "and 8 more: 1 unknown, 7 clear"
		if size[0] > wideFrom {
			rest = "and 7 more: 7 clear"
		}
		for _, want := range []string{"lost at front", "over 250ms", "too few answers yet, 8 of 10", rest, "way back  OPEN"} {
			if !strings.Contains(v, want) {
				t.Errorf("%v: %q is not shown:\n%s", size, want, v)
			}
		}
	}
}

// Why something froze is said with it.
func TestWhyItFroze(t *testing.T) {
	s := sample()
	trouble := crossing.Trouble{Kind: crossing.TroubleFront, Said: "the pier is closed"}
	s.Crossing.Freezes = []crossing.Freeze{{ID: 7, Cause: crossing.Cause{Kind: crossing.ByFront, Trouble: trouble}}}
	want := "frozen: the front did not take the share: the pier is closed   space goes on"
	if v := ansi.Strip(draw(s, 142, 38).View()); !strings.Contains(v, want) {
		t.Errorf("the view does not say %q:\n%.400s", want, v)
	}
}

// A wrong split is said in full, and in few words where it is drawn.
func TestAWrongSplit(t *testing.T) {
	s := sample()
	since := time.Date(2026, 11, 23, 17, 55, 23, 0, time.Local)
	s.Split = engine.JudgeSplit(2500, plan.Front{Key: plan.Key{From: plan.KeyRandom}}, reading.Tells{Both: true}, evidence.Count{}, [2]int64{323, 54})
	s.Split.Since = since
	if !s.Split.Wrong {
		t.Fatalf("it is not wrong: %+v", s.Split)
	}
	v := ansi.Strip(draw(s, 142, 38).View())
	for _, want := range []string{"the split is off by -10.7 points where 25 % is asked: 14.3 % ±3.7 of 377 answers at the front door, since 17:55:23", "share of requests on green  off by -10.7 points, since 17:55:23  "} {
		if !strings.Contains(v, want) {
			t.Errorf("the view does not say %q:\n%.900s", want, v)
		}
	}
}

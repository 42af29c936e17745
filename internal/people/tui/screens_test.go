package tui

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/core/wayout"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/theme"
	"vaiven/internal/world/secret"
	"vaiven/lab/testkit"
	"vaiven/lab/tuitest"
)

var now = time.Date(2026, 11, 23, 21, 4, 9, 0, time.Local)

// sample is a crossing in the middle of its way.
func sample() keeper.Snapshot {
	legs := route.Route{
		{Part: 500, Dwell: 2 * time.Minute}, {Part: 2500, Dwell: 2 * time.Minute},
		{Part: 5000, Dwell: 2 * time.Minute, Ask: true}, {Part: split.Whole},
	}
	s := keeper.Snapshot{View: engine.View{
		At: now, Service: "sailings", Planned: legs, Keep: 30 * time.Minute, Then: plan.ThenRetire, Live: split.Blue,
		Left: 48 * time.Second,
		Crossing: crossing.State{
			Stage: crossing.Shifting, Service: "sailings", Number: 18, Target: split.Green, Version: "4.3.0",
			Build: "b92f0aa1c3d2", LiveVersion: "4.2.0",
			Route: legs, Keep: 30 * time.Minute, Then: plan.ThenRetire, Share: 2500, Leg: 1,
			Since: now.Add(-72 * time.Second),
			Begun: now.Add(-112 * time.Second), Proven: true, Moved: true,
		},
		Front: engine.FrontView{At: now.Add(-400 * time.Millisecond), Every: 500 * time.Millisecond,
			Split: reading.Split{Revision: 9, Share: 2500, Since: now.Add(-72 * time.Second)}},
		Guarding: forecast.Guarding{Margin: 0.005, Level: 0.0024, Blocks: 4200},
		Traffic:  forecast.Traffic{Rate: 341, Capacity: [2]float64{480, 480}, Failing: 0.0008},
		Switch:   engine.Switch{At: now.Add(-72 * time.Second), Share: 2500, Took: 2100 * time.Microsecond},
		Door:     reading.Door{At: now, Answers: 48_211, LongestGap: 54 * time.Millisecond},
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
		{Mark: reading.Mark{Side: "green", Kind: reading.FailingAnswer}, At: now.Add(-7 * time.Second),
			Why: "status 500: no fare for this sailing"},
		{Mark: reading.Mark{Kind: reading.LostAnswer}, At: now.Add(-5 * time.Second), Why: "connection refused"},
	}
	for _, side := range split.Sides {
		v := engine.SideView{Version: "4.2.0", Build: "7c1e40d9a0b1", Healthy: 3, Wanted: 3, At: now,
			Every: time.Second, Capacity: 480}
		v.Figures = figures.Figures{Requests: 2550, Timed: 2550, Failing: 2, Rate: 255, P50: 11 * time.Millisecond,
			P99: 41 * time.Millisecond, Span: 10 * time.Second, To: now}
		if side == split.Green {
			v.Version, v.Build = "4.3.0", "b92f0aa1c3d2"
			v.Figures = figures.Figures{Requests: 860, Timed: 860, Failing: 1, Rate: 86, P50: 10 * time.Millisecond,
				P99: 58 * time.Millisecond, Span: 10 * time.Second, To: now}
		}
		for n := range 3 {
			c := reading.Condition{
				Instance: reading.Instance{Name: fmt.Sprintf("%v-%d", side, n+1), Side: side, Running: true},
				State:    reading.Healthy,
				Since:    now.Add(-time.Hour), At: now, Took: time.Duration(n+1) * time.Millisecond,
				History: []float64{1, 2, 4, 2, 1, 3, 2, 1, 2, 5},
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
		{Name: "failing", Watch: plan.Failing, State: guard.Clear, Margin: 0.005, Find: 0.01, Excluded: 0.01,
			Baseline: evidence.Count{Bad: 20, Of: 25_000}, Trial: evidence.Count{Bad: 10, Of: 8600},
			Sureness: []float64{0, 0, 0.1, 0}},
		{Name: "over 250ms", Watch: plan.Slow, State: guard.Watching, Margin: 0.02, Find: 0.04, Excluded: 0.07,
			Baseline: evidence.Count{Bad: 2, Of: 25_000}, Trial: evidence.Count{Bad: 190, Of: 8600}, Sure: 0.3,
			More: 40 * time.Second, Sureness: []float64{0, 0.2, 0.4, 0.6, 0.78}},
		{Name: "unhealthy", Watch: plan.Unhealthy, State: guard.Clear},
		{Name: "no answer at the front", Watch: plan.Lost, State: guard.Clear, Trial: evidence.Count{Bad: 1}},
		{Name: "door", Watch: plan.Door, State: guard.Unknown, Gap: guard.TooFew, Margin: 0.05, Find: 0.1, Excluded: 1,
			Baseline: evidence.Count{Bad: 2, Of: 400}, Trial: evidence.Count{Of: 8}},
	}
	s.WayBack = wayback.Judge(wayback.Facts{Side: split.Blue, Healthy: 3, Instances: 3, Rate: 710, Capacity: 1000,
		FrontRead: true, Rehearsal: wayback.Rehearsal{At: s.At.Add(-9 * time.Second), Took: s.Switch.Took},
		Rehearsed: wayback.SpreadOf([]time.Duration{s.Switch.Took})})
	return s
}

// at is a screen of a size on a snapshot.
func at(s keeper.Snapshot, w, h int) root {
	r := newRoot(nil, Config{Client: &client{}, By: "marit", Identity: "me", Theme: "dark",
		Clock: func() time.Time { return now }})
	for _, m := range []tea.Msg{tea.WindowSizeMsg{Width: w, Height: h}, snapshotRead{s}} {
		model, _ := r.Update(m)
		r = model.(root)
	}
	return r
}

func (r root) shown(t *testing.T) string {
	t.Helper()
	g := cells.New(r.w, r.h)
	r.draw(g)
	return tuitest.Fits(t, g)
}

// pad fills up what a grid leaves out, as a terminal does.
func lines(text string) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		b.WriteString(strings.TrimRight(line, " \n") + "\n")
	}
	return b.String()
}

// state is one that a screen can be in.
type state struct {
	name   string
	change func(*keeper.Snapshot)
	want   []string
}

var dead = crossing.Serving{Known: true, Side: split.Blue, Instances: 3, Other: 3}

var states = []state{
	{"nothing read yet", func(s *keeper.Snapshot) {
		*s = keeper.Snapshot{View: engine.View{Service: "sailings", Planned: s.Planned}}
	}, []string{"no crossing yet", "front not read yet", "nothing to roll back from", "planned, not begun",
		"not read yet"}},
	{"the first release ever", func(s *keeper.Snapshot) {
		*s = keeper.Snapshot{View: engine.View{At: s.At, Service: "sailings", Planned: s.Planned, Front: s.Front,
			Live: split.Blue}}
		s.Front.Split.Share = 0
	}, []string{"nothing is released yet: s chooses a version for the first release"}},
	{"the first release, half way", func(s *keeper.Snapshot) {
		s.Crossing.First, s.Crossing.LiveVersion = true, ""
		s.Sides[split.Blue] = engine.SideView{Every: time.Second, At: s.At}
		s.WayBack = wayback.Readiness{}
	}, []string{"none: nothing was live before", "empty"}},
	{"an empty logbook, at rest", func(s *keeper.Snapshot) { rest(s, crossing.None) },
		[]string{"all right: blue (4.2.0) gets all requests", "live, gets all"}},
	{"at rest, and nobody asks", func(s *keeper.Snapshot) {
		rest(s, crossing.None)
		s.Traffic.Rate = 0
	}, []string{"blue (4.2.0) gets all requests; no requests now"}},
	{"at rest, and nothing is counted", func(s *keeper.Snapshot) {
		rest(s, crossing.None)
		s.Traffic.Rate, s.Front.Blind = 0, "blue-1 does not tell what it answers"
	}, []string{"blue (4.2.0) gets all requests; blue-1 does not tell what it answers"}},
	{"raising", func(s *keeper.Snapshot) {
		s.Crossing.Stage, s.Crossing.Since, s.Typical = crossing.Raising, now.Add(-14*time.Second), 55*time.Second
		s.Crossing.Share, s.Front.Split.Share, s.Crossing.Moved = 0, 0, false
		i := &s.Sides[split.Green].Instances[2]
		i.State, i.Since, i.Started, s.Sides[split.Green].Healthy = reading.Starting, now.Add(-14*time.Second),
			now.Add(-14*time.Second), 2
		i.Output = []string{"starting", "waiting for the timetable"}
	}, []string{"raise  2 of 3 healthy, 0:14", "◐ green-3", "starting 0:14", "waiting for the timetable",
		"raising green, 2 of 3 healthy, 14s, usually 55s; blue gets all requests"}},
	{"more instances before a leg", func(s *keeper.Snapshot) {
		s.Crossing.Task = crossing.Task{ID: 9, Do: crossing.TaskRaise, Side: split.Green, More: true, Share: 5000,
			Leg: 2, Choices: []raise.Choice{{Part: "web", Version: "4.3.0", Instances: 8}}}
	}, []string{"all right: green gets more instances, 3 of 8 healthy, before 50 % on green (new); 25 % on green"}},
	{"a hook that is waited for", func(s *keeper.Snapshot) {
		s.Hook = engine.Hook{Moment: plan.BeforeLeg, Command: "./permit", Since: now.Add(-12 * time.Second),
			Within: time.Minute}
	}, []string{"all right: hook ./permit (before-leg) runs, 12s of 1m; "}},
	{"raising, too slowly", func(s *keeper.Snapshot) {
		s.Crossing.Stage, s.Crossing.Since, s.Typical = crossing.Raising, now.Add(-14*time.Second), 3*time.Second
		s.Crossing.Share, s.Front.Split.Share, s.Crossing.Moved = 0, 0, false
		s.Parts = []engine.Part{{Name: "web", Wanted: [2]int{3, 3}}, {Name: "berths", Wanted: [2]int{1, 2}}}
		green := s.Sides[split.Green].Instances
		for n := range green {
			green[n].Part = "web"
			green[n].State, green[n].Since, green[n].Started = reading.Answering, now.Add(-time.Second),
				now.Add(-2*time.Second)
		}
		green[2].Started, green[2].Output = now.Add(-14*time.Second), []string{"waiting for the timetable"}
		s.Overlap = engine.Overlap{Since: now.Add(-192 * time.Second), Cost: plan.Price{Amount: 0.0128, Unit: "EUR"}}
	}, []string{"◐ green-1", "up, not healthy 0:01", "stuck 0:14 of 0:03", "green-berths-1", "green-berths-2",
		"asked for", "both run   3:12, 0.0128 EUR",
		"▲ green is slow to come up, 3 of 3 healthy: green-3 waits for 14s, usually 3s"}},
	{"the raise failed", func(s *keeper.Snapshot) {
		s.Crossing.Stage, s.Crossing.Since, s.Typical = crossing.Raising, now.Add(-20*time.Second), 6*time.Second
		s.Crossing.Share, s.Front.Split.Share, s.Crossing.Moved = 0, 0, false
		s.Limits = [2]time.Duration{20 * time.Second, 20 * time.Second}
		green := s.Sides[split.Green].Instances
		s.Sides[split.Green].Wanted, s.Sides[split.Green].Healthy = 3, 1
		green[1].State, green[1].Since, green[1].Started = reading.Answering, now.Add(-19*time.Second),
			now.Add(-20*time.Second)
		green[1].Running, green[1].Said, green[1].Output = true, "status 503", []string{"waiting for the timetable"}
		green[2].State, green[2].Since, green[2].Running = reading.Exited, now.Add(-9*time.Second), false
		green[2].Output = []string{"no berth is free"}
		green[0].Running = true
		s.Crossing.Question = crossing.Question{ID: 7, Side: split.Green, At: now.Add(-time.Second),
			Is: crossing.AskRaise{Trouble: crossing.Went(crossing.TroubleRaise{Limit: 20 * time.Second})}}
	}, []string{"raise  1 of 3 healthy, at most 20s, usually 6s", "a: start 1 again, and wait for the 2 that run",
		"× green-3", `wrote "no berth is free"`, `status 503; wrote "waiting for the timetable"`,
		"◇ the raise failed. Try again?"}},
	{"what the proof found was accepted", func(s *keeper.Snapshot) {
		r := proof.Result{Check: "differences", Instance: "green", Ask: true, Got: "1: environment REGION", At: now}
		s.Proof = proof.Proof{Results: []proof.Result{{Check: "search", Instance: "green-1", Pass: true, At: now}, r}}
		s.Crossing.Accepted = []proof.Finding{r.Finding()}
	}, []string{"◆ 1 of 2, accepted"}},
	{"the proof failed", func(s *keeper.Snapshot) {
		s.Crossing.Stage, s.Crossing.Question = crossing.Proving, crossing.Question{ID: 7, Is: crossing.AskProof{}}
		s.Crossing.Share, s.Front.Split.Share = 0, 0
		s.Proof.Results[3] = proof.Result{Check: "search", Instance: "green-2", Want: "status 200", Got: "status 503"}
	}, []string{"11 of 12 passing", "▲ failed   search on green-2", "status 503",
		"◇ the proof failed. Try again?  a answers"}},
	{"half way", func(*keeper.Snapshot) {}, []string{"all right: green gets 25 % of requests; 3 of 5 guards clear",
		"next asks you: 50 % on green, in 0:48", "live, gets 75 %", "new side, gets 25 %"}},
	{"may be worse", func(s *keeper.Snapshot) {
		s.Guards[1].State, s.Guards[1].Sure = guard.Watching, 0.78
	}, []string{"▲ green may be worse: over 250ms watching, 78 % certain, ~40s more"}},
	{"asking", func(s *keeper.Snapshot) {
		s.Crossing.Question = crossing.Question{ID: 7, Side: split.Green, At: now.Add(-time.Minute),
			Is: crossing.AskLeg{Step: crossing.Step{Leg: 2, Part: 5000}}}
	}, []string{"◇ go on to 50 % on green?  a answers  (asked 1m ago)", "a yes: 50 %"}},
	{"frozen", func(s *keeper.Snapshot) {
		s.Left = 30 * time.Second
		s.Crossing.Freezes = []crossing.Freezing{{ID: 7, Cause: crossing.Because(crossing.ByHand{})},
			{ID: 8, Cause: crossing.Because(crossing.ByGuard{Alarm: crossing.Alarm{Guard: "failing",
				Watch: plan.Failing, Level: 0.2, Sure: 0.995}})}}
	}, []string{"frozen, leg 2 of 4: 25 % on green", "▲ frozen: 2 reasons, the last: failing: 20 % against 0 %, worse, " +
		"99.50 % certain. space resumes", "frozen, 0:30 left"}},
	{"changed by somebody else", func(s *keeper.Snapshot) {
		s.Crossing.Foreign, s.Crossing.Ours, s.Crossing.Share, s.Front.Split.Share = true, 2500, 4000, 4000
		s.Crossing.Freezes = []crossing.Freezing{{ID: 7,
			Cause: crossing.Because(crossing.Foreign{From: 2500, To: 4000})}}
	}, []string{"space accepts 40 % on green, o puts 25 % on green back", "space accept 40 %", "o put back 25 %"}},
	{"not watched", func(s *keeper.Snapshot) {
		s.Lacks = []crossing.Lack{crossing.Lacking(crossing.LackSide{OfSide: crossing.OfSide{Side: split.Green},
			Unread: crossing.Unread{Since: now.Add(-12 * time.Second), Said: "host green.vessa does not answer"}})}
	}, []string{"leg paused: green's instances were not read for 12s (host green.vessa does " +
		"not answer)"}},
	{"too little is known", func(s *keeper.Snapshot) {
		door := crossing.OfGuard{Guard: "door", Since: now.Add(-2 * time.Minute)}
		lacks := []crossing.Lack{crossing.Lacking(crossing.LackAnswers{OfGuard: door, Have: 8, Need: 10}),
			crossing.Lacking(crossing.LackBaseline{OfGuard: crossing.OfGuard{Guard: "failing"}})}
		s.Crossing.Freezes = []crossing.Freezing{{ID: 7, Cause: crossing.Because(crossing.NotKnown{Lacks: lacks})}}
	}, []string{"frozen: not enough is known to go on: door has 8 of 10 answers, waiting since " +
		now.Add(-2*time.Minute).Format("15:04:05") + " (and 1 more)"}},
	{"several freezes", func(s *keeper.Snapshot) {
		s.Crossing.Freezes = []crossing.Freezing{{ID: 7, At: now.Add(-time.Minute),
			Cause: crossing.Because(crossing.ByHand{})},
			{ID: 8, At: now, Cause: crossing.Because(crossing.Unwatched{Missed: 20 * time.Second})}}
	}, []string{"frozen: 2 reasons, the last: nobody watched for 20s", "i all reasons"}},
	{"the live side is dead", func(s *keeper.Snapshot) {
		s.Crossing.Freezes = []crossing.Freezing{{ID: 7, Cause: crossing.Because(crossing.HomeIll{Home: dead})}}
		s.Sides[split.Blue].Figures.Failing = 2550
		s.WaysOut = wayout.List(wayout.Facts{Target: split.Green, Share: 2500, Moved: true, Proven: true, Rate: 340,
			Sides: [2]wayout.Side{{Known: true, Instances: 3}, {Known: true, Healthy: 3, Instances: 3}}})
	}, []string{"▲ blue: 255 of 255 requests/s fail. Helps most: all to green, ~0 of 340 /s fail (f)",
		"what helps", "f enter  all to green    ~0 of 340 /s fail", "         hold           255 of 340 /s fail",
		"b b      all to blue   ~340 of 340 /s fail", "f forward: all to green"}},
	{"requests are lost", func(s *keeper.Snapshot) {
		for n := range 8 {
			s.Door.Bad = append(s.Door.Bad,
				reading.Bad{Mark: reading.Mark{Kind: reading.LostAnswer},
					At: now.Add(time.Duration(n-8) * 100 * time.Millisecond), Why: "connection refused"})
		}
	}, []string{"▲ no answer at the front to the last 9 checks (connection refused)"}},
	{"the front is gone", func(s *keeper.Snapshot) {
		for n := range 8 {
			s.Door.Bad = append(s.Door.Bad,
				reading.Bad{Mark: reading.Mark{Kind: reading.LostAnswer},
					At: now.Add(time.Duration(n-8) * 100 * time.Millisecond), Why: "connection refused"})
		}
		s.Front.Error = "front does not answer: vaiven front PLAN starts it; nobody listens at front.sock"
	}, []string{"▲ no answer at the front to the last 9 checks (front does not answer: vaiven front PLAN starts it; nobody " +
		"listens at front.sock)"}},
	{"green fails", func(s *keeper.Snapshot) { s.Sides[split.Green].Figures.Failing = 430 },
		[]string{"▲ green: 43 of 86 requests/s fail. b b rolls back"}},
	{"blue fails", func(s *keeper.Snapshot) { s.Sides[split.Blue].Figures.Failing = 430 },
		[]string{"▲ blue: 43 of 255 requests/s fail\n"}},
	{"rolling back", func(s *keeper.Snapshot) {
		s.Crossing.GoingBack, s.Crossing.Why = true, crossing.Because(crossing.ByHand{})
		s.Crossing.Task = crossing.Task{ID: 9, Do: crossing.TaskHome, At: now.Add(-3 * time.Second)}
	}, []string{"▲ rolling back to blue: asked 3.0 s ago, the front has not confirmed", "rolling back to blue"}},
	{"the front does not answer", func(s *keeper.Snapshot) {
		s.Front.Error, s.Front.At = "front does not answer at front.sock", now.Add(-30*time.Second)
	}, []string{"▲ front not read for 30s: front does not answer at front.sock", "▲ read 30s ago", "— 30s",
		"○ failing", "live, not read for 30s", "share of requests on green  not known: not read for 30s",
		"not known: front not read for 30s"}},
	{"a side that cannot be read", func(s *keeper.Snapshot) { s.Sides[split.Blue].Error = "permission denied" },
		[]string{"▲ blue's instances cannot be read: permission denied"}},
	{"the state disk is full", func(s *keeper.Snapshot) { s.Trouble = "the logbook cannot be written" },
		[]string{"▲ the logbook cannot be written"}},
	{"instances in trouble", func(s *keeper.Snapshot) {
		list := s.Sides[split.Green].Instances
		s.Sides[split.Green].Healthy = 1
		list[0].State, list[0].Said = reading.Failing, "status 503"
		list[1].State, list[1].Said = reading.Exited, "exit status 3"
	}, []string{"▲ green-1", "failing: status 503", "▲ green gets 25 % of requests, and 1 of its 3 instances are healthy",
		"× green-2", "ended: exit status 3"}},
	{"the way back is narrow", func(s *keeper.Snapshot) {
		s.WayBack = wayback.Judge(wayback.Facts{Side: split.Blue, Healthy: 2, Instances: 3, FrontRead: true})
	}, []string{"▲ NARROW", "2 of 3", "3 of 5 guards clear; way back narrow: blue healthy: 2 of 3"}},
	{"the live side fails, and everything was looked at", func(s *keeper.Snapshot) {
		look := wayback.Look{At: now, Of: 12}
		s.WayBack = wayback.Judge(wayback.Facts{Side: split.Blue, Healthy: 3, Instances: 3, FrontRead: true, Bad: 0.45,
			Looks: wayback.Looks{Same: look, Smoke: look, Data: look}})
		s.Sides[split.Blue].Figures.Failing = 1150
	}, []string{"▲ blue: 115 of 255 requests/s fail", "▲ NARROW", "▲ blue's answers     45 % of them fail now"}},
	{"the way back is closed", func(s *keeper.Snapshot) {
		s.WayBack = wayback.Judge(wayback.Facts{Side: split.Blue, Healthy: 0, Instances: 3, FrontRead: true})
	}, []string{"× CLOSED", "no way back: blue healthy: 0 of 3"}},
	{"all on green in the keep", func(s *keeper.Snapshot) {
		s.Crossing.Stage, s.Crossing.Share, s.Crossing.Leg, s.Left = crossing.Keeping, split.Whole, 3, 20*time.Minute
		s.Front.Split.Share = split.Whole
		s.Sides[split.Green].Restarts = nil
	}, []string{"all right: green gets all requests; blue is kept for 20m more", "keep blue", "10:00 of 30:00",
		"20:00 more", "next: blue is retired, in 20:00", "kept, gets none", "new side, gets all"}},
	{"settled", func(s *keeper.Snapshot) {
		rest(s, crossing.Settled)
		s.Live, s.Front.Split.Share, s.Crossing.Share = split.Green, split.Whole, split.Whole
		s.Sides[split.Blue] = engine.SideView{Every: time.Second, At: now}
	}, []string{"all right: green (4.3.0) gets all requests; crossing 18 settled 1m12s ago", "live, gets all",
		"empty"}},
	{"rolled back", func(s *keeper.Snapshot) {
		rest(s, crossing.RolledBack)
		s.Crossing.Why = crossing.Because(crossing.ByHand{Why: "it looks wrong"})
	}, []string{"rolled back 1m12s ago: it looks wrong"}},
	{"called off", func(s *keeper.Snapshot) {
		rest(s, crossing.CalledOff)
		s.Sides[split.Green] = engine.SideView{Every: time.Second, At: now}
	}, []string{"crossing 18 was called off 1m12s ago, no traffic had moved", "empty"}},
	{"to blue", func(s *keeper.Snapshot) {
		s.Live, s.Crossing.Target, s.Crossing.Share, s.Front.Split.Share = split.Green, split.Blue, 7500, 7500
	}, []string{"live, gets 75 %", "new side, gets 25 %", "leg 2 of 4: 25 % on blue",
		"next asks you: 50 % on blue, in 0:48"}},
	{"a wrong split", func(s *keeper.Snapshot) {
		s.Split = engine.JudgeSplit(2500, plan.Front{Key: plan.Key{From: plan.KeyRandom}},
			reading.Capabilities{Both: true}, evidence.Count{}, [2]int64{323, 54})
		s.Split.Since = time.Date(2026, 11, 23, 17, 55, 23, 0, time.Local)
	}, []string{"the split is off by -10.7 points where 25 % is asked: 14.3 % ±6.3 of 377 answers at the front door, " +
		"since 17:55:23", "share of requests on green  ▲ off by -10.7 points, since 17:55:23"}},
	{"compared with what was", func(s *keeper.Snapshot) { s.Guards[0].AsOf = now },
		[]string{"no fault above 1 %, compared with 21:04"}},
	{"not sure after its longest time", func(s *keeper.Snapshot) {
		s.Crossing.Question = crossing.Question{ID: 7, Side: split.Green, At: now.Add(-time.Minute),
			Is: crossing.AskUnsure{Step: crossing.Step{Leg: 2, Part: 5000}, Unsure: []crossing.Unsure{{Guard: "failing",
				Find: 0.01, Excluded: 0.05}}}}
	}, []string{"failing: a fault of 1 % is not excluded, one of 5 % is. Go on to 50 % on green all the same?"}},
	{"until sure", func(s *keeper.Snapshot) {
		s.Crossing.Route = slices.Clone(s.Crossing.Route)
		s.Crossing.Route[1].Sure, s.Crossing.Route[1].Dwell, s.Left = true, 20*time.Minute,
			18*time.Minute+48*time.Second
		s.Sure.Unsure = []crossing.Unsure{{Guard: "failing", Find: 0.01, Excluded: 0.05, In: 4 * time.Minute}}
	}, []string{"next asks you: 50 % on green when sure, in ~2:48, at most 18:48", "sure in ~2:48", "18:48 at most"}},
	{"beside control", func(s *keeper.Snapshot) {
		s.Beside = engine.Beside{Instances: 3, Figures: figures.Figures{Requests: 900, Failing: 9, Rate: 90, To: now}}
		for n := range s.Guards {
			s.Guards[n].Control = s.Guards[n].Watch.Compares()
		}
		s.Guards[4].State, s.Guards[4].Gap = guard.Clear, ""
	}, []string{"control    90 /s · 1.0 % failing", "guards                   control    green", "only whether anybody is"}},
	{"a control group comes up", func(s *keeper.Snapshot) {
		s.Crossing.Stage, s.Crossing.Leg, s.Crossing.Share, s.Left = crossing.Raising, -1, 0, 0
		s.Crossing.Task = crossing.Task{ID: 9, Do: crossing.TaskRaise, Side: split.Blue, More: true, Control: true}
	}, []string{"raising a control group beside blue"}},
	{"clients stay together", func(s *keeper.Snapshot) {
		s.Split = engine.JudgeSplit(2500, plan.Front{Key: plan.Key{From: plan.KeyCookie}}, reading.Capabilities{},
			evidence.Count{Bad: 250, Of: 1000}, [2]int64{})
		s.Guards[0].Eased, s.Guards[0].Then = true, plan.Freeze
	}, []string{"not told: clients stay on their sides"}},
	{"no times, and a long share", func(s *keeper.Snapshot) {
		for side := range s.Sides {
			s.Sides[side].Figures.Timed, s.Sides[side].Figures.P50, s.Sides[side].Figures.P99 = 0, 0, 0
		}
		s.Front.Split.Share = 8755
	}, []string{"live, gets 12.45 %", "p50                            —", "p99                            —"}},
	{"nobody watched", func(s *keeper.Snapshot) {
		s.Hole = engine.Hole{From: now.Add(-60 * time.Second), To: now.Add(-30 * time.Second)}
		var kept []engine.Point
		for _, p := range s.Track {
			if p.At.Before(s.Hole.From) || p.At.After(s.Hole.To) {
				kept = append(kept, p)
			}
		}
		s.Track = kept
	}, []string{"┄┄ nobody watched for 30s ┄┄"}},
}

// rest is a service that nothing crosses, after an end.
func rest(s *keeper.Snapshot, end crossing.Stage) {
	s.Crossing.Stage, s.Crossing.Share, s.Front.Split.Share = end, 0, 0
	s.WayBack, s.Guards, s.Left = wayback.Readiness{}, nil, 0
	if end == crossing.None {
		s.Crossing = crossing.State{}
		s.Sides[split.Green] = engine.SideView{Every: time.Second, At: s.At}
	}
}

// Every state says in words what it is, in every view in the same sentence, and the goldens
// are to be read aloud.
func TestStates(t *testing.T) {
	var aloud strings.Builder
	for _, c := range states {
		s := sample()
		c.change(&s)
		r := at(s, 142, 38)
		text := r.shown(t)
		for _, want := range c.want {
			if !strings.Contains(text, want) {
				t.Errorf("%s: the screen does not say %q:\n%s", c.name, want, text)
			}
		}
		rows := strings.Split(text, "\n")
		narrow := strings.Split(at(s, 80, 24).shown(t), "\n")
		fmt.Fprintf(&aloud, "%s\n  %s\n  %s\n  %s\n  at 80x24: %s\n  keys: %s\n\n", c.name, strings.TrimSpace(rows[0]),
			strings.TrimSpace(rows[1]),
			strings.Join(strings.Fields(rows[3]), " "), strings.TrimSpace(narrow[1]), strings.TrimSpace(rows[37]))
		for n := range pages {
			if turned, _ := r.turn(n); strings.Split(turned.shown(t), "\n")[1] != rows[1] {
				t.Errorf("%s: the view %q says something else in its second line", c.name, pages[n].name)
			}
		}
	}
	testkit.Golden(t, "states.txt", aloud.String())
}

// queued is a crossing of a service that takes messages, one side of which nobody consumes.
func queued() keeper.Snapshot {
	s := sample()
	s.Sides[split.Blue].Queue = &reading.Queue{Name: "bookings", Ready: 3, Unacked: 8, Consumers: 3, Published: 48_233,
		Done: 48_220, Redelivered: 2, Dead: 2, In: 256, Out: 255, Oldest: 1200 * time.Millisecond}
	s.Sides[split.Green].Queue = &reading.Queue{Name: "bookings-next", Ready: 1204, Published: 13_024, Done: 11_820,
		In: 84, Oldest: 47 * time.Second}
	s.Door.Twice, s.Door.Disordered = 2, 1
	return s
}

// hostile is a snapshot of whatever plans, answers and outputs may bring.
func hostile() keeper.Snapshot {
	s := sample()
	s.Service = "sail\x1b[31mings-and-berths-of-all-the-islands"
	s.Crossing.Version, s.Crossing.LiveVersion = "registry.internal/sailings@sha256:9f86d081884c7d659a2feaa0c55ad015",
		"registry.internal/sailings@sha256:60303ae22b998861bce3b28f33eec1be"
	s.Parts = []engine.Part{{Name: "suche\u202e", Wanted: [2]int{12, 12}}, {Name: "船票", Wanted: [2]int{12, 12}},
		{Name: "ma\u0301nifests", Wanted: [2]int{12, 12}}}
	s.Crossing.Question = crossing.Question{ID: 4,
		Is: crossing.AskFindings{Findings: []proof.Finding{{Check: "diff\x1b]0;x\aerences",
			Instance: strings.Repeat("é", 40), Want: "none",
			Got: strings.Repeat("日本 ", 60)}}}}
	states := []reading.Health{reading.Healthy, reading.Failing, reading.Starting, reading.Answering, reading.Exited}
	for _, side := range split.Sides {
		v := &s.Sides[side]
		v.Version = map[split.Side]string{split.Blue: s.Crossing.LiveVersion, split.Green: s.Crossing.Version}[side]
		v.Instances, v.Served, v.Healthy, v.Wanted = nil, nil, 3, 12
		for n := range 12 {
			c := reading.Condition{
				Instance: reading.Instance{Name: fmt.Sprintf("%v-sailings-and-berths-of-the-islands-%02d", side, n),
					Part: s.Parts[n%3].Name, Side: side, Running: true, Address: fmt.Sprintf("127.0.0.1:%d", n),
					Started: now.Add(-3 * time.Hour),
					Output:  []string{"line\r\x1b[1;1Hover", strings.Repeat("a\u0301", 50)}},
				State: states[n%5], Since: now.Add(-time.Hour), At: now, Took: 1400 * time.Millisecond,
				History: []float64{1, -1, 4000, 2},
				Said:    "status 503: \x1b[2J" + strings.Repeat("船", 30), Answer: "\u202eanswer\x07",
			}
			v.Instances = append(v.Instances, c)
			v.Served = append(v.Served,
				figures.Served{Address: c.Address, Rate: 123456, Failing: int64(n % 2 * 999),
					History: []int64{1, 2, 3, 400000, 5, 6, 7, 8}})
			s.Proof.Results = append(s.Proof.Results,
				proof.Result{Part: c.Part, Check: "check\x1b[0m" + strings.Repeat("x", 50), Instance: c.Name,
					Got: c.Said, Want: c.Answer, Answer: c.Said, At: now, Since: now})
		}
		v.Restarts = []engine.Restart{{Instance: v.Instances[0].Name, Count: 12}}
		v.Figures.Rate, v.Figures.P99 = 1234567, 12*time.Second
	}
	for n := range 4 {
		g := s.Guards[n]
		g.Name += " of every passage and berth there is"
		s.Guards = append(s.Guards, g)
	}
	s.Door.Bad = append(s.Door.Bad,
		reading.Bad{Mark: reading.Mark{Side: "green", Kind: reading.FailingAnswer}, At: now.Add(-time.Hour),
			Why: "\x1b[31m" + strings.Repeat("status 500 ", 30)})
	s.Crossing.Wheel = crossing.Wheel{Client: "other", By: "mar\x1b[0mit-from-the-other-office",
		From: "quay-2.operations.vessa pts/13", Since: now}
	s.Front.Notice = strings.Repeat("a note ", 40)
	s.Overlap = engine.Overlap{Since: now.Add(-99 * time.Hour), Cost: plan.Price{Amount: 123456.789, Unit: "EUR"}}
	s.Switch.Took, s.Watching = time.Hour, 123
	return s
}

// No size and no text may make anything lie over anything else or reach beyond the screen, nor
// let anything reach the terminal that steers it, on any page, with any box.
func TestEverySizeWithHostileTexts(t *testing.T) {
	for _, s := range []keeper.Snapshot{hostile(), sample(), queued(), {}} {
		for _, size := range [][2]int{{0, 0}, {1, 1}, {20, 5}, {40, 10}, {41, 13}, {53, 14}, {60, 19}, {66, 20},
			{80, 24}, {99, 29}, {100, 30}, {109, 60}, {110, 30}, {120, 31}, {142, 38}, {180, 45}, {220, 60},
			{300, 80}} {
			for n := range pages {
				r, _ := at(s, size[0], size[1]).turn(n)
				r.said = said{}
				r.shown(t)
				named, _ := r.name(r.ghost(4000))
				asked, _ := r.yes()
				for what, m := range map[string]root{"ghost": named, "yes": asked, "help": {},
					"prompt": r.ask("type this: ", nil)} {
					if what == "help" {
						m = r
						m.mode = showing{title: "keys", lines: root.help}
					}
					text := m.View().Content
					m.shown(t)
					if t.Failed() {
						t.Fatalf("page %d, %s, at %v", n, what, size)
					}
					for _, line := range strings.Split(ansi.Strip(text), "\n") {
						if secret.Printable(line) != line {
							t.Fatalf("page %d, %s, at %v: %q reaches the terminal", n, what, size, line)
						}
					}
				}
			}
		}
	}
	for _, size := range [][2]int{{40, 10}, {80, 24}, {100, 30}, {142, 38}, {220, 60}, {300, 80}} {
		for name, s := range map[string]keeper.Snapshot{"sample": sample(), "hostile": hostile(), "queued": queued()} {
			r := at(s, size[0], size[1])
			testkit.Golden(t, fmt.Sprintf("%s-%dx%d.txt", name, size[0], size[1]), lines(r.shown(t)))
		}
	}
}

// What a ghost would make of the figures stands beside them, and the rest stays where it is.
func TestTheGhostShowsWhatWouldBe(t *testing.T) {
	r := at(sample(), 142, 38)
	before := strings.Split(r.shown(t), "\n")
	r, _ = r.name(r.ghost(5000))
	text := r.shown(t)
	for _, want := range []string{"→ 170 /s", "→ 36 %", "→ 50 %", "(○)", "enter: 50 % on green (new side)"} {
		if !strings.Contains(text, want) {
			t.Errorf("the ghost at 50 %% does not show %q:\n%s", want, text)
		}
	}
	for n, line := range strings.Split(text, "\n")[:3] {
		if line != before[n] {
			t.Errorf("the ghost changes row %d to %q", n, line)
		}
	}
}

// Without colour the screen says the same.
func TestColourCarriesNoMeaningAlone(t *testing.T) {
	dark, light := at(sample(), 142, 38), at(sample(), 142, 38)
	light.theme = theme.New(false)
	if ansi.Strip(dark.View().Content) != ansi.Strip(light.View().Content) {
		t.Error("dark and light differ in more than their colours")
	}
	if dark.View().Content == light.View().Content {
		t.Error("dark and light do not differ at all")
	}
}

// crowd is a service of many instances a side.
func crowd(n int) keeper.Snapshot {
	s := sample()
	for _, side := range split.Sides {
		v := &s.Sides[side]
		c := v.Instances[0]
		v.Instances, v.Wanted, v.Healthy = nil, n, n
		for k := range n {
			c.Name, c.Address = fmt.Sprintf("%v-%d", side, k+1), fmt.Sprintf("10.0.%d.%d:80", k/250, k%250)
			v.Instances = append(v.Instances, c)
			v.Served = append(v.Served,
				figures.Served{Address: c.Address, Rate: 7, History: []int64{7, 7, 8, 7, 7, 6, 7, 7}})
		}
	}
	return s
}

// BenchmarkKey is from a key to the frame that shows what it has done.
func BenchmarkKey(b *testing.B) {
	for _, n := range []int{4, 50, 500} {
		b.Run(fmt.Sprint(n, " instances"), func(b *testing.B) {
			var model tea.Model = at(crowd(n), 142, 38)
			keys := []tea.Key{{Code: tea.KeyRight}, {Code: tea.KeyLeft}}
			b.ReportAllocs()
			for k := 0; b.Loop(); k++ {
				model, _ = model.Update(tea.KeyPressMsg(keys[k%2]))
				_ = model.View()
			}
		})
	}
}

// BenchmarkSnapshot is a snapshot taken in and drawn.
func BenchmarkSnapshot(b *testing.B) {
	for _, n := range []int{4, 50, 500} {
		b.Run(fmt.Sprint(n, " instances"), func(b *testing.B) {
			s := crowd(n)
			var model tea.Model = at(s, 142, 38)
			b.ReportAllocs()
			for b.Loop() {
				model, _ = model.Update(snapshotRead{s})
				_ = model.View()
			}
		})
	}
}

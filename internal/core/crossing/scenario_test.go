package crossing

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

// TestScenarios plays the files in testdata: each line that begins in the first
// column is an input, and the indented lines below it are what comes of it: the events
// after an arrow, the state after an equals sign. With -update the indented lines are
// made anew; review them as code.
//
// An input is what people say or a part reports, with the time since the last one
// in front: "+2s in-force". Reports are on the present task unless they name
// another, as in "in-force #3". Lines with # explain.
func TestScenarios(t *testing.T) {
	files, err := filepath.Glob("testdata/*.txt")
	if err != nil || len(files) == 0 {
		t.Fatalf("no scenarios: %v", err)
	}
	for _, file := range files {
		name := strings.TrimSuffix(filepath.Base(file), ".txt")
		t.Run(name, func(t *testing.T) {
			script, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			testkit.Golden(t, name+".txt", play(t, string(script)))
		})
	}
}

// stage is a state with the time that was watched since its last event.
type stageOf struct {
	State
	at     time.Time
	rest   time.Duration
	unsure []Unsure // on a leg until sure, from "unsure GUARD..." on
	load   Load     // that shares would mean, from "load RATE CAPACITY LIMIT" on
	why    string   // of what is asked for, from "because WORDS" on
}

// pass lets time pass. It counts while nothing holds the route.
func (s *stageOf) pass(d time.Duration) {
	s.at = s.at.Add(d)
	if s.Timed() && !s.Frozen() {
		s.rest = max(s.rest-d, 0)
	}
}

// take decides on an input and applies what comes of it.
func (s *stageOf) take(by string, in Input) ([]Event, error) {
	if _, again := in.(TookUp); again {
		s.rest = s.State.Left // nobody watched since
	}
	events, err := Decide(s.State,
		Moment{At: s.at, By: by, Seen: s.Seq, Rest: s.rest, Load: s.load, Unsure: s.unsure, Said: s.why}, in)
	for _, e := range events {
		before := s.State
		s.State = Apply(s.State, e)
		if s.Since != before.Since || s.State.Left != before.Left {
			s.rest = s.State.Left
		}
	}
	return events, err
}

func play(t *testing.T, script string) string {
	var out strings.Builder
	s := stageOf{at: time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)}
	for n, line := range strings.Split(strings.TrimRight(script, "\n"), "\n") {
		if strings.HasPrefix(line, "  ") {
			continue
		}
		fmt.Fprintln(&out, line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		words := strings.Fields(line)
		var err error
		if wait, ok := strings.CutPrefix(words[0], "+"); ok {
			d, err := time.ParseDuration(wait)
			if err != nil {
				t.Fatalf("line %d: %v", n+1, err)
			}
			s.pass(d)
			words = words[1:]
		}
		switch {
		case len(words) > 0 && words[0] == "unsure":
			s.unsure = nil
			for _, name := range words[1:] {
				s.unsure = append(s.unsure, Unsure{Guard: name, Find: 0.01, Excluded: 0.05})
			}
			continue
		case len(words) > 3 && words[0] == "load":
			for n, to := range []*float64{&s.load.Rate, &s.load.Capacity, &s.load.Limit} {
				if *to, err = strconv.ParseFloat(words[n+1], 64); err != nil {
					t.Fatalf("line %d: %v", n+1, err)
				}
			}
			s.load.Refused = len(words) > 4
			continue
		case len(words) > 1 && words[0] == "because":
			s.why = strings.Join(words[1:], " ")
			continue
		}
		if len(words) == 0 || words[0] == "tick" {
			if s.rest > 0 {
				fmt.Fprintf(&out, "  %v left\n", s.rest)
				continue
			}
			words = []string{"time-up"}
		}
		in, err := parseInput(words, s.State)
		if err != nil {
			t.Fatalf("line %d: %v", n+1, err)
		}
		events, err := s.take("test", in)
		var refusal *Refusal
		if errors.As(err, &refusal) {
			fmt.Fprintf(&out, "  ! %v\n", refusal.Because.Name())
			continue
		} else if err != nil {
			t.Fatalf("line %d: %v", n+1, err)
		}
		var kinds []string
		for _, e := range events {
			kinds = append(kinds, e.What.Kind())
		}
		if len(kinds) > 0 {
			fmt.Fprintf(&out, "  → %s\n", strings.Join(kinds, ", "))
		}
		fmt.Fprintf(&out, "  = %v\n", s.State)
	}
	return out.String()
}

var threeLegs = route.Route{{Part: 500, Dwell: 10 * time.Second}, {Part: 5000, Dwell: 10 * time.Second, Ask: true},
	{Part: split.Whole}}

// parseInput reads an input of a scenario.
func parseInput(words []string, s State) (Input, error) {
	task := s.Task.ID
	rest := words[1:]
	if len(rest) > 0 && strings.HasPrefix(rest[0], "#") {
		n, err := strconv.ParseUint(rest[0][1:], 10, 64)
		if err != nil {
			return nil, err
		}
		task, rest = n, rest[1:]
	}
	text := strings.Join(rest, " ")
	share := func() (split.Share, error) { return split.ParseShare(text) }
	switch words[0] {
	case "reroute": // the legs' shares in percent, each for a minute
		var r route.Route
		for _, w := range words[1:] {
			share, err := split.ParseShare(w + " %")
			if err != nil {
				return nil, err
			}
			l := route.Leg{Part: share, Dwell: time.Minute}
			if share == split.Whole {
				l.Dwell = 0
			}
			for _, was := range s.Route {
				if was.Part == share {
					l = was
				}
			}
			r = append(r, l)
		}
		return Reroute{Route: r}, nil
	case "begin":
		b := Begin{
			Service: "sailings", Number: 18, Target: split.Green, LiveVersion: "4.2.0",
			Choices: []raise.Choice{{Part: "web", Version: "4.3.0", Build: "b92f", LiveBuild: "7c1e"}},
			Route:   threeLegs, Keep: time.Minute, Then: plan.ThenRetire,
			Front: FrontSeen{Order: reading.Order{Generation: s.Generation}},
		}
		for _, w := range rest {
			switch w {
			case "hold":
				b.Hold = true
			case "same":
				b.NothingNew = true
			case "accepted":
				b.SameBuild = true
			case "to-blue":
				b.Target, b.Front.Share = split.Blue, split.Whole
			case "nobody":
				b.Nobody = true
			case "at-once":
				b.AtOnce, b.Live = true, Serving{Known: true, Instances: 3, Other: 3}
			case "at-once-serves":
				b.AtOnce, b.Live = true, Serving{Known: true, Instances: 3, Healthy: 1, Other: 3}
			case "together":
				b.With = "ferries"
			case "then-ask":
				b.Then = plan.ThenAsk
			case "then-leave":
				b.Then = plan.ThenLeave
			case "astray":
				b.Front.Share = 300
			case "grows": // 2 instances until 25 %, then 8
				b.Choices[0].Instances, b.Choices[0].Until, b.Choices[0].Then = 2, 2500, 8
			case "no-route":
				b.Route = route.Route{{Part: 500}}
			case "control": // three of them, beside two that stand
				b.Choices[0].Instances = 3
				b.Control = Control{Stood: []string{"blue-1", "blue-2"},
					Choices: []raise.Choice{{Part: "web", Version: "4.2.0", Build: "7c1e", Instances: 5}}}
				b.Route = route.Route{{Part: 500, Dwell: 10 * time.Second, Control: true},
					{Part: 5000, Dwell: time.Minute}, {Part: split.Whole}}
			case "until-sure":
				b.Route = route.Route{{Part: 500, Dwell: 20 * time.Minute, Sure: true, Least: time.Minute},
					{Part: 5000, Dwell: time.Minute, Sure: true}, {Part: split.Whole}}
			case "fine":
				b.Route = route.Route{{Part: 150, Dwell: 2 * time.Minute}, {Part: 5000, Dwell: time.Minute},
					{Part: split.Whole}}
			default:
				return nil, fmt.Errorf("begin how? %q", w)
			}
		}
		return b, nil
	case "control-left":
		return ControlLeft{}, nil
	case "raised":
		return Report{Raised{Task: task, Instances: []string{"green-1"}}}, nil
	case "not-done":
		kind, err := Troubles.Read(fmt.Appendf(nil, `{"kind":%q,"said":%q}`, rest[0], strings.Join(rest[1:], " ")))
		return Report{Failed{Task: task, Trouble: Went(kind)}}, err
	case "proved", "disproved", "found":
		r := proof.Result{Check: "search", Instance: "green-1", Pass: true}
		p := proof.Proof{Results: []proof.Result{r}}
		switch words[0] {
		case "disproved":
			p.Results = append(p.Results,
				proof.Result{Check: "search", Instance: "green-2", Want: "status 200", Got: "status 500"})
		case "found":
			p.Results = append(p.Results,
				proof.Result{Check: "environment", Instance: "green", Ask: true, Want: "as on blue", Got: text})
		}
		return Report{Proved{Task: task, Proof: p}}, nil
	case "in-force":
		at := s.Task.Share
		if text != "" {
			var err error
			if at, err = share(); err != nil {
				return nil, err
			}
		}
		return Report{TookEffect{Task: task, Nearest: at, Share: at}}, nil
	case "other-in-force": // than the front said it could do
		at, err := share()
		return Report{TookEffect{Task: task, Nearest: s.Task.Share, Share: at}}, err
	case "at-home":
		return Report{Returned{Task: task, Share: s.Home(), Generation: s.Generation + 1}}, nil
	case "stopping":
		return Report{Stopping{Task: task}}, nil
	case "retired":
		return Report{Retired{Task: task, Side: s.Task.Side}}, nil
	case "time-up":
		return TimeUp{}, nil
	case "yes":
		if task == s.Task.ID {
			task = s.Question.ID
		}
		return Yes{task}, nil
	case "no":
		return No{s.Question.ID}, nil
	case "next":
		if text != "" {
			n, err := strconv.Atoi(text)
			return Next{n - 1}, err
		}
		n, _ := s.Next()
		return Next{n}, nil
	case "steer":
		to, err := share()
		return Steer{to}, err
	case "put-back":
		return PutBack{}, nil
	case "freeze":
		return Freeze{}, nil
	case "resume":
		return Resume{}, nil
	case "back":
		b := Back{Why: text, Stands: true, Read: true}
		switch {
		case text == "force":
			b.Why, b.Force, b.Home = "", true, Serving{Known: true, Other: 3}
		case text == "nobody-there":
			b.Why, b.Home = "", Serving{Known: true, Other: 3}
		case text == "gone":
			b.Why, b.Stands = "", false
		}
		return b, nil
	case "retire":
		return Retire{}, nil
	case "prove":
		return Prove{}, nil
	case "raise-spare":
		return Raise{Side: split.Green, Choices: []raise.Choice{{Part: "web", Version: "4.4.0"}},
			NothingNew: text == "same"}, nil
	case "shift-to":
		i := Shift{}
		if rest, ok := strings.CutSuffix(text, " proven"); ok {
			text, i.Proven = rest, [2]bool{true, true}
		}
		text, i.Unproven = strings.CutSuffix(text, " unproven")
		to, err := split.ParseShare(text)
		i.Share = to
		return i, err
	case "alarm": // alarm freeze 0.03, alarm roll-back 0.2 nobody-there
		a := Alarmed{Alarm: Alarm{Guard: "failing", Watch: plan.Failing, Then: plan.Freeze}}
		if rest[0] == "roll-back" {
			a.Alarm.Then = plan.RollBack
		}
		a.Home = Serving{Known: true, Healthy: 3, Instances: 3, Other: 3}
		if len(rest) > 2 {
			a.Home.Healthy = 0
		}
		var err error
		a.Alarm.Level, err = strconv.ParseFloat(rest[1], 64)
		return a, err
	case "seen":
		to, err := share()
		return FrontSeen{Share: to, Order: reading.Order{Generation: s.Generation}}, err
	case "holding":
		to, err := share()
		return FrontSeen{Share: to, Order: reading.Order{Generation: s.Generation}, Holding: true}, err
	case "order": // order blue 0 %: somebody went home past us
		side, err0 := split.ParseSide(rest[0])
		to, err1 := split.ParseShare(strings.Join(rest[1:], " "))
		return FrontSeen{Share: to, Order: reading.Order{Generation: s.Generation + 1, Side: side, By: "jonas"}},
			errors.Join(err0, err1)
	case "leave", "reopen": // leave blue: somebody left it past us, with all services
		side, err := split.ParseSide(rest[0])
		return FrontSeen{Share: split.Toward(side.Other(), split.Whole), Order: reading.Order{
			Generation: s.Generation + 1, Side: side.Other(), By: "jonas", Closed: words[0] == "leave"}}, err
	case "resumed", "resumed-order":
		to, err := share()
		r := TookUp{Found: Found{Share: to, Noted: s.Share, Known: true},
			Order: reading.Order{Generation: s.Generation}}
		if words[0] == "resumed-order" {
			r.Order = reading.Order{Generation: s.Generation + 1, Side: s.Target.Other()}
		}
		return r, err
	}
	return nil, fmt.Errorf("no input is called %q", words[0])
}

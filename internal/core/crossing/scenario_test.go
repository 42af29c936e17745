package crossing

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/proof"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
	"vaiven/internal/testkit"
)

// TestScenarios plays the files in testdata: each line that begins in the first
// column is an event, and the indented lines below it are what comes of it. With
// -update the indented lines are made anew; review them as code.
//
// An event is what people say or a part reports, with the time since the last one
// in front: "+2s applied". Reports are on the pending effect unless they name
// another, as in "applied #3". Lines with # explain.
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

func play(t *testing.T, script string) string {
	var out strings.Builder
	var s State
	at := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	for n, line := range strings.Split(strings.TrimRight(script, "\n"), "\n") {
		if strings.HasPrefix(line, "  ") {
			continue
		}
		fmt.Fprintln(&out, line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		words := strings.Fields(line)
		if wait, ok := strings.CutPrefix(words[0], "+"); ok {
			d, err := time.ParseDuration(wait)
			if err != nil {
				t.Fatalf("line %d: %v", n+1, err)
			}
			at = at.Add(d)
			words = words[1:]
		}
		fact, err := parseFact(words, s)
		if err != nil {
			t.Fatalf("line %d: %v", n+1, err)
		}
		next, effects, err := Step(s, Event{At: at, By: "test", What: fact})
		s = next
		if err != nil {
			fmt.Fprintf(&out, "  ! %v\n", err)
			continue
		}
		for _, e := range effects {
			fmt.Fprintf(&out, "  → %v\n", e)
		}
		fmt.Fprintf(&out, "  = %v\n", s)
	}
	return out.String()
}

// parseFact reads an event of a scenario.
func parseFact(words []string, s State) (Fact, error) {
	effect := s.Pending.ID
	rest := words[1:]
	if len(rest) > 0 && strings.HasPrefix(rest[0], "#") {
		fmt.Sscanf(rest[0], "#%d", &effect)
		rest = rest[1:]
	}
	text := strings.Join(rest, " ")
	share := func() (split.Share, error) { return split.ParseShare(text) }
	switch words[0] {
	case "begin":
		b := Begun{
			Service: "sailings", Number: 18, Target: split.Green, Version: "4.3.0", Build: "b92f", LiveVersion: "4.2.0", LiveBuild: "7c1e",
			Route: route.Route{{Part: 500, Dwell: 10 * time.Second}, {Part: 5000, Dwell: 10 * time.Second, Ask: true}, {Part: split.Whole}},
			Keep:  time.Minute, Then: plan.ThenRetire,
		}
		for _, w := range rest {
			switch w {
			case "hold":
				b.Hold = true
			case "same":
				b.LiveBuild = b.Build
			case "accepted":
				b.SameBuild = true
			case "to-blue":
				b.Target, b.Share = split.Blue, split.Whole
			case "nobody":
				b.Nobody = true
			case "then-ask":
				b.Then = plan.ThenAsk
			case "then-leave":
				b.Then = plan.ThenLeave
			case "astray":
				b.Share = 300
			default:
				return nil, fmt.Errorf("begin how? %q", w)
			}
		}
		return b, nil
	case "raised":
		return Raised{Effect: effect, Build: "b92f", Instances: []string{"green-1"}}, nil
	case "raise-failed":
		return RaiseFailed{Effect: effect, Why: text}, nil
	case "proved":
		return Proved{Effect: effect, Pass: true}, nil
	case "disproved":
		p := proof.Proof{Results: []proof.Result{{Check: "search", Instance: "green-2", Want: "status 200", Got: "status 500"}}}
		return Proved{Effect: effect, Proof: p}, nil
	case "found":
		p := proof.Proof{Results: []proof.Result{
			{Check: "search", Instance: "green-1", Pass: true},
			{Check: "environment", Instance: "green", Ask: true, Want: "as on blue", Got: text},
		}}
		return Proved{Effect: effect, Proof: p}, nil
	case "accept":
		if text != "" {
			return AcceptAsked{Findings: []string{text}}, nil
		}
		return AcceptAsked{Findings: s.Asked}, nil
	case "prove":
		return ProveAsked{}, nil
	case "applied":
		at := s.Pending.Share
		if text != "" {
			var err error
			if at, err = share(); err != nil {
				return nil, err
			}
		}
		return Applied{Effect: effect, Share: at}, nil
	case "apply-failed":
		return ApplyFailed{Effect: effect, Why: text}, nil
	case "retired":
		return Retired{Effect: effect}, nil
	case "retire-failed":
		return RetireFailed{Effect: effect, Why: text}, nil
	case "tick":
		return Tick{}, nil
	case "next":
		return NextAsked{}, nil
	case "steer":
		to, err := share()
		return SteerAsked{Share: to}, err
	case "put-back":
		return PutBackAsked{}, nil
	case "freeze":
		return FreezeAsked{}, nil
	case "go-on":
		return GoOnAsked{}, nil
	case "back":
		return BackAsked{Why: text}, nil
	case "retire":
		return RetireAsked{}, nil
	case "tripped-roll-back":
		return Tripped{Guard: "failing", Action: plan.RollBack, Why: text}, nil
	case "tripped-freeze":
		return Tripped{Guard: "failing", Action: plan.Freeze, Why: text}, nil
	case "changed":
		to, err := share()
		return Changed{Share: to}, err
	case "resumed":
		to, err := share()
		return Resumed{Share: to, Found: "the front as it is"}, err
	}
	return nil, fmt.Errorf("no event is called %q", words[0])
}

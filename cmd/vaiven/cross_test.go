package main

import (
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/split"
	"vaiven/lab/demo"
)

// What a person reads of a first release says nothing of a side on which nothing was.
func TestAFirstReleaseRetiresNothing(t *testing.T) {
	at := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	facts := []crossing.Fact{
		crossing.Begun{Number: 1, Target: split.Green, Choices: []raise.Choice{{Version: "4.2.0", Build: "7c1e"}},
			First: true},
		crossing.TookEffect{Share: split.Whole}, crossing.Ended{Stage: crossing.Settled},
		crossing.Ordered{Task: crossing.Task{Do: crossing.TaskRetire, Side: split.Blue}}, crossing.Stopping{},
		crossing.Retired{Side: split.Blue},
	}
	for _, first := range []bool{true, false} {
		var said strings.Builder
		emit := emitter(&said, output{}, crossing.State{})
		for n, f := range facts {
			if b, ok := f.(crossing.Begun); ok {
				b.First = first
				if !first {
					b.LiveVersion = "4.1.0"
				}
				f = b
			}
			if err := emit(crossing.Event{Seq: uint64(n + 1), At: at, By: "marit", What: f}); err != nil {
				t.Fatal(err)
			}
		}
		if got := strings.Contains(said.String(), "retire"); got == first {
			t.Errorf("of a first release: %v, it says\n%s", first, said.String())
		}
		if want := "the first release"; strings.Contains(said.String(), want) != first {
			t.Errorf("of a first release: %v, it says\n%s", first, said.String())
		}
	}
}

// A side with more instances from some leg on gets them before it, proven and known to the front, with what the live
// side runs with; nothing is lost, on a front where other instances take several steps.
func TestASideGrows(t *testing.T) {
	t.Parallel() // it mostly waits
	for _, kind := range []plan.FrontKind{"httpd"} {
		t.Run(string(kind), func(t *testing.T) {
			s := scenarioOf(t, demo.Options{Rate: 100, Front: kind})
			data, err := os.ReadFile(s.File)
			if err != nil {
				t.Fatal(err)
			}
			text := strings.Replace(string(data), "  price: 0.048 EUR\n",
				"  price: 0.048 EUR\n  blue:\n    environment: {PIER: \"7\"}\n  green:\n    instances: 1 until 25 %, "+
					"then as live\n", 1)
			text = regexp.MustCompile(`(?s)\nroute:\n.*?\nkeep: [^\n]*\n`).ReplaceAllString(text,
				"\nroute: [10 % for 1s, 100 %]\nkeep: 1s\n")
			if err := os.WriteFile(s.File, []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
			lost, stop := passengers(t, s)
			defer stop()
			stdout, stderr, status := vaiven(t, "cross", s.File, "--version", demo.NewVersion, "--yes", "--accept")
			if status != 0 {
				t.Fatalf("status %d\n%s%s", status, stdout, stderr)
			}
			for _, want := range []string{"raise green with 4 instances, before 100 % on green",
				"green-1, green-2, green-3"} {
				if !strings.Contains(stdout, want) {
					t.Errorf("it does not say %q:\n%s", want, stdout)
				}
			}
			if stop(); lost() > 0 {
				t.Errorf("%d requests were lost\n%s", lost(), stdout)
			}
			if where, _, _ := vaiven(t, "where", s.File); !strings.Contains(where, "green  3 instances") {
				t.Errorf("where says\n%s", where)
			}
		})
	}
}

package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper/logbook"
	"vaiven/internal/people/headless"
)

// A crossing that no keeper goes on with is said to be under way, by the logbook.
func TestWhereSaysWhatWasLeft(t *testing.T) {
	p := &plan.Plan{State: filepath.Join(t.TempDir(), "state")}
	if _, err := headless.LeftAt(t.Context(), p); err == nil {
		t.Error("a logbook that is not there says something")
	}
	if err := os.Mkdir(p.State, 0o700); err != nil {
		t.Fatal(err)
	}
	book, err := logbook.Open(p.Logbook())
	if err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	b := crossing.Begun{Service: "sailings", Number: 1, Target: split.Green,
		Choices: []raise.Choice{{Part: "search", Version: "4.3.0"}}, Route: route.Route{{Part: split.Whole}}}
	e := crossing.Event{Seq: 1, Crossing: 1, At: at, By: "mate", What: b}
	s := crossing.Apply(crossing.State{}, e)
	if err := book.Append(t.Context(), s, []crossing.Event{e}); err != nil {
		t.Fatal(err)
	}
	if err := book.Close(); err != nil {
		t.Fatal(err)
	}
	left, err := headless.LeftAt(t.Context(), p)
	if err != nil || !left.Stage.UnderWay() {
		t.Fatalf("it was left at %v, %v", left, err)
	}
	var out strings.Builder
	if err := (headless.KeeperPlace{Crossing: left}).Print(&out); err != nil ||
		!strings.Contains(out.String(), "no keeper answers: crossing 1: raise") {
		t.Errorf("it says %q, %v", out.String(), err)
	}
}

package crossing

import (
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/raise"
	"vaiven/internal/core/split"
)

// One version waits at most, and what waited is told; a crossing to it takes it off the list, and no other does.
func TestOneVersionWaits(t *testing.T) {
	at := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	who := Peer{User: 1001, Name: "deploy", Host: "quay2"}
	var s State
	said := ""
	do := func(in Input) {
		t.Helper()
		events, err := Decide(s, Moment{At: at, By: "ci", Peer: who}, in)
		if err != nil {
			t.Fatal(err)
		}
		var kinds []string
		for _, e := range events {
			s = Apply(s, e)
			kinds = append(kinds, e.What.Kind())
		}
		said = strings.Join(kinds, ", ")
	}
	expect := func(events, waits string) {
		t.Helper()
		if said != events || s.Waiting.Version != waits {
			t.Errorf("%q came of it, and %q waits; not %q and %q", said, s.Waiting.Version, events, waits)
		}
	}
	do(Arrive{Version: "4.3.0", Commit: "abc"})
	expect("version arrived", "4.3.0")
	if w := s.Waiting; w.Peer != who || w.By != "ci" || w.Commit != "abc" || !w.At.Equal(at) {
		t.Errorf("it waits as %+v", w)
	}
	do(Arrive{Version: "4.3.0"})
	expect("", "4.3.0")
	do(Arrive{Version: "4.4.0"})
	expect("version dropped, version arrived", "4.4.0")
	do(Drop{Version: "4.3.0", Why: "it is late"})
	expect("", "4.4.0")
	if _, err := Decide(s, Moment{At: at}, Arrive{Version: "4.3.0", Withdraw: true}); err == nil {
		t.Error("what does not wait is withdrawn")
	}
	do(Arrive{Version: "4.4.0", Withdraw: true})
	expect("version dropped", "")
	do(Arrive{Version: "4.4.0"})
	begun := Begun{Number: 1, Target: split.Green, Choices: []raise.Choice{{Version: "4.2.1"}}, Waiting: s.Waiting}
	s = Apply(s, Event{Seq: s.Seq + 1, At: at, What: begun})
	if s.Waiting.Version != "4.4.0" {
		t.Errorf("a crossing to another version leaves %+v", s.Waiting)
	}
	do(Arrive{Version: "4.2.1"}) // it crosses
	expect("", "4.4.0")
	s.Stage, s.Since = RolledBack, at.Add(time.Minute)
	if !s.WaitsForSomebody() {
		t.Error("after a rollback what waited goes on by itself")
	}
	at = at.Add(time.Hour)
	do(Arrive{Version: "4.4.0"})
	if expect("version arrived", "4.4.0"); s.WaitsForSomebody() {
		t.Error("said again it waits for somebody still")
	}
	begun.Choices, begun.Number, begun.Waiting = []raise.Choice{{Version: "4.4.0"}}, 2, s.Waiting
	if s = Apply(s, Event{Seq: s.Seq + 1, At: at, What: begun}); s.Waiting.Any() {
		t.Errorf("%+v waits while it crosses", s.Waiting)
	}
	if _, err := Decide(s, Moment{At: at}, Arrive{}); err == nil {
		t.Error("no version arrives")
	}
}

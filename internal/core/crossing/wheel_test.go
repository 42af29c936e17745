package crossing

import (
	"testing"
	"time"

	"vaiven/internal/core/oneof"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

var (
	noon = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	legs = route.Route{{Part: 2500, Dwell: time.Minute}, {Part: split.Whole}}
)

// by is a moment at which a client acts.
func by(client, person string) Moment {
	return Moment{At: noon, By: person, Client: client, From: "quay2", Seen: 1 << 40}
}

// shiftingBy is a crossing on its first leg, with somebody at the wheel.
func shiftingBy(w Wheel) State {
	return State{Seq: 9, Number: 3, Stage: Shifting, Target: split.Green, Share: 2500, Moved: true, Proven: true,
		Route: legs, Wheel: w}
}

// The first that steers gets the wheel, and what is refused leaves it where it was.
func TestTheWheel(t *testing.T) {
	s := shiftingBy(Wheel{})
	events, err := Decide(s, by("1", "marit"), Freeze{})
	if err != nil || len(events) != 2 {
		t.Fatalf("%v, %v", events, err)
	}
	took, ok := events[0].What.(TookWheel)
	if want := (Wheel{Client: "1", By: "marit", From: "quay2", Since: noon}); !ok || took.Wheel != want ||
		!took.Before.Vacant() {
		t.Errorf("it took %+v", events[0].What)
	}
	if events, err := Decide(s, by("1", "marit"), Yes{Question: 4}); err == nil || len(events) > 0 {
		t.Errorf("what was refused came to %v, %v", events, err)
	}
	for _, e := range events {
		s = Apply(s, e)
	}
	for name, in := range map[string]Input{"freeze": Freeze{}, "go on": Resume{}, "steer": Steer{Share: 5000},
		"next": Next{Leg: 1}, "yes": Yes{}, "no": No{}, "retire": Retire{}, "prove": Prove{}, "shift": Shift{},
		"raise": Raise{}, "begin": Begin{}, "put back": PutBack{}} {
		_, err := Decide(s, by("2", "ines"), in)
		if r, ok := Refused[NotAtWheel](err); !ok || r.Wheel != s.Wheel {
			t.Errorf("%s past whoever has the wheel: %v", name, err)
		}
		if _, err := Decide(s, by("", "ines"), in); !isReason(err, NotAtWheel{}) {
			t.Errorf("%s by a command alone: %v", name, err)
		}
	}
	// Who has it goes on, and a going home asks nobody.
	if events, err := Decide(s, by("1", "marit"), Resume{}); err != nil || len(events) != 1 {
		t.Errorf("%v, %v", events, err)
	}
	if _, err := Decide(s, by("2", "ines"), Back{}); err != nil {
		t.Errorf("going home: %v", err)
	}
	// It is taken over, deliberately.
	events, err = Decide(s, by("2", "ines"), TakeWheel{})
	if took, ok := events[0].What.(TookWheel); err != nil || !ok || took.Wheel.By != "ines" ||
		took.Before.By != "marit" {
		t.Errorf("%v, %v", events, err)
	}
	m := by("2", "ines")
	m.Take = true
	if events, err := Decide(s, m, Resume{}); err != nil || len(events) != 2 {
		t.Errorf("by a command that takes it: %v, %v", events, err)
	}
	m.Client = ""
	if events, err := Decide(s, m, Resume{}); err != nil || !Apply(s, events[0]).Wheel.Vacant() {
		t.Errorf("a command alone leaves it vacant: %v, %v", events, err)
	}
	// The same person from the same place has it again when the client before is not heard of.
	m = by("3", "marit")
	if _, err := Decide(s, m, Resume{}); err == nil {
		t.Error("two clients of one person steer at once")
	}
	m.Silent = true
	if _, err := Decide(s, m, Resume{}); err != nil {
		t.Errorf("the same person again: %v", err)
	}
	m.From = "quay3"
	if _, err := Decide(s, m, Resume{}); err == nil {
		t.Error("the same name from somewhere else was believed")
	}
	// It is left by whoever has it, and by nobody else.
	if events, err := Decide(s, by("2", "ines"), LeaveWheel{Client: "2"}); err != nil || len(events) > 0 {
		t.Errorf("%v, %v", events, err)
	}
	events, err = Decide(s, by("1", "marit"), LeaveWheel{Client: "1"})
	if err != nil || len(events) != 1 || !Apply(s, events[0]).Wheel.Vacant() {
		t.Errorf("%v, %v", events, err)
	}
}

// A crossing that begins leaves the wheel with whoever has it, also for who reads the logbook from there.
func TestTheWheelStaysOverABeginning(t *testing.T) {
	w := Wheel{Client: "1", By: "marit", Since: noon}
	s := Apply(State{}, Event{Seq: 12, At: noon, What: Begun{Number: 4, Wheel: w}})
	if s.Wheel != w {
		t.Errorf("it is %+v", s.Wheel)
	}
}

// Why a person did something stands with the first event that came of it.
func TestAPersonsWords(t *testing.T) {
	m := by("1", "marit")
	m.Said = "the fog has come in"
	events, err := Decide(shiftingBy(Wheel{}), m, Freeze{})
	if err != nil || events[0].Said != m.Said || events[1].Said != "" {
		t.Errorf("%+v, %v", events, err)
	}
}

// Nothing is retired in the first minute after a time in which nobody watched, by whomever.
func TestNothingIsRetiredAfterAHole(t *testing.T) {
	s := State{Seq: 9, Number: 3, Stage: Keeping, Target: split.Green, Share: split.Whole, Moved: true, Proven: true,
		Route: legs, Leg: 1}
	asked := s
	asked.Question = Question{ID: 9, Is: AskRetire{}}
	for name, c := range map[string]struct {
		s  State
		in Input
	}{"by hand": {s, Retire{}}, "by a yes": {asked, Yes{Question: 9}}} {
		m := by("1", "marit")
		m.Again = noon.Add(time.Second)
		_, err := Decide(c.s, m, c.in)
		if r, ok := Refused[NotWatched](err); !ok || len(r.Lacks) != 1 || !oneof.IsA[LackTime](r.Lacks[0]) {
			t.Errorf("%s: %v", name, err)
		}
		m.Again = noon
		if events, err := Decide(c.s, m, c.in); err != nil || len(events) == 0 {
			t.Errorf("%s, after the minute: %v", name, err)
		}
	}
	m := Moment{At: noon, By: "vaiven", Again: noon.Add(time.Second)}
	if events, _ := Decide(s, m, TimeUp{}); len(events) > 0 {
		t.Errorf("by itself: %v", events)
	}
	m.Again = noon
	if events, _ := Decide(s, m, TimeUp{}); len(events) == 0 {
		t.Error("after the minute nothing is retired")
	}
}

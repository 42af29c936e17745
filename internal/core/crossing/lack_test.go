package crossing

import (
	"fmt"
	"slices"
	"testing"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Nothing goes on without what has to be known for it: by itself without any of it, and on a
// person's word without what could not be read.
func TestNothingGoesOnWithoutKnowledge(t *testing.T) {
	kept := onTheWay()
	kept.Stage, kept.Leg, kept.Share, kept.Then = Keeping, 2, split.Whole, plan.ThenRetire
	asks := func(s State, kind QuestionKind) State {
		s.Question = Question{ID: 15, Is: kind}
		return s
	}
	foreign := onTheWay()
	foreign.Foreign, foreign.Ours, foreign.OursLeg, foreign.Share = true, 5000, 1, 500
	proven := onTheWay()
	proven.Stage, proven.Leg, proven.Share, proven.Moved = Proving, -1, 0, false
	proving := proven
	proving.Task, proving.Proven = Task{ID: 9, Do: TaskProve}, false
	proof := Report{Proved{Task: 9, Proof: proof.Proof{Results: []proof.Result{{Check: "search", Pass: true}}}}}
	over := kept
	over.Stage = Settled
	for _, c := range []struct {
		what   string
		state  State
		in     Input
		known  string // what comes of it where all is known,
		guards string // where a guard cannot judge,
		unread string // and where front or sides could not be read
	}{
		{"the time of a leg", onTheWay(), TimeUp{}, "ordered", "", ""},
		{"the time of the keep", kept, TimeUp{}, "ended ordered", "", ""},
		{"a side that is proven", proving, proof, "proved ordered", "proved", "proved"},
		{"one that was", proven, TimeUp{}, "ordered", "", ""},
		{"the next leg", onTheWay(), Next{2}, "ordered", "ordered", "! not watched"},
		{"a larger share", onTheWay(), Steer{6000}, "frozen ordered", "frozen ordered", "! not watched"},
		{"a smaller one", onTheWay(), Steer{500}, "frozen ordered", "frozen ordered", "frozen ordered"},
		{"ours again", foreign, PutBack{}, "accepted theirs ordered", "accepted theirs ordered", "! not watched"},
		{"a yes to a leg", asks(onTheWay(), AskLeg{Step{Leg: 2}}), Yes{15}, "answered ordered", "answered ordered", "! not watched"},
		{"a yes to the start", asks(proven, AskStart{}), Yes{15}, "answered ordered", "answered ordered",
			"! not watched"},
		{"a yes to retire", asks(kept, AskRetire{}), Yes{15}, "answered ended ordered", "answered ended ordered",
			"! not watched"},
		{"a no", asks(onTheWay(), AskLeg{Step{Leg: 2}}), No{15}, "rolls back ordered", "rolls back ordered", "rolls back ordered"},
		{"to give up the old side in the keep", kept, Retire{}, "ended ordered", "ended ordered", "! not watched"},
		{"and after it", over, Retire{}, "ordered", "ordered", "! not watched"},
		{"going back", onTheWay(), Back{}, "rolls back ordered", "rolls back ordered", "rolls back ordered"},
		{"what was missing for too long", onTheWay(), Lapsed{}, "", "frozen", "frozen"},
		{"the same in the keep", kept, Lapsed{}, "", "frozen", "frozen"},
		{"the same before the first leg", proven, Lapsed{}, "", "frozen", "frozen"},
		{"the same while somebody is asked", asks(onTheWay(), AskLeg{Step{Leg: 2}}), Lapsed{}, "", "", ""},
		{"the same after the end", over, Lapsed{}, "", "", ""},
	} {
		for _, k := range []struct {
			lacks []Lack
			want  string
		}{
			{nil, c.known}, {[]Lack{Lacking(LackAnswers{OfGuard: OfGuard{Guard: "slow"}})}, c.guards},
			{[]Lack{Lacking(LackDoor{OfGuard: OfGuard{Guard: "door"}})}, c.guards},
			{[]Lack{Lacking(LackBaseline{OfGuard: OfGuard{Guard: "slow"}})}, c.guards},
			{[]Lack{Lacking(LackAnswers{OfGuard: OfGuard{Guard: "slow"}}), Lacking(LackFront{})}, c.unread},
			{[]Lack{Lacking(LackSide{OfSide: OfSide{Side: split.Green}})}, c.unread},
		} {
			events, err := Decide(c.state, Moment{Seen: 20, Lacks: k.lacks}, c.in)
			got := comesOf(events, err, " ", func(Event) string { return "" })
			if got != k.want {
				t.Errorf("%s, lacking %v: %s, want %s", c.what, k.lacks, got, k.want)
			}
			r, _ := Refused[NotWatched](err)
			if slices.ContainsFunc(r.Lacks, func(l Lack) bool { return GuardOf(l) != "" }) {
				t.Errorf("%s is refused for want of %v", c.what, r.Lacks)
			}
		}
	}
	// The side that is left may be in the dark: a person goes on all the same, and nothing does by
	// itself.
	dark := Moment{Seen: 20, Lacks: []Lack{Lacking(LackSide{OfSide: OfSide{Side: split.Blue}})}}
	for _, in := range []Input{Next{2}, Steer{split.Whole}} {
		if _, err := Decide(onTheWay(), dark, in); err != nil {
			t.Errorf("%T away from a side in the dark: %v", in, err)
		}
	}
	if events, _ := Decide(onTheWay(), dark, TimeUp{}); len(events) > 0 {
		t.Errorf("by itself it leaves it: %+v", events)
	}
	// What is frozen already is not frozen again for that.
	s := onTheWay()
	s.Freezes = []Freezing{{ID: 4, Cause: Because(ByHand{})}}
	if events, _ := Decide(s, Moment{Lacks: []Lack{Lacking(LackFront{})}}, Lapsed{}); len(events) > 0 {
		t.Errorf("frozen, it says %+v", events)
	}
}

// Who goes on where a guard could not judge does so without it, for the present leg.
func TestWaiving(t *testing.T) {
	s := onTheWay()
	lacks := []Lack{Lacking(LackAnswers{OfGuard: OfGuard{Guard: "slow"}}), Lacking(LackFront{})}
	s.Freezes = []Freezing{{ID: 10, Cause: Because(NotKnown{Lacks: lacks})}}
	events, err := Decide(s, Moment{Seen: 20, Lacks: lacks}, Resume{})
	if err != nil || len(events) != 1 {
		t.Fatalf("%+v, %v", events, err)
	}
	s = Apply(s, events[0])
	if fmt.Sprint(s.Waived, s.Frozen(), s.Overruled) != "[slow] false []" {
		t.Errorf("it goes on without %v, overruled %v: %v", s.Waived, s.Overruled, s)
	}
	s.Task = Task{ID: 30, Do: TaskMove, Share: split.Whole, Leg: 2}
	if s = Apply(s, Event{Seq: 31,
		What: TookEffect{Task: 30, Share: split.Whole, Nearest: split.Whole}}); len(s.Waived) > 0 {
		t.Errorf("and in the keep without %v", s.Waived)
	}
}

// The live side's health is heard once, and again when it is worse than what was accepted.
func TestTheLiveSideIsIll(t *testing.T) {
	ill := func(healthy, of int) LiveIll { return LiveIll{Serving{Known: true, Healthy: healthy, Instances: of}} }
	s := onTheWay()
	hears := func(i LiveIll) bool {
		events, err := Decide(s, Moment{Seen: s.Seq}, i)
		for _, e := range events {
			s = Apply(s, e)
		}
		return err == nil && len(events) == 1 && oneof.IsA[HomeIll](events[0].What.(Frozen).Cause)
	}
	goOn := func() {
		events, err := Decide(s, Moment{Seen: s.Seq}, Resume{})
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range events {
			s = Apply(s, e)
		}
	}
	if !hears(ill(1, 4)) || hears(ill(0, 4)) {
		t.Errorf("it is heard once while it is frozen: %v", s)
	}
	goOn()
	if hears(ill(1, 4)) || hears(ill(2, 4)) || !hears(ill(0, 4)) {
		t.Errorf("accepted were three of four: %+v", s.Overruled)
	}
	goOn()
	if hears(ill(0, 4)) {
		t.Error("all four were accepted")
	}
	s = onTheWay()
	if s.GoingBack = true; hears(ill(0, 4)) {
		t.Errorf("it is heard though %v", s)
	}
	for _, stage := range []Stage{Raising, Proving} {
		s = onTheWay()
		if s.Stage = stage; !hears(ill(0, 4)) {
			t.Errorf("it is not heard at %q", stage)
		}
	}
	// Outside of a crossing it is said once, and that it is over.
	for _, stage := range []Stage{None, Settled, RolledBack} {
		s = onTheWay()
		s.Stage, s.Freezes = stage, nil
		said := 0
		for _, in := range []Input{Recovered{}, ill(0, 4), ill(0, 4), Recovered{}, Recovered{}, ill(1, 4)} {
			events, err := Decide(s, Moment{}, in)
			if err != nil {
				t.Fatal(err)
			}
			for _, e := range events {
				said++
				s = Apply(s, e)
			}
		}
		if said != 3 || len(s.Ails) != 1 || s.Ails[0].Cause.Is.(HomeIll).Home.Healthy != 1 ||
			s.Frozen() {
			t.Errorf("%q: %d events, %+v", stage, said, s.Ails)
		}
	}
}

// What the other side answered is kept on the way alone.
func TestWhatIsComparedWith(t *testing.T) {
	list := []Baseline{{Guard: "failing", Count: evidence.Count{Bad: 1, Of: 400}}}
	for stage, want := range map[Stage]int{Proving: 0, Shifting: 1, Keeping: 1, Settled: 0} {
		s := onTheWay()
		s.Stage = stage
		events, err := Decide(s, Moment{}, Arrived{list})
		if err != nil || len(events) != want {
			t.Fatalf("at %q: %+v, %v", stage, events, err)
		}
		if want > 0 {
			if s = Apply(s, events[0]); len(s.Baselines) != 1 || s.Baselines[0] != list[0] {
				t.Errorf("kept is %+v", s.Baselines)
			}
		}
	}
	if events, _ := Decide(onTheWay(), Moment{}, Arrived{}); len(events) > 0 {
		t.Errorf("nothing is kept as %+v", events)
	}
}

// A side that is found to get requests when a keeper is started again is not retired any more.
func TestARetirementIsFoundToBeLate(t *testing.T) {
	s := State{Seq: 40, Number: 1, Stage: Settled, Target: split.Green, Share: split.Whole,
		Task: Task{ID: 32, Do: TaskRetire, Side: split.Blue, Final: true}}
	events, err := Decide(s, Moment{}, TookUp{Found: Found{Share: 0, Noted: split.Whole, Known: true}})
	if err != nil || len(events) != 2 {
		t.Fatalf("%+v, %v", events, err)
	}
	if n, ok := events[1].What.(Failed); !ok || n.Task != 32 || !oneof.IsA[TroubleOutsider](n.Trouble) {
		t.Errorf("it says %+v", events[1].What)
	}
	order := reading.Order{Generation: 1, Side: split.Blue}
	events, _ = Decide(s, Moment{}, FrontSeen{Share: 0, Order: order})
	if n, ok := events[len(events)-1].What.(Failed); !ok || n.Task != 32 {
		t.Errorf("where somebody went home it says %+v", events)
	}
	if events, _ := Decide(s, Moment{},
		TookUp{Found: Found{Share: split.Whole, Noted: split.Whole, Known: true}}); len(events) != 1 {
		t.Errorf("where nothing has moved: %+v", events)
	}
}

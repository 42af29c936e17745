package crossing

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

// onTheWay is a crossing to green on the second of three legs.
func onTheWay() State {
	return State{
		Seq: 20, Number: 3, Target: split.Green, Stage: Shifting, Leg: 1, Share: 5000, Moved: true, Proven: true,
		Generation: 7, Left: time.Minute,
		Route: route.Route{{Part: 500}, {Part: 5000, Dwell: time.Hour}, {Part: split.Whole}}, Keep: 2 * time.Hour,
	}
}

// What an event does to a state, one thing at a time, as far as no scenario shows it.
func TestWhatAnEventDoes(t *testing.T) {
	asks := proof.Result{Check: "search", Instance: "green", Ask: true, Found: "region"}
	finding := asks.Finding()
	overruled := func(list ...Overruling) func(*State) { return func(s *State) { s.Overruled = list } }
	doing := func(t Task) func(*State) { return func(s *State) { s.Task = t } }
	for _, c := range []struct {
		what  string
		given func(*State)
		fact  Fact
		is    func(State) any
		want  any
	}{
		{"a proof in which nothing was asked proves nothing", doing(Task{ID: 9, Do: TaskProve}), Proved{Task: 9},
			func(s State) any { return s.Proven }, false},
		{"one whose findings were accepted before proves", func(s *State) {
			s.Task, s.Proven, s.Accepted = Task{ID: 9, Do: TaskProve}, false, []proof.Finding{finding}
		},
			Proved{Task: 9, Proof: proof.Proof{Results: []proof.Result{asks}}}, func(s State) any { return s.Proven },
			true},
		{"a report on another task proves, and leaves the present one", doing(Task{ID: 9, Do: TaskMove}),
			Proved{Task: 8, Proof: proof.Proof{Results: []proof.Result{{Check: "search", Pass: true}}}},
			func(s State) any { return s.Task.ID }, uint64(9)},
		{"an overruling takes the place of the one of the same guard",
			overruled(Overruling{Guard: "slow", Level: 1}, Overruling{Guard: "failing", Level: 1}),
			Resumed{Overruled: []Overruling{{Guard: "slow", Level: 2}}},
			func(s State) any { return s.Overruled },
			[]Overruling{{Guard: "failing", Level: 1}, {Guard: "slow", Level: 2}}},
		{"an order met while everything is at home has moved nothing", func(s *State) { s.Moved, s.Share = false, 0 },
			SentBack{Order: reading.Order{Generation: 8}},
			func(s State) any { return s.Moved }, false},
		{"an order met with requests on the target has", func(s *State) { s.Moved = false },
			SentBack{Order: reading.Order{Generation: 8}, Share: 5000}, func(s State) any { return s.Moved }, true},
		{"an order met outside of a crossing has not", func(s *State) { s.Moved, s.Stage = false, Settled },
			SentBack{Order: reading.Order{Generation: 8}, Share: 5000},
			func(s State) any { return s.Moved }, false},
		{"nobody at home, of another task", func(s *State) { s.Task, s.GoingBack = Task{ID: 9, Do: TaskHome}, true },
			NotReturned{Task: 8}, func(s State) any { return s.GoingBack }, true},
		{"nobody at home, of this one: the leg's time begins anew",
			func(s *State) { s.Task, s.GoingBack, s.Left = Task{ID: 9, Do: TaskHome}, true, 0 }, NotReturned{Task: 9},
			func(s State) any { return fmt.Sprint(s.GoingBack, s.Task.ID, s.Left) }, "false 0 1h0m0s"},
		{"a move back to where it was moves nothing", func(s *State) { s.Moved = false },
			Ordered{Task: Task{Do: TaskMove, Share: 0}}, func(s State) any { return s.Moved }, false},
		{"a move away moves", func(s *State) { s.Moved = false }, Ordered{Task: Task{Do: TaskMove, Share: 500}},
			func(s State) any { return s.Moved }, true},
		{"a proof that is made again on the way takes nothing back", nil, Ordered{Task: Task{Do: TaskProve}},
			func(s State) any { return s.Proven }, true},
		{"before anything moved it does", func(s *State) { s.Stage = Proving }, Ordered{Task: Task{Do: TaskProve}},
			func(s State) any { return s.Proven }, false},
		{"an act by hand asks nobody anything less", func(s *State) { s.Question = Question{ID: 4} },
			Ordered{Task: Task{Do: TaskMove, Act: true}}, func(s State) any { return s.Question.ID }, uint64(4)},
		{"the first leg is one, by its number", doing(Task{ID: 9, Do: TaskMove, Share: 9999, Leg: 0}),
			TookEffect{Task: 9, Share: 9999, Nearest: 9999}, func(s State) any { return s.Leg }, 0},
		{"a share without a leg has the last one reached", doing(Task{ID: 9, Do: TaskMove, Share: 6000, Leg: -1}),
			TookEffect{Task: 9, Share: 6000, Nearest: 6000}, func(s State) any { return s.Leg }, 1},
		{"a report that is late sets the share, and no leg",
			doing(Task{ID: 9, Do: TaskMove, Share: split.Whole, Leg: 2}), TookEffect{Task: 8, Share: 500},
			func(s State) any { return fmt.Sprint(s.Share, s.Leg, s.Task.ID) }, "5 % 1 9"},
		{"somebody who puts all home before anything moved has moved nothing",
			func(s *State) { s.Moved, s.Share = false, 500 }, Changed{Share: 0}, func(s State) any { return s.Moved },
			false},
		{"somebody who sends it out has", func(s *State) { s.Moved, s.Share = false, 0 }, Changed{Share: 500},
			func(s State) any { return s.Moved }, true},
		{"what somebody changed under a change of ours: ours is what was asked",
			doing(Task{ID: 9, Do: TaskMove, Share: split.Whole, Leg: 2}), Changed{Share: 2500, Foreign: true},
			func(s State) any { return fmt.Sprint(s.Ours, s.OursLeg, s.Task.ID) }, "100 % 2 0"},
		{"under a proof it is what was in force, and the proof goes on", doing(Task{ID: 9, Do: TaskProve}),
			Changed{Share: 2500, Foreign: true},
			func(s State) any { return fmt.Sprint(s.Ours, s.OursLeg, s.Task.ID) }, "50 % 1 9"},
		{"who puts it back has changed nothing", func(s *State) { s.Foreign, s.Ours, s.Share = true, 5000, 2500 },
			Changed{Share: 5000, Foreign: true}, func(s State) any { return s.Foreign }, false},
		{"who changes it once more leaves ours as it was",
			func(s *State) { s.Foreign, s.Ours, s.Share = true, 5000, 2500 }, Changed{Share: 3000, Foreign: true},
			func(s State) any { return fmt.Sprint(s.Foreign, s.Ours) }, "true 50 %"},
		{"before the first leg a change begins none", func(s *State) { s.Stage, s.Leg, s.Share = Proving, -1, 0 },
			Changed{Share: 2500, Foreign: true}, func(s State) any { return fmt.Sprint(s.Stage, s.Leg) }, "prove-1"},
		{"taken up: whether to raise is still asked", func(s *State) { s.Question = Question{ID: 4, Is: AskRaise{}} },
			TakenUp{Found: Found{Known: true, Share: 5000}}, func(s State) any { return s.Question.ID }, uint64(4)},
		{"and whether to raise the same", func(s *State) { s.Question = Question{ID: 4, Is: AskSameBuild{}} },
			TakenUp{Found: Found{Known: true, Share: 5000}}, func(s State) any { return s.Question.ID }, uint64(4)},
		{"and whether to start is not", func(s *State) { s.Question = Question{ID: 4, Is: AskStart{}} },
			TakenUp{Found: Found{Known: true, Share: 5000}}, func(s State) any { return s.Question.ID }, uint64(0)},
		{"taken up at the same share: the leg's time goes on", nil, TakenUp{Found: Found{Known: true, Share: 5000}},
			func(s State) any { return s.Left }, time.Minute},
		{"at another: its leg begins", nil, TakenUp{Found: Found{Known: true, Share: 500}},
			func(s State) any { return fmt.Sprint(s.Leg, s.Left) }, "0 0s"},
		{"at another before anything moved: none does", func(s *State) { s.Moved, s.Share, s.Leg = false, 500, -1 },
			TakenUp{Found: Found{Known: true}}, func(s State) any { return s.Leg }, -1},
		{"with a front that was not read: nothing is known better", nil, TakenUp{Found: Found{Share: 0}},
			func(s State) any { return fmt.Sprint(s.Share, s.Proven) }, "50 % true"},
		{"a freeze outside of a crossing stops no time", func(s *State) { s.Stage = Settled }, Frozen{Left: time.Hour},
			func(s State) any { return s.Left }, time.Minute},
	} {
		s := onTheWay()
		if c.given != nil {
			c.given(&s)
		}
		if got := c.is(Apply(s, Event{Seq: 21, What: c.fact})); fmt.Sprint(got) != fmt.Sprint(c.want) {
			t.Errorf("%s: got %v, want %v", c.what, got, c.want)
		}
	}
}

// A side is known not to be able to serve only while the other one can.
func TestTheBench(t *testing.T) {
	for _, c := range []struct {
		b    Serving
		want bool
	}{
		{Serving{Known: true, Other: 1}, true}, {Serving{Other: 1}, false},
		{Serving{Known: true, Healthy: 1, Other: 1}, false}, {Serving{Known: true}, false},
	} {
		if got := c.b.Empty(); got != c.want {
			t.Errorf("%+v is empty: %v", c.b, got)
		}
	}
}

// Each part is raised from a version of its own, from that of the same name, or from what
// the first part has.
func TestChoose(t *testing.T) {
	p := &plan.Plan{Parts: []plan.Part{{Name: "web"}, {Name: "worker"}, {Name: "mail"}}}
	offers := map[string][]raise.Version{
		"web":  {{Name: "4.2.0", ID: "w2"}, {Name: "4.3.0", ID: "w3"}},
		"mail": {{Name: "4.3.0", ID: "m3"}, {Name: "1.0", ID: "m1"}},
	}
	live := []reading.Instance{{Part: "web", Build: "w2", Running: true}, {Part: "web", Build: "w1"},
		{Part: "mail", Build: "m1", Running: true}}
	for _, c := range []struct {
		version string
		others  map[string]string
		want    string
		reason  Reason
	}{
		{"4.3.0", nil, "web w3 over w2, worker w3 over , mail m3 over m1, ", nil},
		{"4.3.0", map[string]string{"mail": "1.0"}, "web w3 over w2, worker w3 over , mail m1 over m1, ", nil},
		{"4.3.0", map[string]string{"worker": "4.3.0"}, "web w3 over w2, worker w3 over , mail m3 over m1, ", nil},
		{"4.3.0", map[string]string{"worker": "4.2.0"}, "", NotItsOwn{}},
		{"4.3.0", map[string]string{"pier": "1"}, "", NoPart{}},
		{"", nil, "", NoVersion{}},
		{"5.0", nil, "", NoSuchVersion{}},
		{"4.2.0", nil, "", NoSuchVersion{}}, // mail has none of that name
	} {
		choices, err := Choose(p, offers, c.version, c.others, live, split.Green)
		got := ""
		for _, choice := range choices {
			got += fmt.Sprintf("%s %s over %s, ", choice.Part, choice.Build, choice.LiveBuild)
		}
		if got != c.want || !isReason(err, c.reason) {
			t.Errorf("%q and %v: %q, %v", c.version, c.others, got, err)
		}
		r, _ := Refused[NoSuchVersion](err)
		if c.version == "5.0" && (!r.First || len(r.Offers) != 2) || c.version == "4.2.0" && r.First {
			t.Errorf("%q: the refusal is %+v", c.version, r)
		}
	}
}

// A side is raised with as many instances as its plan says, which may be as many as live.
func TestChooseHowMany(t *testing.T) {
	offers := map[string][]raise.Version{"web": {{Name: "4.3.0"}}}
	live := make([]reading.Instance, 4)
	for n := range live {
		live[n] = reading.Instance{Part: "web", Running: n < 3}
	}
	for _, c := range []struct {
		stack plan.Stack
		live  []reading.Instance
		want  raise.Choice
		none  bool
	}{
		{plan.Stack{Instances: 2}, live, raise.Choice{Instances: 2}, false},
		{plan.Stack{Instances: plan.AsLive}, live, raise.Choice{Instances: 3}, false},
		{plan.Stack{Instances: plan.AsLive}, nil, raise.Choice{}, true},
		{plan.Stack{Instances: 2, Until: 2500, Then: plan.AsLive}, live,
			raise.Choice{Instances: 2, Until: 2500, Then: 3}, false},
		{plan.Stack{Instances: 2, Until: 2500, Then: plan.AsLive}, nil, raise.Choice{Instances: 2}, false},
		{plan.Stack{Instances: 4, Until: 2500, Then: plan.AsLive}, live, raise.Choice{Instances: 4}, false},
		{plan.Stack{Instances: 2, Until: 2500, Then: 8}, nil, raise.Choice{Instances: 2, Until: 2500, Then: 8}, false},
	} {
		p := &plan.Plan{Parts: []plan.Part{{Name: "web"}}}
		p.Parts[0].Stacks[split.Green] = c.stack
		choices, err := Choose(p, offers, "4.3.0", nil, c.live, split.Green)
		if _, none := Refused[NoneToMatch](err); none != c.none || err != nil && !none {
			t.Fatalf("%+v: %v", c.stack, err)
		}
		if c.want.Part, c.want.Version = "web", "4.3.0"; err == nil && choices[0] != c.want {
			t.Errorf("%+v with %d live is chosen as %+v", c.stack, len(c.live), choices)
		}
	}
}

// What is decided where no scenario leads.
func TestWhatIsDecided(t *testing.T) {
	froze := func(ids ...uint64) func(*State) {
		return func(s *State) {
			for _, id := range ids {
				s.Freezes = append(s.Freezes,
					Freezing{ID: id, Cause: Because(ByGuard{Alarm: Alarm{Guard: "slow", Level: float64(id)}})})
			}
		}
	}
	kept := func(then plan.Then) func(*State) {
		return func(s *State) { s.Stage, s.Leg, s.Share, s.Then = Keeping, 2, split.Whole, then }
	}
	moving := func(share split.Share) func(*State) {
		return func(s *State) { s.Task = Task{ID: 9, Do: TaskMove, Share: share, Leg: 2} }
	}
	asked := func(kind QuestionKind, change func(*State)) func(*State) {
		return func(s *State) {
			s.Question = Question{ID: 15, Is: kind}
			if change != nil {
				change(s)
			}
		}
	}
	for _, c := range []struct {
		what  string
		given func(*State)
		in    Input
		want  string
	}{
		{"a yes to a leg of a side that is not proven any more proves it first",
			asked(AskLeg{Step{Leg: 2}},
				func(s *State) { s.Proven = false }), Yes{15}, "answered; ordered prove green (#22)"},
		{"a yes to one that is goes there", asked(AskLeg{Step{Leg: 2}}, nil), Yes{15},
			"answered; ordered shift to 100 % (#22)"},
		{"a freeze that was not seen keeps a share from growing", froze(10, 30), Steer{6000}, "! frozen"},
		{"one that was seen does not, and is overruled", froze(10), Steer{6000},
			"resumed over slow 10; frozen; ordered shift to 60 % (#23)"},
		{"nor one that was not seen from shrinking", froze(10, 30), Steer{1000},
			"resumed over slow 10; frozen; ordered shift to 10 % (#23)"},
		{"requests on the side that is raised by hand end the raise", func(s *State) {
			s.Stage, s.Share, s.Task = RolledBack, 0, Task{ID: 9, Do: TaskRaise, Side: split.Green, Act: true}
		},
			FrontSeen{Share: 5000, Order: reading.Order{Generation: 7}}, "changed; failed"},
		{"and on the other side they do not",
			func(s *State) { s.Stage, s.Task = RolledBack, Task{ID: 9, Do: TaskRaise, Side: split.Green, Act: true} },
			FrontSeen{Share: 0, Order: reading.Order{Generation: 7}}, "changed"},
		{"an order that is met, and what was begun before it came through after: home again",
			func(s *State) { s.Stage, s.Share = RolledBack, 0 },
			FrontSeen{Share: 5000, Holding: true, Order: reading.Order{Generation: 8}},
			"sent back; rolls back; ordered home to blue (#23)"},
		{"one that is met later is somebody's who sees to it", func(s *State) { s.Stage, s.Share = RolledBack, 0 },
			FrontSeen{Share: 5000, Order: reading.Order{Generation: 8}}, "sent back"},
		{"as is one to the other side", func(s *State) { s.Stage, s.Share = RolledBack, 0 },
			FrontSeen{Share: split.Whole, Holding: true, Order: reading.Order{Generation: 8, Side: split.Green}},
			"sent back"},
		{"ours is put back though it is not proven any more, if that sends no more there",
			func(s *State) { s.Foreign, s.Ours, s.OursLeg, s.Proven = true, 5000, 1, false }, PutBack{},
			"accepted theirs; ordered shift to 50 % (#22)"},
		{"ours is put back when the side has the instances for it", func(s *State) {
			s.Foreign, s.Ours, s.OursLeg, s.Share = true, 9000, 1, 500
			s.Choices = []raise.Choice{{Part: "web", Version: "4.3.0", Instances: 1, Until: 8000, Then: 3}}
		}, PutBack{}, "accepted theirs; ordered raise more of green, for 90 % (#22)"},
		{"and not if it does", func(s *State) { s.Foreign, s.Ours, s.Proven, s.Share = true, 5000, false, 500 },
			PutBack{}, "! not proven"},
		{"given up in its keep, where the plan would leave it", kept(plan.ThenLeave), Retire{},
			"ended; ordered retire blue (#22)"},
		{"and where it would not, once", kept(plan.ThenRetire), Retire{}, "ended; ordered retire blue (#22)"},
		{"a proof again while it is raised", func(s *State) { s.Stage = Raising }, Prove{}, "! nothing to do"},
		{"while it is proven", func(s *State) { s.Stage = Proving }, Prove{}, "ordered prove green (#21)"},
		{"while it is kept", kept(plan.ThenAsk), Prove{}, "ordered prove green (#21)"},
		{"after the end", func(s *State) { s.Stage = Settled }, Prove{}, "! nothing to do"},
		{"nobody at home, of another task", func(s *State) { s.Task, s.GoingBack = Task{ID: 9, Do: TaskHome}, true },
			Report{NotReturned{Task: 8}}, ""},
		{"nobody at home, of a task that goes nowhere", func(s *State) { s.Task = Task{ID: 9, Do: TaskProve} },
			Report{NotReturned{Task: 9}}, ""},
		{"the nearest that weights can do may be that far off", moving(6000),
			Report{TookEffect{Task: 9, Share: 5500, Nearest: 5500}}, "took effect"},
		{"and no farther", moving(6000), Report{TookEffect{Task: 9, Share: 5499, Nearest: 5499}}, "changed; frozen"},
		{"nor off at the end", moving(split.Whole), Report{TookEffect{Task: 9, Share: 9999, Nearest: 9999}},
			"changed; frozen"},
		{"a proof without results is one that failed",
			func(s *State) {
				s.Stage, s.Hold, s.Proven, s.Share, s.Task = Proving, true, false, 0,
					Task{ID: 9, Do: TaskProve}
			},
			Report{Proved{Task: 9}}, "proved; asked proof"},
		{"going back goes on, whatever is read",
			func(s *State) { s.GoingBack, s.Task = true, Task{ID: 9, Do: TaskProve} },
			FrontSeen{Share: 6000, Order: reading.Order{Generation: 7}}, "changed; ordered home to blue (#22)"},
		{"and is not begun twice", func(s *State) { s.GoingBack, s.Task = true, Task{ID: 9, Do: TaskHome} },
			FrontSeen{Share: 6000, Order: reading.Order{Generation: 7}}, "changed"},
		{"to stay is no steering", nil, Steer{5000}, "! there already"},
		{"a freeze by hand overrules no guard",
			func(s *State) { s.Freezes = []Freezing{{ID: 10, Cause: Because(ByHand{})}} }, Resume{}, "resumed"},
		{"one for want of a home does", func(s *State) {
			s.Freezes = []Freezing{{ID: 10, Cause: Because(NobodyHome{Alarm: Alarm{Guard: "failing", Level: 0.5}})}}
		}, Resume{}, "resumed over failing 0.5"},
	} {
		s := onTheWay()
		if c.given != nil {
			c.given(&s)
		}
		events, err := Decide(s, Moment{Seen: 20}, c.in)
		got := comesOf(events, err, "; ", func(e Event) (text string) {
			switch f := e.What.(type) {
			case Resumed:
				for _, o := range f.Overruled {
					text += fmt.Sprint(" over ", o.Guard, " ", o.Level)
				}
			case Asked:
				text = " " + f.Question.Kind()
			case Ordered:
				f.Task.ID = e.Seq
				text = fmt.Sprint(" ", f.Task)
			}
			return text
		})
		if got != c.want {
			t.Errorf("%s: got %s, want %s", c.what, got, c.want)
		}
	}
}

// isReason reports whether an error is a refusal for a reason; for none it has to be none.
func isReason(err error, want Reason) bool {
	got, refused := Refused[Reason](err)
	return refused == (want != nil) && (!refused || got.Name() == want.Name()) && (refused || err == nil)
}

// comesOf is what was decided, in few words: the kinds of the events with what more there is to
// say of each, or of the refusal.
func comesOf(events []Event, err error, separator string, more func(Event) string) string {
	var r *Refusal
	if errors.As(err, &r) {
		return "! " + r.Because.Name()
	}
	var list []string
	for _, e := range events {
		list = append(list, e.What.Kind()+more(e))
	}
	return strings.Join(list, separator)
}

// A side is proven as long as its health says so, too: nothing more goes to nobody, and
// whoever asks for it, or the route, is told.
func TestNothingMoreGoesToNobody(t *testing.T) {
	nobody := Serving{Known: true, Side: split.Green, Instances: 2, Other: 3}
	asked := onTheWay()
	asked.Question = Question{ID: 15, Is: AskLeg{Step: Step{Leg: 2}}}
	foreign := onTheWay()
	foreign.Foreign, foreign.Ours, foreign.OursLeg, foreign.Share = true, 5000, 1, 500
	for _, c := range []struct {
		what  string
		state State
		in    Input
		none  bool // it is refused; else it is frozen
	}{
		{"the next leg", onTheWay(), Next{2}, true}, {"a larger share", onTheWay(), Steer{6000}, true},
		{"ours again", foreign, PutBack{}, true},
		{"a yes to a leg", asked, Yes{15}, false}, {"the time of a leg", onTheWay(), TimeUp{}, false},
	} {
		events, err := Decide(c.state, Moment{Seen: 20, There: nobody}, c.in)
		if r, refused := Refused[NobodyServes](err); refused != c.none || refused && r.Serving != nobody {
			t.Errorf("%s: %v", c.what, err)
		}
		if !c.none {
			if f, ok := events[len(events)-1].What.(Frozen); !ok || f.Cause != Because(NobodyLeft{nobody}) {
				t.Errorf("%s: %+v", c.what, events)
			}
		}
		// What is not known, or fails on both sides, is not in the way.
		for _, there := range []Serving{{}, {Known: true, Healthy: 1, Other: 3}, {Known: true}} {
			events, err := Decide(c.state, Moment{Seen: 20, There: there}, c.in)
			if err != nil || len(events) == 0 {
				t.Fatalf("%s, with %+v: %v", c.what, there, err)
			}
			if o, ok := events[len(events)-1].What.(Ordered); !ok || o.Task.Do != TaskMove {
				t.Errorf("%s, with %+v: %+v", c.what, there, events)
			}
		}
	}
	// Nor does the other side go, which is the way back.
	kept := onTheWay()
	kept.Stage, kept.Leg, kept.Share, kept.Then = Keeping, 2, split.Whole, plan.ThenRetire
	if events, _ := Decide(kept, Moment{There: nobody}, TimeUp{}); len(events) != 1 ||
		!oneof.IsA[NobodyLeft](events[0].What.(Frozen).Cause) {
		t.Errorf("the end of the keep: %+v", events)
	}
	toRetire := kept
	toRetire.Question = Question{ID: 15, Is: AskRetire{}}
	for _, c := range []struct {
		state State
		in    Input
	}{{kept, Retire{}}, {toRetire, Yes{15}}} {
		_, err := Decide(c.state, Moment{Seen: 20, There: nobody}, c.in)
		if _, ok := Refused[NobodyServes](err); !ok {
			t.Errorf("%T: %v", c.in, err)
		}
	}
	// Nor does more go to the old side where nobody of it serves: to go there all the same is a going home.
	old := Serving{Side: split.Blue, Known: true, Instances: 3, Other: 2}
	back := foreign
	back.Share, back.Ours = 8000, 2000
	byHand := State{Share: split.Whole, Stage: Settled, Target: split.Green}
	for _, c := range []struct {
		what  string
		state State
		in    Input
	}{{"a smaller share", onTheWay(), Steer{500}}, {"ours again", back, PutBack{}},
		{"by hand", byHand, Shift{Share: 5000, Proven: [2]bool{true, true}}}} {
		_, err := Decide(c.state, Moment{Seen: 20, Old: old}, c.in)
		if r, ok := Refused[NobodyServes](err); !ok || r.Serving != old {
			t.Errorf("%s to nobody: %v", c.what, err)
		}
		if _, err := Decide(c.state, Moment{Seen: 20}, c.in); err != nil {
			t.Errorf("%s to who is not known: %v", c.what, err)
		}
	}
	// Less may go there always.
	if events, err := Decide(onTheWay(), Moment{There: nobody}, Steer{500}); err != nil || len(events) != 2 {
		t.Errorf("less: %+v, %v", events, err)
	}
}

// What a state says of itself.
func TestWhatAStateSays(t *testing.T) {
	s := onTheWay()
	if leg, ok := s.Next(); !ok || leg != 2 {
		t.Errorf("the next leg is %d, %v", leg, ok)
	}
	s.Leg, s.Share = 0, 6000
	if leg, ok := s.Next(); !ok || leg != 2 {
		t.Errorf("past the second leg's share the next one is %d, %v", leg, ok)
	}
	s.Share = 5000
	if leg, ok := s.Next(); !ok || leg != 2 {
		t.Errorf("at the second leg's share the next one is %d, %v", leg, ok)
	}
	s.Leg, s.Share = 2, split.Whole
	_, err := Decide(s, Moment{}, Next{Leg: 2})
	if !isReason(err, NothingToDo{}) {
		t.Errorf("on the last leg: %v", err)
	}
	if s.Live() != split.Blue {
		t.Errorf("on the way it lives on %v", s.Live())
	}
	s.Stage = Settled
	if s.Live() != split.Green {
		t.Errorf("in the end it lives on %v", s.Live())
	}
	events, err := Decide(s, Moment{}, Shift{Share: 500, Proven: [2]bool{true, true}})
	if o, ok := events[0].What.(Ordered); err != nil || !ok || o.Task.Leg != -1 || !o.Task.Act {
		t.Errorf("a shift by hand is %+v, %v", events, err)
	}
	s.Freezes = []Freezing{{ID: 1, Cause: Because(ByHand{})}, {ID: 2,
		Cause: Because(ByGuard{Alarm: Alarm{Level: 0.5}})}}
	_, byHand := FrozenBy[ByHand](s)
	guard, byGuard := FrozenBy[ByGuard](s)
	_, foreign := FrozenBy[Foreign](s)
	if !byHand || !byGuard || guard.Alarm.Level != 0.5 || foreign {
		t.Errorf("frozen by hand %v, by a guard %v %+v, by others %v", byHand, byGuard, guard, foreign)
	}
}

// A crossing is not called off under requests that somebody sent to its target: it stands still, and a person decides.
func TestNothingIsCalledOffUnderRequests(t *testing.T) {
	for name, c := range map[string]struct {
		task   TaskKind
		stage  Stage
		report Fact
		cause  string
	}{
		"a raise that failed": {TaskRaise, Raising, Failed{Task: 12, Trouble: Went(TroubleRaise{})}, "raise"},
		"a proof that failed": {TaskProve, Proving, Failed{Task: 12, Trouble: Went(TroubleLogbook{})},
			"proof"},
		"a proof that found bad": {TaskProve, Proving, Proved{Task: 12}, "proof"},
	} {
		s := onTheWay()
		s.Stage, s.Leg, s.Proven, s.Moved, s.Task = c.stage, -1, false, false, Task{ID: 12, Do: c.task, Side: s.Target}
		s.Share = 1700
		events, err := Decide(s, Moment{}, Report{Fact: c.report})
		if f, ok := events[len(events)-1].What.(Frozen); err != nil || !ok || f.Cause.Kind() != c.cause {
			t.Errorf("%s, with requests: %+v, %v", name, events, err)
		}
		s.Share = 0
		events, err = Decide(s, Moment{}, Report{Fact: c.report})
		if e, ok := events[len(events)-1].What.(Ended); ok && e.Stage != CalledOff || err != nil {
			t.Errorf("%s, without: %+v, %v", name, events, err)
		} else if _, ordered := events[len(events)-1].What.(Ordered); !ok && !ordered {
			t.Errorf("%s, without: %+v", name, events)
		}
	}
}

package crossing

import (
	"encoding/json"
	"errors"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

// world is what the tasks act on: a front with a share and its order of going home, and
// somebody else who changes it now and then.
type world struct {
	share split.Share
	order reading.Order
	r     *rand.Rand
}

func (w *world) seen() FrontSeen { return FrontSeen{Share: w.share, Order: w.order} }

// random is an input that could come in a state: what people ask for at any time, and
// reports on the present task or on an earlier one.
func (w *world) random(s State) Input {
	task := s.Task.ID
	if w.r.IntN(8) == 0 {
		task = w.r.Uint64N(s.Seq + 2) // late, or never asked for
	}
	share := split.Share(w.r.IntN(int(split.Whole) + 1))
	if w.r.IntN(3) == 0 {
		share = []split.Share{0, split.Whole}[w.r.IntN(2)]
	}
	question := s.Question.ID
	if w.r.IntN(6) == 0 {
		question = w.r.Uint64N(s.Seq + 2)
	}
	leg, _ := s.Next()
	home := Serving{Known: w.r.IntN(2) == 0, Healthy: w.r.IntN(2), Other: w.r.IntN(2)}
	asked := []Input{
		Yes{question}, Yes{question}, Yes{question}, No{question}, Next{leg}, Next{leg}, Next{w.r.IntN(4)},
		Steer{share}, PutBack{}, Freeze{}, Resume{}, Resume{},
		Back{Home: home, Stands: w.r.IntN(2) == 0, Read: w.r.IntN(2) == 0}, Back{Home: home, Force: true, Stands: true},
		Retire{}, Prove{},
		Alarmed{Alarm{Guard: "failing", Then: plan.Freeze, Level: w.r.Float64()}, home},
		Alarmed{Alarm{Guard: "lost", Then: plan.RollBack}, home},
		TimeUp{}, TimeUp{}, TimeUp{}, ControlLeft{},
		Shift{Share: share, Unproven: w.r.IntN(2) == 0, Proven: [2]bool{w.r.IntN(2) == 0, w.r.IntN(2) == 0}},
		Raise{Side: s.Live().Other()},
	}
	switch w.r.IntN(15) {
	case 14: // vaiven evacuate, or reopen
		if w.order = (reading.Order{Generation: w.order.Generation + 1, Side: w.order.Side}); w.r.IntN(3) > 0 {
			w.order.Side, w.order.Closed = split.Sides[w.r.IntN(2)], true
		}
		w.share = split.Toward(w.order.Side, split.Whole)
		return w.seen()
	case 0:
		if s.Task.Do != TaskMove && s.Task.Do != TaskHome {
			w.share = share
		}
		return w.seen()
	case 1:
		return TookUp{Found: Found{Share: w.share, Noted: s.Share, Known: true}, Order: w.order}
	case 2: // vaiven back, past us
		if w.order.Closes(s.Target.Other()) {
			return w.seen() // the front refuses that
		}
		w.order = reading.Order{Generation: w.order.Generation + 1, Side: s.Target.Other(),
			Closed: w.order.Closes(s.Target)}
		w.share = split.Toward(w.order.Side, split.Whole)
		return w.seen()
	case 3, 4, 5, 6:
		return asked[w.r.IntN(len(asked))]
	}
	if w.r.IntN(5) == 0 {
		return Report{Failed{Task: task, Trouble: Went(TroubleFront{Said: "no answer"})}}
	}
	switch s.Task.Do {
	case TaskRaise:
		return Report{Raised{Task: task}}
	case TaskProve:
		found := proof.Result{Check: "environment", Instance: s.Target.String(), Ask: w.r.IntN(3) > 0,
			Pass: w.r.IntN(3) > 0, Got: []string{"north", "south"}[w.r.IntN(2)]}
		return Report{Proved{Task: task, Proof: proof.Proof{Results: []proof.Result{found}}}}
	case TaskMove:
		if task != s.Task.ID {
			return Report{TookEffect{Task: task, Nearest: share, Share: share}}
		}
		if w.order.Closed && s.Task.Share.Of(w.order.Side.Other()) > 0 {
			return Report{Failed{Task: task, Trouble: Went(TroubleFront{Said: "closed"})}}
		}
		if w.order.Generation == s.Generation { // a front refuses what was begun under an older order
			w.share = s.Task.Share
		}
		if w.r.IntN(8) == 0 {
			w.share = share // somebody else's
		}
		return Report{TookEffect{Task: task, Nearest: s.Task.Share, Share: w.share}}
	case TaskHome:
		if w.r.IntN(8) == 0 {
			return Report{NotReturned{Task: task}}
		}
		if w.order.Closes(s.Task.Side) {
			return Report{NotReturned{Task: task}}
		}
		if task == s.Task.ID {
			w.order = reading.Order{Generation: w.order.Generation + 1, Side: s.Task.Side,
				Closed: w.order.Closes(s.Task.Side.Other())}
			w.share = split.Toward(s.Task.Side, split.Whole)
		}
		return Report{Returned{Task: task, Share: w.share, Generation: w.order.Generation}}
	case TaskRetire:
		if w.r.IntN(2) == 0 {
			return Report{Stopping{Task: task}}
		}
		return Report{Retired{Task: task, Side: s.Task.Side}}
	}
	return TimeUp{}
}

func (w *world) begin() Begin {
	b := Begin{
		Service: "sailings", Number: 1, Target: split.Sides[w.r.IntN(2)],
		Choices: []raise.Choice{{Part: "web", Version: "4.3.0", Build: "b", LiveBuild: "a"}},
		Keep:    time.Minute, Then: []plan.Then{plan.ThenRetire, plan.ThenAsk, plan.ThenLeave}[w.r.IntN(3)],
		Hold: w.r.IntN(2) == 0, NothingNew: w.r.IntN(8) == 0, With: []string{"", "ferries"}[w.r.IntN(2)],
	}
	for part := split.Share(1 + w.r.IntN(3000)); part < split.Whole; part += split.Share(1 + w.r.IntN(5000)) {
		b.Route = append(b.Route,
			route.Leg{Part: part, Dwell: time.Duration(w.r.IntN(20)) * time.Second, Ask: w.r.IntN(4) == 0})
	}
	b.Route = append(b.Route, route.Leg{Part: split.Whole})
	if w.r.IntN(3) == 0 {
		b.Control = Control{Stood: []string{"blue-1"}, Choices: []raise.Choice{{Part: "web", Version: "4.2.0",
			Build: "a", Instances: 2}}}
		b.Route[0].Control = b.Route[0].Part <= split.Whole/2
	}
	w.share = split.Toward(b.Target, 0)
	b.Front = w.seen()
	return b
}

// TestPromises plays random crossings and holds them to what must be true of all.
func TestPromises(t *testing.T) {
	r := testkit.Rand(t)
	seen := led{}
	defer func() { t.Log("what acts led to:\n" + seen.String()) }()
	for range 3000 {
		w := &world{r: r}
		s := stageOf{at: time.Unix(1_800_000_000, 0).UTC()}
		var recorded []Event
		in := Input(w.begin())
		for range 80 {
			s.pass(time.Duration(r.IntN(15_000)) * time.Millisecond)
			before := s.State
			events, err := s.take("property", in)
			recorded = append(recorded, events...)
			if err != nil {
				if !errors.Is(err, ErrNotNow) || !reflect.DeepEqual(s.State, before) {
					t.Fatalf("%T was refused (%v) and changed something", in, err)
				}
			}
			check(t, w, before, s.State, in, events)
			seen.by(t, in, events)
			in = w.random(s.State)
		}
		replay(t, recorded, s.State)
		withGaps(r, recorded)
	}
}

// withGaps folds what is left of a damaged logbook: whatever state that leads to, it is no reason to fail.
func withGaps(r *rand.Rand, recorded []Event) {
	var s State
	for _, e := range recorded {
		if r.IntN(4) > 0 {
			s = Apply(s, e)
			_, _ = s.Next()
			_, _, _ = s.String(), s.Whole(), s.Part()
		}
	}
}

func check(t *testing.T, w *world, before, s State, in Input, events []Event) {
	t.Helper()
	for n, e := range events {
		if e.Seq != before.Seq+uint64(n)+1 {
			t.Fatalf("%T: event %d has number %d after %d", in, n, e.Seq, before.Seq)
		}
		o, ok := e.What.(Ordered)
		if !ok {
			continue
		}
		if c := before.Closed; c.Closed && s.Closed == c && (o.Task.Do == TaskHome && c.Closes(o.Task.Side) ||
			o.Task.Do == TaskMove && o.Task.Share.Of(c.Side.Other()) > 0) {
			t.Fatalf("%T sends something to %v, which is closed: %v", in, c.Side.Other(), o.Task)
		}
		switch task := o.Task; task.Do {
		case TaskMove:
			if task.Share.Of(s.Target) > s.Share.Of(s.Target) && !s.Proven && !task.Act {
				t.Fatalf("%T moves traffic to %v, which is not proven: %v", in, s.Target, task)
			}
		case TaskRetire:
			if s.Share.Of(task.Side) > 0 {
				t.Fatalf("%T stops instances of %v, which gets %v: %v", in, task.Side, s.Share.Of(task.Side), s)
			}
		case TaskRaise:
			switch {
			case task.Control && task.Side != before.Target.Other():
				t.Fatalf("%T: a control group of the side crossed to: %v", in, task)
			case task.Control && task.Act && before.Stage != RolledBack && before.Stage != CalledOff:
				t.Fatalf("%T stops a control group in %v", in, before)
			case task.Control && !task.Act && (before.Stage != Raising || before.Sends(before.Target) > 0):
				t.Fatalf("%T starts a control group in %v", in, before)
			case !task.Control && s.Share.Of(task.Side) > 0:
				t.Fatalf("%T raises %v, which gets %v", in, task.Side, s.Share.Of(task.Side))
			}
		case TaskHome:
			if outside := task.Act && s.Stage.Over() && before.Sends(task.Side.Other()) > 0; !outside &&
				(!s.GoingBack || task.Side != s.Target.Other()) {
				t.Fatalf("%T goes home by %v: %v", in, task, s)
			}
		}
	}
	if s.Proven && !before.Proven {
		report, isReport := in.(Report)
		yes, isYes := in.(Yes)
		proved, isProof := report.Fact.(Proved)
		switch {
		case isReport && isProof && len(proved.Proof.Open(before.Accepted)) == 0:
		case isYes && oneof.IsA[AskFindings](before.Question) && yes.Question == before.Question.ID:
		default:
			t.Fatalf("%T makes %v proven: %v", in, s.Target, before)
		}
	}
	if s.Stage.Over() && (s.Frozen() || s.Question.ID != 0 || s.GoingBack || s.Timed()) {
		t.Fatalf("%T ended the crossing, but it still has something to do: %v", in, s)
	}
	if s.Stage == None && (s.Frozen() || s.Question.ID != 0 || s.GoingBack) {
		t.Fatalf("%T: nothing has begun, and it waits for somebody: %v", in, s)
	}
	if s.Foreign && (!s.Frozen() || s.GoingBack) {
		t.Fatalf("%T goes on though nobody has said what to do of somebody's change: %v", in, s)
	}
	if s.GoingBack && s.Task.Do != TaskHome {
		t.Fatalf("%T: it goes back, and nobody is told to: %v", in, s)
	}
	if s.Question.ID != 0 && s.Task.ID != 0 && s.Question.ID < s.Task.ID {
		t.Fatalf("%T leaves a question open that a task has overtaken: %v", in, s)
	}
	if before.GoingBack && s.Stage.UnderWay() && s.Share.Of(s.Target) > before.Share.Of(s.Target) {
		if _, seen := in.(FrontSeen); !seen {
			if _, found := in.(TookUp); !found {
				t.Fatalf("%T moves traffic out while it goes back: %v", in, s)
			}
		}
	}
	if s.Stage.UnderWay() && s.Share == w.share && s.Part() > 0 && !s.Closed.Closes(s.Target.Other()) {
		mustGoHome(t, s)
	}
}

// mustGoHome holds a state with traffic on the target to its way back.
func mustGoHome(t *testing.T, s State) {
	t.Helper()
	take := func(s State, in Input) State {
		events, err := Decide(s, Moment{At: s.Since.Add(time.Hour), Seen: s.Seq}, in)
		if err != nil {
			t.Fatalf("%T from %v: %v", in, s, err)
		}
		for _, e := range events {
			s = Apply(s, e)
		}
		return s
	}
	going := take(s, Back{Stands: true})
	orders := going.Orders()
	if len(orders) != 1 || orders[0].Do != TaskHome || orders[0].Side != s.Target.Other() {
		t.Fatalf("going back from %v: %v", s, orders)
	}
	// The front refuses once: it is still to be done.
	again := take(going, Report{Failed{Task: orders[0].ID, Trouble: Went(TroubleFront{})}})
	if !reflect.DeepEqual(again.Orders(), orders) {
		t.Fatalf("after a refusal it does not try again: %v", again)
	}
	home := take(again, Report{Returned{Task: orders[0].ID, Share: s.Home(), Generation: s.Generation + 1}})
	if home.Stage != RolledBack || home.Part() != 0 {
		t.Fatalf("all went home, and the crossing is %v", home)
	}
}

// replay plays the recorded events again, by way of the JSON that the logbook has.
func replay(t *testing.T, recorded []Event, want State) {
	t.Helper()
	var s State
	for _, e := range recorded {
		data, err := json.Marshal(e)
		if err != nil {
			t.Fatal(err)
		}
		var again Event
		if err := json.Unmarshal(data, &again); err != nil {
			t.Fatalf("%s: %v", data, err)
		}
		if _, unknown := again.What.(Unknown); unknown || again.Crossing != e.Crossing {
			t.Fatalf("%s is read as %+v", data, again)
		}
		s = Apply(s, again)
	}
	got, _ := json.Marshal(s)
	wanted, _ := json.Marshal(want)
	if string(got) != string(wanted) {
		t.Fatalf("replay ends in\n%s\nnot in\n%s", got, wanted)
	}
}

// FuzzEvent holds the logbook's form to its promises: whatever is read can be written and
// read again as the same, and applied to any state.
func FuzzEvent(f *testing.F) {
	for _, fact := range Facts.Zeroes() {
		data, err := json.Marshal(Event{Seq: 3, Crossing: 1, At: time.Unix(1_800_000_000, 0).UTC(), By: "marit",
			What: fact})
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
	}
	f.Add([]byte(`{"seq":4,"at":"2026-11-23T21:00:00Z","event":"teleported","where":{"to":3}}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		var e Event
		if json.Unmarshal(data, &e) != nil {
			return
		}
		once, err := json.Marshal(e)
		if err != nil {
			return // a time that JSON cannot hold
		}
		var again Event
		if err := json.Unmarshal(once, &again); err != nil {
			t.Fatalf("%s does not read back: %v", once, err)
		}
		for _, s := range []State{{},
			{Stage: Shifting, Target: split.Green, Route: threeLegs, Share: 500,
				Task: Task{ID: 2, Do: TaskMove, Share: 500, Leg: 1}}, {Stage: Settled, Share: split.Whole}} {
			Apply(s, e)
		}
	})
}

// What a newer Vaiven wrote is kept as it is, and changes nothing.
func TestAnUnknownEventIsKept(t *testing.T) {
	for _, data := range []string{
		`{"seq":9,"crossing":4,"at":"2026-11-23T21:00:00Z","by":"marit","event":"teleported","to":"mars"}`,
		`{"seq":9,"crossing":4,"at":"2026-11-23T21:00:00Z","by":"marit","event":"took effect","share":{"green":"a lot"}}`,
	} {
		var e Event
		if err := json.Unmarshal([]byte(data), &e); err != nil {
			t.Fatal(err)
		}
		s := State{Seq: 8, Number: 4, Stage: Shifting, Share: 500}
		after := Apply(s, e)
		if s.Seq = 9; !reflect.DeepEqual(after, s) {
			t.Errorf("%s makes %v of %v", data, after, s)
		}
		if kept, err := json.Marshal(e); err != nil || string(kept) != data {
			t.Errorf("kept as %s, %v", kept, err)
		}
	}
}

func BenchmarkDecide(b *testing.B) {
	w := &world{r: rand.New(rand.NewPCG(1, 2))}
	s := stageOf{at: time.Unix(1, 0)}
	if _, err := s.take("bench", w.begin()); err != nil {
		b.Fatal(err)
	}
	seen := w.seen()
	b.ReportAllocs()
	for b.Loop() {
		if _, err := Decide(s.State, Moment{At: s.at}, seen); err != nil {
			b.Fatal(err)
		}
	}
}

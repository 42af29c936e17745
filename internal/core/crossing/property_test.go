package crossing

import (
	"encoding/json"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"vaiven/internal/core/proof"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
	"vaiven/internal/testkit"
)

// world is what the effects act on: a front with a share, and somebody else who
// changes it now and then.
type world struct {
	share split.Share
	r     *rand.Rand
}

// random is an event that could happen in a state: what people ask for at any
// time, and reports on the pending effect or on an earlier one.
func (w *world) random(s State) Fact {
	effect := s.Pending.ID
	if w.r.IntN(8) == 0 {
		effect = w.r.IntN(s.Effects + 2) // late, or never asked for
	}
	share := split.Share(w.r.IntN(int(split.Whole) + 1))
	if w.r.IntN(3) == 0 {
		share = []split.Share{0, split.Whole}[w.r.IntN(2)]
	}
	asked := []Fact{
		NextAsked{}, NextAsked{}, SteerAsked{Share: share}, PutBackAsked{}, FreezeAsked{}, GoOnAsked{}, BackAsked{}, RetireAsked{},
		AcceptAsked{Findings: s.Asked}, AcceptAsked{Findings: []string{"what nobody found"}}, ProveAsked{},
		Tripped{Guard: "failing", Action: plan.Freeze}, Tripped{Guard: "failing", Action: plan.RollBack}, Tick{}, Tick{},
	}
	switch w.r.IntN(12) {
	case 0:
		w.share = share
		return Changed{Share: share}
	case 1:
		return Resumed{Share: w.share, Found: "something"}
	case 2, 3, 4, 5:
		return asked[w.r.IntN(len(asked))]
	}
	good := w.r.IntN(5) > 0
	switch {
	case s.Pending.Do == RaiseSide && good:
		return Raised{Effect: effect}
	case s.Pending.Do == RaiseSide:
		return RaiseFailed{Effect: effect, Why: "no port"}
	case s.Pending.Do == ProveSide && !good && w.r.IntN(2) == 0:
		found := proof.Result{Check: "environment", Instance: s.Target.String(), Ask: true, Got: []string{"north", "south"}[w.r.IntN(2)]}
		return Proved{Effect: effect, Proof: proof.Proof{Results: []proof.Result{found}}}
	case s.Pending.Do == ProveSide:
		return Proved{Effect: effect, Pass: good, Proof: proof.Proof{}}
	case s.Pending.Do == ApplyShare && good:
		if effect == s.Pending.ID {
			w.share = s.Pending.Share // an earlier one would be refused: the revision has moved on
		}
		return Applied{Effect: effect, Share: w.share}
	case s.Pending.Do == ApplyShare:
		return ApplyFailed{Effect: effect, Why: "no answer"}
	case s.Pending.Do == RetireSide && good:
		return Retired{Effect: effect, Side: s.Pending.Side}
	case s.Pending.Do == RetireSide:
		return RetireFailed{Effect: effect, Why: "resists"}
	}
	return Tick{}
}

func (w *world) begin() Begun {
	b := Begun{
		Service: "sailings", Number: 1, Target: split.Sides[w.r.IntN(2)], Version: "4.3.0", Build: "b", LiveBuild: "a",
		Keep: time.Minute, Then: []plan.Then{plan.ThenRetire, plan.ThenAsk, plan.ThenLeave}[w.r.IntN(3)], Hold: w.r.IntN(2) == 0,
	}
	for part := split.Share(1 + w.r.IntN(3000)); part < split.Whole; part += split.Share(1 + w.r.IntN(5000)) {
		b.Route = append(b.Route, route.Leg{Part: part, Dwell: time.Duration(w.r.IntN(20)) * time.Second, Ask: w.r.IntN(4) == 0})
	}
	b.Route = append(b.Route, route.Leg{Part: split.Whole})
	b.Share = split.Toward(b.Target, 0)
	w.share = b.Share
	return b
}

// TestPromises plays random crossings and holds them to what must be true of all.
func TestPromises(t *testing.T) {
	r := testkit.Rand(t)
	for range 1500 {
		w := &world{r: r}
		at := time.Unix(1_800_000_000, 0).UTC()
		var s State
		var recorded []Event
		fact := Fact(w.begin())
		for range 60 {
			at = at.Add(time.Duration(r.IntN(15_000)) * time.Millisecond)
			e := Event{At: at, By: "property", What: fact}
			before := s
			next, effects, err := Step(s, e)
			if err != nil {
				if !reflect.DeepEqual(next, before) || effects != nil {
					t.Fatalf("%T was refused (%v) and changed something", fact, err)
				}
			} else {
				s = next
				recorded = append(recorded, e)
				check(t, w, before, s, fact, effects)
			}
			fact = w.random(s)
		}
		replay(t, recorded, s)
	}
}

func check(t *testing.T, w *world, before, s State, fact Fact, effects []Effect) {
	t.Helper()
	if len(effects) > 1 {
		t.Fatalf("%T asked for %d effects at once", fact, len(effects))
	}
	for _, e := range effects {
		if e.ID != before.Effects+1 || s.Pending != e {
			t.Fatalf("%T: effect %v is not the one awaited, %v", fact, e, s.Pending)
		}
		switch e.Do {
		case ApplyShare:
			if e.Share.Of(s.Target) > s.Share.Of(s.Target) && !s.Proven {
				t.Fatalf("%T moves traffic to %v, which is not proven: %v", fact, s.Target, e)
			}
		case RetireSide:
			if w.share.Of(e.Side) > 0 {
				t.Fatalf("%T stops instances of %v, which gets %v: %v", fact, e.Side, w.share.Of(e.Side), s)
			}
		case RaiseSide:
			if e.Side != s.Target || s.Share == w.share && w.share.Of(e.Side) > 0 {
				t.Fatalf("%T raises %v, which is not the spare side: %v", fact, e.Side, s)
			}
		}
	}
	if len(s.Asked) > 0 && (s.Proven || s.Waiting == "" && s.Frozen == "") {
		t.Fatalf("%T leaves findings open that nobody is asked about: %v", fact, s)
	}
	if s.Proven && !before.Proven {
		accepted, ok := fact.(AcceptAsked)
		if proved, isProof := fact.(Proved); !isProof && !(ok && reflect.DeepEqual(accepted.Findings, before.Asked)) ||
			isProof && !proved.Pass && len(proved.Proof.Open(before.Accepted)) > 0 {
			t.Fatalf("%T makes %v proven, with %v open", fact, s.Target, before.Asked)
		}
	}
	if s.Stage.Over() && (s.Frozen != "" || s.Waiting != "" || s.GoingBack || !s.Due.IsZero()) {
		t.Fatalf("%T ended the crossing, but it still has something to do: %v", fact, s)
	}
	if s.Foreign && (s.Frozen == "" || s.GoingBack) {
		t.Fatalf("%T goes on though nobody has said what to do of somebody's change: %v", fact, s)
	}
	if s.Stage != Settled && w.share.Of(s.Target) > 0 && s.Share == w.share {
		mustGoHome(t, s)
	}
}

// mustGoHome holds a state with traffic on the target to its way back.
func mustGoHome(t *testing.T, s State) {
	t.Helper()
	at := s.Since.Add(time.Hour)
	back, effects, err := Step(s, Event{At: at, What: BackAsked{}})
	if err != nil || len(effects) != 1 || effects[0].Share != s.Home() || !effects[0].Home {
		t.Fatalf("going back from %v: %v, %v", s, effects, err)
	}
	// The front refuses once: the next tick has to try again.
	back, _, _ = Step(back, Event{At: at, What: ApplyFailed{Effect: effects[0].ID}})
	back, effects, _ = Step(back, Event{At: at, What: Tick{}})
	if len(effects) != 1 || effects[0].Share != s.Home() {
		t.Fatalf("after a refusal it does not try again: %v", back)
	}
	home, _, _ := Step(back, Event{At: at, What: Applied{Effect: effects[0].ID, Share: s.Home()}})
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
		next, effects, err := Step(s, again)
		if err != nil {
			t.Fatalf("replay of %s: %v", data, err)
		}
		if len(effects) == 0 && reflect.DeepEqual(next, s) {
			continue // such an event is not recorded
		}
		s = next
	}
	got, _ := json.Marshal(s)
	wanted, _ := json.Marshal(want)
	if string(got) != string(wanted) {
		t.Fatalf("replay ends in\n%s\nnot in\n%s", got, wanted)
	}
}

func FuzzEvent(f *testing.F) {
	for kind, decode := range decoders {
		fact, err := decode([]byte("{}"))
		if err != nil || fact.Kind() != kind {
			f.Fatalf("%q decodes to %T: %v", kind, fact, err)
		}
		data, err := json.Marshal(Event{At: time.Unix(1_800_000_000, 0).UTC(), By: "marit", What: fact})
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
	}
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
		if _, _, err := Step(State{}, e); err != nil {
			return
		}
	})
}

func TestAnUnknownEventIsNamed(t *testing.T) {
	var e Event
	err := json.Unmarshal([]byte(`{"at":"2026-11-23T21:00:00Z","event":"teleported"}`), &e)
	if err == nil || e.What != nil {
		t.Errorf("event %v, error %v", e, err)
	}
}

func BenchmarkStep(b *testing.B) {
	w := &world{r: rand.New(rand.NewPCG(1, 2))}
	s, _, err := Step(State{}, Event{At: time.Unix(1, 0), What: w.begin()})
	if err != nil {
		b.Fatal(err)
	}
	e := Event{At: time.Unix(2, 0), What: Tick{}}
	b.ReportAllocs()
	for b.Loop() {
		s, _, _ = Step(s, e)
	}
}

package crossing

import (
	"encoding/json"
	"reflect"
	"testing"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// What becomes of each field of the state when a crossing begins. A new field needs a rule here.
var atBeginning = map[string]string{
	"Seq": "event", "Number": "begun", "Service": "begun", "Folder": "begun", "Target": "begun", "Version": "begun",
	"Build": "begun", "LiveVersion": "begun", "Choices": "begun", "Route": "begun", "Keep": "begun", "Then": "begun",
	"First": "begun", "Hold": "begun", "With": "begun", "AtOnce": "begun", "Begun": "event", "BegunBy": "event",
	"BegunPeer": "event", "Control": "kept", "Waiting": "begun", "Wheel": "begun", "Was": "begun", "Stage": "anew",
	"Leg": "anew", "Since": "event", "Left": "anew", "Share": "begun", "Apart": "kept", "Everywhere": "anew",
	"Generation": "begun", "Closed": "kept", "Resumed": "anew", "Moved": "anew", "Proven": "anew", "Out": "kept",
	"Task": "anew", "Late": "anew", "GoingBack": "anew", "Why": "anew", "Freezes": "anew", "Question": "anew",
	"Accepted": "anew", "Overruled": "anew", "Waived": "anew", "Baselines": "anew", "Foreign": "anew", "Ours": "anew",
	"OursLeg": "anew", "Due": "anew", "Trouble": "anew", "Ails": "anew", "Told": "kept", "Term": "begun",
}

// The beginning of a crossing carries all that goes on: a keeper that reads the logbook from there has the state that
// the one before it had, whatever that was.
func TestABeginningCarriesEverything(t *testing.T) {
	for f := range reflect.TypeFor[State]().Fields() {
		if atBeginning[f.Name] == "" {
			t.Errorf("nothing says what becomes of %s when a crossing begins", f.Name)
		}
	}
	before := filled(reflect.TypeFor[State](), 4).Interface().(State)
	before.Told.Expires = map[string]time.Time{"certificate": time.Unix(1_900_000_000, 0).UTC()}
	before.Out = [2]bool{true, false} // arrays are not filled
	before.Closed = reading.Order{Generation: 3, Side: split.Blue, Closed: true}
	for _, after := range []int{0, 1} {
		e := Event{Seq: 9, Crossing: 2, At: time.Unix(1_800_000_000, 0).UTC(), By: "marit",
			What: Begun{Service: "sailings", Number: 2, Target: before.Target, After: after, Term: before.Term,
				Waiting: before.Waiting, Wheel: before.Wheel, Kept: before.kept(before.Target, after)}}
		data, err := json.Marshal(e)
		if err != nil {
			t.Fatal(err)
		}
		var read Event
		if err := json.Unmarshal(data, &read); err != nil {
			t.Fatal(err)
		}
		running, loaded := Apply(before, e), Apply(State{}, read)
		for f := range reflect.TypeFor[State]().Fields() {
			a := reflect.ValueOf(running).FieldByIndex(f.Index).Interface()
			b := reflect.ValueOf(loaded).FieldByIndex(f.Index).Interface()
			if !reflect.DeepEqual(a, b) {
				t.Errorf("%s is %+v, and %+v when it is read from the beginning", f.Name, a, b)
			}
			if atBeginning[f.Name] == "kept" && reflect.ValueOf(a).IsZero() && after == 0 {
				t.Errorf("%s does not go on", f.Name)
			}
		}
		old := e
		begun := old.What.(Begun)
		begun.Kept = Kept{}
		old.What = begun
		if got := Apply(before, old); !reflect.DeepEqual(got, running) {
			t.Errorf("what an earlier Vaiven wrote, read whole, is\n%+v, and not\n%+v", got, running)
		}
	}
}

package crossing

import (
	"math"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
)

// Both sides are up from when the new one was until one of them was retired, and so long the new one is paid for.
func TestOverlapOf(t *testing.T) {
	at := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	events := []Event{
		{Seq: 1, At: at, What: Begun{Number: 1, Target: split.Green}},
		{Seq: 2, At: at.Add(time.Minute), What: Raised{}},
	}
	web := plan.Part{Name: "web"}
	web.Stacks[split.Green] = plan.Stack{Instances: 3, Price: plan.Price{Amount: 0.2, Unit: "EUR"}}
	web.Stacks[split.Blue] = plan.Stack{Instances: 7, Price: plan.Price{Amount: 9, Unit: "EUR"}}
	parts := []plan.Part{web, {Name: "worker"}}
	now := at.Add(31 * time.Minute)
	if o := OverlapOf(events, parts, now); !o.Still || o.Lasted != 30*time.Minute || o.Unit != "EUR" ||
		math.Abs(o.Cost-0.3) > 1e-9 {
		t.Errorf("still both: %+v", o)
	}
	ended := append(events, Event{Seq: 3, At: at.Add(11 * time.Minute), What: Retired{Side: split.Blue}})
	if o := OverlapOf(ended, parts, now); o.Still || o.Lasted != 10*time.Minute || math.Abs(o.Cost-0.1) > 1e-9 {
		t.Errorf("one is retired: %+v", o)
	}
	if o := OverlapOf(events[:1], parts, now); o != (Overlap{}) {
		t.Errorf("never up: %+v", o)
	}
	events[0].What = Begun{Number: 1, Target: split.Green, First: true}
	if o := OverlapOf(events, parts, now); o != (Overlap{}) {
		t.Errorf("the first release: %+v", o)
	}
}

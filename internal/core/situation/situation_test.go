package situation

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"reflect"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/core/wayout"
)

var now = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

// onALeg is a crossing with a quarter of the requests on green, in which nothing is wrong.
func onALeg() engine.View {
	v := engine.View{At: now, Ready: true, Live: split.Blue, Left: 48 * time.Second,
		Front: engine.FrontView{At: now, Every: time.Second, Split: reading.Split{Share: 2500}},
		Crossing: crossing.State{Number: 2, Stage: crossing.Shifting, Target: split.Green, Share: 2500, Proven: true,
			Moved: true, Since: now.Add(-time.Minute), Begun: now.Add(-5 * time.Minute),
			Route: route.Route{{Part: 2500, Dwell: time.Minute}, {Part: split.Whole}}, Then: plan.ThenRetire},
		Traffic: forecast.Traffic{Rate: 40}}
	for side := range v.Sides {
		s := &v.Sides[side]
		s.At, s.Every, s.Wanted, s.Healthy = now, time.Second, 1, 1
		s.Instances = []reading.Condition{{Instance: reading.Instance{Name: split.Side(side).String() + "-1",
			Running: true,
			Started: now.Add(-time.Hour)}, State: reading.Healthy, Since: now.Add(-time.Hour)}}
		s.Figures = figures.Figures{Requests: 100, Rate: 10, Span: 10 * time.Second, To: now}
	}
	return v
}

// What has to be said first, for what is wrong and for what goes well.
func TestWhatIsSaidFirst(t *testing.T) {
	failing := func(v *engine.View, side split.Side, n int64) { v.Sides[side].Figures.Failing = n }
	over := func(v *engine.View, stage crossing.Stage, why crossing.CauseKind) {
		v.Crossing.Stage, v.Crossing.Share, v.Front.Split.Share = stage, 0, 0
		v.Crossing.Why = crossing.Because(why)
	}
	for _, c := range []struct {
		name    string
		do      func(*engine.View)
		seen    Seen
		is      string
		gravity Gravity
	}{
		{"all is well", func(*engine.View) {}, Seen{}, "Going", AllRight},
		{"green fails", func(v *engine.View) { failing(v, split.Green, 40) }, Seen{}, "Hurting", Wrong},
		{"a little of it", func(v *engine.View) { failing(v, split.Green, 2) }, Seen{}, "Going", AllRight},
		{"before a first release", func(v *engine.View) {
			failing(v, split.Green, 90)
			v.Crossing.First, v.Crossing.Share, v.Front.Split.Share = true, 0, 0
		}, Seen{}, "Going", AllRight},
		{"rolling back", func(v *engine.View) { v.Crossing.GoingBack = true }, Seen{}, "RollingBack", Wrong},
		{"asked to", func(*engine.View) {}, Seen{Asked: now.Add(-time.Second)}, "RollingBack", Wrong},
		{"the keeper says nothing", func(*engine.View) {}, Seen{Heard: now.Add(-9 * time.Second)}, "Unheard", Wrong},
		{"it has just said something", func(*engine.View) {}, Seen{Heard: now.Add(-4 * time.Second)}, "Going",
			AllRight},
		{"users come before that", func(v *engine.View) { failing(v, split.Blue, 90) },
			Seen{Heard: now.Add(-9 * time.Second)}, "Hurting", Wrong},
		{"the logbook is full", func(*engine.View) {}, Seen{Trouble: "no space"}, "Troubled", Wrong},
		{"the front is gone", func(v *engine.View) { v.Front.Error = "no answer" }, Seen{}, "FrontUnread", Wrong},
		{"a side is old", func(v *engine.View) { v.Sides[1].At = now.Add(-time.Minute) }, Seen{}, "SideUnread", Wrong},
		{"another build", func(v *engine.View) { v.Sides[1].Instances[0].Other = "bin/x differs" }, Seen{},
			"OtherBuild",
			Wrong},
		{"another build that gets nothing", func(v *engine.View) {
			v.Front.Split.Share, v.Sides[1].Instances[0].Other = 0, "bin/x differs"
		}, Seen{}, "Going", AllRight},
		{"a stranger", func(v *engine.View) { v.Sides[0].Strange = []string{"10.1.0.9:80"} }, Seen{}, "Strange", Waits},
		{"errors of the front's own", func(v *engine.View) { v.Front.Own = 3 }, Seen{}, "Unserved", Wrong},
		{"a question", func(v *engine.View) { v.Crossing.Question.ID = 7 }, Seen{}, "Asking", Waits},
		{"somebody else's share", func(v *engine.View) {
			v.Crossing.Foreign = true
			v.Crossing.Freezes = []crossing.Freezing{{ID: 1}}
		}, Seen{}, "Theirs", Waits},
		{"frozen", func(v *engine.View) { v.Crossing.Freezes = []crossing.Freezing{{ID: 1}} }, Seen{}, "Stopped",
			Waits},
		{"something lacks",
			func(v *engine.View) { v.Lacks = []crossing.Lack{crossing.Lacking(crossing.LackAnswers{})} }, Seen{},
			"Paused", Waits},
		{"a change would be remembered",
			func(v *engine.View) { v.Lacks = []crossing.Lack{crossing.Lacking(crossing.LackEased{})} },
			Seen{}, "Eased", Waits},
		{"not retired yet", func(v *engine.View) { v.Held = []crossing.Lack{crossing.Lacking(crossing.LackServes{})} },
			Seen{},
			"NotRetired", Waits},
		{"no way back", func(v *engine.View) { v.WayBack.State = wayback.Closed }, Seen{}, "NoWayBack", Waits},
		{"the split is off", func(v *engine.View) { v.Split.Wrong = true }, Seen{}, "SplitWrong", Waits},
		{"a trouble", func(v *engine.View) { v.Crossing.Trouble = crossing.Went(crossing.TroubleFront{}) }, Seen{},
			"Trouble",
			Waits},
		{"a notice", func(v *engine.View) { v.Front.Notice = "a reload failed" }, Seen{}, "Noticed", Waits},
		{"a slow raise", func(v *engine.View) {
			v.Crossing.Stage, v.Crossing.Share, v.Front.Split.Share, v.Typical = crossing.Raising, 0, 0, time.Second
			v.Crossing.Begun = now.Add(-2 * time.Hour)
			v.Sides[1].Instances[0].State = reading.Starting
		}, Seen{}, "SlowRaise", Waits},
		{"a guard begins to see", func(v *engine.View) {
			v.Guards = []guard.Status{{Name: "failing", State: guard.Watching, Sure: 0.7}}
		}, Seen{}, "MaybeWorse", Waits},
		{"it hardly does", func(v *engine.View) {
			v.Guards = []guard.Status{{Name: "failing", State: guard.Watching, Sure: 0.4}}
		}, Seen{}, "Going", AllRight},
		{"one is not healthy", func(v *engine.View) {
			v.Sides[1].Healthy, v.Sides[1].Instances[0].State = 0, reading.Failing
		}, Seen{}, "Unhealthy", Waits},
		{"it may only just have begun to be looked at", func(v *engine.View) {
			v.Sides[1].Healthy, v.Sides[1].Instances[0].State = 0, reading.Answering
			v.Sides[1].Instances[0].Since = now.Add(-time.Second)
		}, Seen{}, "Going", AllRight},
		{"a hook runs", func(v *engine.View) { v.Hook.Command = "./permit" }, Seen{}, "Hooked", AllRight},
		{"rolled back by a guard", func(v *engine.View) { over(v, crossing.RolledBack, crossing.ByGuard{}) }, Seen{},
			"RolledBack", Waits},
		{"a day ago", func(v *engine.View) {
			over(v, crossing.RolledBack, crossing.ByGuard{})
			v.Crossing.Since = now.Add(-24 * time.Hour)
		}, Seen{}, "RolledBack", AllRight},
		{"by hand", func(v *engine.View) { over(v, crossing.RolledBack, crossing.ByHand{}) }, Seen{}, "RolledBack",
			AllRight},
		{"what failed there hurts nobody any more", func(v *engine.View) {
			over(v, crossing.RolledBack, crossing.ByGuard{})
			failing(v, split.Green, 90)
		}, Seen{}, "RolledBack", Waits},
		{"settled", func(v *engine.View) { over(v, crossing.Settled, nil) }, Seen{}, "Resting", AllRight},
		{"nobody serves, and nobody asks", func(v *engine.View) {
			over(v, crossing.Settled, nil)
			v.Dead = true
		}, Seen{}, "Dead", Wrong},
		{"ill at rest", func(v *engine.View) {
			over(v, crossing.Settled, nil)
			v.Ails, v.Crossing.Ails = true, []crossing.Ail{{ID: 3}}
		}, Seen{}, "Ailing", Wrong},
		{"nothing was ever released", func(v *engine.View) {
			over(v, crossing.None, nil)
			v.Sides[0].Instances, v.Sides[1].Instances = nil, nil
			v.Sides[0].Wanted, v.Sides[1].Wanted = 0, 0
		}, Seen{}, "NothingYet", AllRight},
		{"not read yet", func(v *engine.View) { v.At = time.Time{} }, Seen{}, "FirstReading", AllRight},
	} {
		v := onALeg()
		c.do(&v)
		s := Of(v, c.seen, now)
		if got := fmt.Sprintf("%T", s.Is); got != "situation."+c.is || s.Gravity != c.gravity {
			t.Errorf("%s: %+v (%s), gravity %d; want %s, %d", c.name, s.Is, got, s.Gravity, c.is, c.gravity)
		}
	}
}

// What helps is recommended where ways were weighed, or where the new side alone fails.
func TestWhatHelps(t *testing.T) {
	v := onALeg()
	v.Sides[split.Green].Figures.Failing = 40
	if h := Of(v, Seen{}, now).Is.(Hurting); !h.Help.Back || len(h.Pain.Sides) != 1 || h.Pain.Sides[0].Failing != 4 {
		t.Errorf("green fails: %+v", h)
	}
	v.Sides[split.Blue].Figures.Failing = 40
	if h := Of(v, Seen{}, now).Is.(Hurting); h.Help.Back || len(h.Pain.Sides) != 2 {
		t.Errorf("both fail: %+v", h)
	}
	v.WaysOut = []wayout.Way{{Do: wayout.Forward}}
	if h := Of(v, Seen{}, now).Is.(Hurting); h.Help.Best.Do != wayout.Forward {
		t.Errorf("weighed: %+v", h)
	}
	v.Alike = true
	if h := Of(v, Seen{}, now).Is.(Hurting); !h.Help.Alike {
		t.Errorf("alike: %+v", h)
	}
}

// A rollback says what it cost: what failed on the new side while it got requests.
func TestWhatARollbackCost(t *testing.T) {
	v := onALeg()
	c := &v.Crossing
	c.Stage, c.Share, c.Why = crossing.RolledBack, 0, crossing.Because(crossing.ByGuard{})
	v.Front.Split.Share = 0
	for n := range 20 {
		at := c.Begun.Add(time.Duration(n-5) * time.Second)
		v.Track = append(v.Track, engine.Point{At: at, All: 40, Green: 10, Failing: 5, GreenFailing: 4})
	}
	if r := Of(v, Seen{}, now).Is.(RolledBack); r.Failed != 15*4 || r.All != 15*10 || r.For != time.Minute {
		t.Errorf("%+v", r)
	}
	c.Target = split.Blue
	if r := Of(v, Seen{}, now).Is.(RolledBack); r.Failed != 15 || r.All != 15*30 {
		t.Errorf("to blue: %+v", r)
	}
}

// What comes next by itself is what the plan says, and nothing where nothing does.
func TestWhatComesNext(t *testing.T) {
	keep := func(then plan.Then) func(*engine.View) {
		return func(v *engine.View) {
			v.Crossing.Stage, v.Crossing.Leg, v.Crossing.Share, v.Crossing.Then = crossing.Keeping, 1, split.Whole, then
		}
	}
	for name, c := range map[string]struct {
		do   func(*engine.View)
		want ThenDo
	}{
		"the next leg": {func(*engine.View) {}, NextLeg}, "a leg that asks": {func(v *engine.View) {
			v.Crossing.Route[1].Ask = true
		}, AskLeg},
		"retire": {keep(plan.ThenRetire), Retire}, "ask": {keep(plan.ThenAsk), AskRetire},
		"leave": {keep(plan.ThenLeave), Leave},
		"instances that stand": {func(v *engine.View) {
			keep(plan.ThenRetire)(v)
			v.Sides[split.Blue].Stands = true
		}, TakeOut},
		"frozen":          {func(v *engine.View) { v.Crossing.Freezes = []crossing.Freezing{{ID: 1}} }, Nothing},
		"something lacks": {func(v *engine.View) { v.Lacks = []crossing.Lack{{}} }, Nothing},
		"a question":      {func(v *engine.View) { v.Crossing.Question.ID = 7 }, Nothing},
		"a first release": {func(v *engine.View) {
			keep(plan.ThenRetire)(v)
			v.Crossing.First = true
		}, Nothing},
	} {
		v := onALeg()
		c.do(&v)
		if got := Of(v, Seen{}, now).Then; got.Do != c.want || got.Do != Nothing && got.In != v.Left {
			t.Errorf("%s: %+v, want %q", name, got, c.want)
		}
	}
}

// A situation is kept as it was shown: what is read again is what was judged, whatever it is.
func TestKept(t *testing.T) {
	for _, is := range All.Zeroes() {
		s := Situation{Is: is, Gravity: Wrong, Then: Then{Do: NextLeg, In: time.Minute, Leg: 2, Until: true}}
		data, err := json.Marshal(s)
		if err != nil {
			t.Fatal(err)
		}
		var again Situation
		if err := json.Unmarshal(data, &again); err != nil || reflect.TypeOf(again.Is) != reflect.TypeOf(is) ||
			again.Gravity != Wrong || again.Then != s.Then {
			t.Errorf("%T is read as %+v, %v", is, again, err)
		}
	}
	full := Situation{Is: Hurting{Pain: Pain{Sides: []Ache{{split.Green, engine.Ache{Failing: 3, Rate: 40}}}, Lost: 2,
		Why: "refused"}, Help: Help{Back: true}}, Gravity: Wrong}
	data, err := json.Marshal(full)
	var again Situation
	if err = errors.Join(err, json.Unmarshal(data, &again)); err != nil || !reflect.DeepEqual(again.Is.(Hurting).Pain,
		full.Is.(Hurting).Pain) || !again.Is.(Hurting).Help.Back {
		t.Errorf("%s is read as %+v, %v", data, again, err)
	}
	newer := []byte(`{"is":{"kind":"adrift","why":"x"},"gravity":1}`)
	if err := json.Unmarshal(newer, &again); err != nil {
		t.Fatal(err)
	}
	if kept, err := json.Marshal(again); err != nil || !bytes.Contains(kept, []byte(`"why":"x"`)) {
		t.Errorf("what a newer Vaiven showed is kept as %s, %v", kept, err)
	}
}

// Each kind of situation is in the list that it is read by.
func TestEachKindIsListed(t *testing.T) {
	text, err := os.ReadFile("kinds.go")
	if err != nil {
		t.Fatal(err)
	}
	if there := strings.Count(string(text), ") is() string"); there != len(All.Types())+1 { // and Newer
		t.Errorf("there are %d kinds, and %d are listed", there-1, len(All.Types()))
	}
}

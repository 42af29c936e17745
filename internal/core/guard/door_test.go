package guard

import (
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

var atTheDoor = plan.Guard{
	Name: "door", Watch: plan.Door, Margin: 0.05, Find: 0.1, After: 250 * time.Millisecond, Then: plan.RollBack,
}

// knock is a prober that sends 20 requests a second, of which a quarter go to green.
type knock struct {
	*watch
	door  reading.Door
	share split.Share
}

func newKnock(t *testing.T) *knock {
	k := &knock{watch: newWatch(t, atTheDoor), share: 2500}
	k.facts = func(f *Facts) { f.Door, f.Share = k.door, k.share }
	return k
}

// pass lets seconds pass with the same in each.
func (k *knock) pass(seconds int, e reading.Ended) {
	for range seconds {
		e.At = k.now
		k.door.Ended = append(k.door.Ended, e)
		k.door.At = k.now.Add(time.Second)
		k.watch.share = k.share
		k.watch.pass(1, [2]answers{})
	}
}

func TestTheDoor(t *testing.T) {
	tally := func(of, bad int64) reading.Tally { return reading.Tally{Of: of, Bad: bad} }
	good := reading.Ended{Sides: [2]reading.Tally{tally(15, 0), tally(5, 0)}}
	for _, c := range []struct {
		name    string
		then    reading.Ended // after a minute in which all was well
		seconds int
		state   State
		lack    Gap
	}{
		{"all well", good, 60, Clear, ""},
		{"a little bad on both", reading.Ended{Sides: [2]reading.Tally{tally(15, 1), tally(5, 0)}, Nobody: tally(1, 1)},
			60, Clear, ""},
		{"all of green's are wrong", reading.Ended{Sides: [2]reading.Tally{tally(15, 0), tally(5, 5)}}, 5, Tripped, ""},
		{"half of green's are wrong", reading.Ended{Sides: [2]reading.Tally{tally(15, 0), tally(5, 3)}}, 12, Tripped,
			""},
		{"all of both are wrong", reading.Ended{Sides: [2]reading.Tally{tally(15, 15), tally(5, 5)}}, 60, Clear, ""},
		{"all of blue's are wrong", reading.Ended{Sides: [2]reading.Tally{tally(15, 15), tally(5, 0)}}, 60, Clear, ""},
		{"green answers nothing, and nobody says whose it was",
			reading.Ended{Sides: [2]reading.Tally{tally(15, 0), {}}, Nobody: tally(5, 5)}, 10, Tripped, ""},
		{"blue answers nothing, and nobody says whose it was",
			reading.Ended{Sides: [2]reading.Tally{{}, tally(5, 0)}, Nobody: tally(15, 15)}, 60, Clear, ""},
		{"neither answers anything", reading.Ended{Nobody: tally(20, 20)}, 60, Clear, ""},
		{"green answers nothing, and the way to the front is bad",
			reading.Ended{Sides: [2]reading.Tally{tally(15, 0), {}}, Nobody: tally(5, 5), Unreached: 1}, 60, Clear, ""},
		{"the front is not reached", reading.Ended{Unreached: 20}, 10, Unknown, NotRead},
		{"nothing ends", reading.Ended{}, 10, Unknown, NotRead},
		{"nothing ends, for a moment", reading.Ended{}, 3, Clear, ""},
	} {
		k := newKnock(t)
		k.since = k.now
		k.pass(60, good)
		k.is(c.name+": before", Clear, "")
		k.pass(c.seconds, c.then)
		k.is(c.name, c.state, c.lack)
	}
}

// When the share has just grown, the target has answered less than its part of what there was
// before: what the live side loses then is not the target's.
func TestTheDoorAfterAChange(t *testing.T) {
	k := newKnock(t)
	k.share, k.since = 500, k.now
	k.pass(60, reading.Ended{Sides: [2]reading.Tally{{Of: 19}, {Of: 1}}})
	k.share = 2500
	changed := k.now
	k.facts = func(f *Facts) { f.Door, f.Share, f.Changed = k.door, k.share, changed }
	k.pass(2, reading.Ended{Sides: [2]reading.Tally{{Of: 15}, {Of: 5}}})
	for range 30 { // blue has died, and no answer names it
		k.pass(1, reading.Ended{Sides: [2]reading.Tally{{}, {Of: 5}}, Nobody: reading.Tally{Of: 15, Bad: 15}})
		k.is("blue dies", Clear, "")
	}
	k = newKnock(t)
	k.share, k.since = 500, k.now
	k.pass(60, reading.Ended{Sides: [2]reading.Tally{{Of: 19}, {Of: 1}}})
	k.share = 2500
	again := k.now
	k.facts = func(f *Facts) { f.Door, f.Share, f.Changed = k.door, k.share, again }
	k.pass(12, reading.Ended{Sides: [2]reading.Tally{{Of: 15}, {}}, Nobody: reading.Tally{Of: 5, Bad: 5}})
	k.is("green has hung since", Tripped, "")
}

// Nobody's answers are the sides' where one of them gets everything, and say nothing where
// both get some and no answer names its side.
func TestTheDoorWithoutNames(t *testing.T) {
	k := newKnock(t)
	k.pass(60, reading.Ended{Nobody: reading.Tally{Of: 20, Bad: 1}})
	k.share = 0
	f := Facts{Now: k.now, Target: split.Green, Door: k.door, Series: &k.series}
	list := k.guards.Baselines(f, time.Time{})
	if len(list) != 1 || list[0].Count != (evidence.Count{Bad: 60, Of: 1200}) {
		t.Errorf("what blue answered is %+v", list)
	}
	k.since = k.now
	k.share = 2500
	k.pass(20, reading.Ended{Nobody: reading.Tally{Of: 20, Bad: 5}})
	k.is("both get some", Unknown, NotNamed)
	changed := k.now
	k.facts = func(f *Facts) { f.Door, f.Share, f.Changed, f.Baselines = k.door, split.Whole, changed, list }
	k.pass(2, reading.Ended{Nobody: reading.Tally{Of: 20, Bad: 20}}) // of which the first second was before
	k.pass(20, reading.Ended{Nobody: reading.Tally{Of: 20, Bad: 1}})
	if s := k.is("green gets all", Clear, ""); s.Trial.Of != 20*21 || s.Baseline.Of != 1200 {
		t.Errorf("it compares %+v with %+v", s.Trial, s.Baseline)
	}
	k.pass(10, reading.Ended{Nobody: reading.Tally{Of: 20, Bad: 19}})
	k.is("and fails", Tripped, "")
	k = newKnock(t)
	k.since, k.share = k.now, split.Whole
	k.facts = func(f *Facts) {
		f.Door, f.Share, f.Baselines = k.door, split.Whole, []crossing.Baseline{{Guard: "another"}}
	}
	k.pass(3, reading.Ended{Nobody: reading.Tally{Of: 20, Bad: 19}})
	k.is("with nothing to compare with", Unknown, NoBaseline)
}

// What the front answered before anybody stood behind it is nobody's past, and a past in which every third answer may
// have failed could hide anything.
func TestAPastOfNobody(t *testing.T) {
	k := newKnock(t)
	k.share, k.series = 0, figures.Series{}
	for range 60 {
		k.door.Ended = append(k.door.Ended, reading.Ended{At: k.now, Nobody: reading.Tally{Of: 10, Bad: 10}})
		k.now = k.now.Add(time.Second)
		k.door.At = k.now
	}
	if list := k.guards.Baselines(Facts{Now: k.now, Target: split.Green, Door: k.door, Series: &k.series},
		time.Time{}); len(list) > 0 {
		t.Errorf("with nobody there the past is %+v", list)
	}
	k.pass(30, reading.Ended{Nobody: reading.Tally{Of: 20}})
	list := k.guards.Baselines(Facts{Now: k.now, Target: split.Green, Door: k.door, Series: &k.series}, time.Time{})
	if len(list) != 1 || list[0].Count.Bad > 0 || list[0].High > 0.1 {
		t.Errorf("since somebody is there it is %+v", list)
	}
	k.pass(30, reading.Ended{Nobody: reading.Tally{Of: 20, Bad: 12}})
	if list := k.guards.Baselines(Facts{Now: k.now, Target: split.Green, Door: k.door, Series: &k.series},
		time.Time{}); len(list) > 0 {
		t.Errorf("where most failed it is %+v", list)
	}
}

// A door that gives no answer at all since the share was changed, and did before, is shut by that; one that was shut
// before, or that gave an answer since, is not.
func TestAShutDoor(t *testing.T) {
	well, shutDoor := reading.Ended{Sides: [2]reading.Tally{{Of: 15}, {Of: 5}}}, reading.Ended{Unreached: 20}
	for _, c := range []struct {
		name    string
		seconds []reading.Ended // since the change
		before  reading.Ended
		tripped bool
	}{
		{"shut", []reading.Ended{well, shutDoor, shutDoor, shutDoor, shutDoor, shutDoor, shutDoor, shutDoor}, well,
			true},
		{"not for long", []reading.Ended{well, shutDoor, shutDoor, shutDoor}, well, false},
		{"one answer", []reading.Ended{well, shutDoor, well, shutDoor, shutDoor, shutDoor, shutDoor, shutDoor}, well,
			false},
		{"never open", []reading.Ended{shutDoor, shutDoor, shutDoor, shutDoor, shutDoor, shutDoor, shutDoor, shutDoor},
			shutDoor, false},
	} {
		k := newKnock(t)
		k.share = 0
		k.pass(60, c.before)
		k.since, k.share = k.now, 2500
		changed := k.now
		k.facts = func(f *Facts) { f.Door, f.Share, f.Changed = k.door, k.share, changed }
		for _, e := range c.seconds {
			k.pass(1, e)
		}
		if got := k.last[0].State == Tripped; got != c.tripped {
			t.Errorf("%s: it is %v", c.name, k.last[0].State)
		}
	}
}

package engine

import (
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// A log that stops is noticed by the prober's own requests; one that is written late, and one without a prober, is
// not taken for that.
func TestALogThatStops(t *testing.T) {
	type second struct{ answered, counted int64 } // of the prober's requests
	same := func(n int, s second) (list []second) {
		for range n {
			list = append(list, s)
		}
		return list
	}
	late := func(n, every int) (list []second) { // written all at once
		for i := range n {
			s := second{answered: 10}
			if i%every == every-1 {
				s.counted = int64(10 * every)
			}
			list = append(list, s)
		}
		return list
	}
	for _, c := range []struct {
		name    string
		seconds []second
		missing bool // at the end
	}{
		{"all is counted", same(30, second{10, 10}), false},
		{"it stops", append(same(30, second{10, 10}), same(8, second{answered: 10})...), true},
		{"just now", append(same(30, second{10, 10}), same(4, second{answered: 10})...), false},
		{"it comes again", append(append(same(30, second{10, 10}), same(20, second{answered: 10})...), second{10, 10}),
			false},
		{"and stops again", append(append(append(same(30, second{10, 10}), same(20, second{answered: 10})...),
			same(5, second{10, 10})...), same(8, second{answered: 10})...), true},
		{"nobody asks", append(same(30, second{10, 10}), same(60, second{})...), false},
		{"once every ten seconds", late(119, 10), false},
		{"which stops as well", append(late(120, 10), same(40, second{answered: 10})...), true},
	} {
		var p probes
		var d reading.Door
		counted := int64(0)
		now, missing := first, false
		for _, s := range c.seconds {
			d.Ended = append(d.Ended, reading.Ended{At: now, Sides: [2]reading.Tally{{Of: s.answered}, {}}})
			now = now.Add(time.Second)
			counted += s.counted
			missing = p.read(now, counted, d)
		}
		if missing != c.missing {
			t.Errorf("%s: missing is %v", c.name, missing)
		}
		if p.read(now.Add(time.Minute), 0, d) {
			t.Errorf("%s: a log that has never told of the prober misses some", c.name)
		}
	}
}

// With a log that is not written any more the route stands still, and guards say nothing.
func TestNothingGoesOnUncounted(t *testing.T) {
	b := newBench(t)
	b.doored, b.front.Logs = true, []reading.Log{{}}
	var ended []reading.Ended
	step := func(counted int64) {
		b.now = b.now.Add(time.Second)
		b.front.Logs[0].Probes += counted
		ended = append(ended, reading.Ended{At: b.now, Sides: [2]reading.Tally{{Of: 8}, {Of: 2}}})
		b.e.DoorRead(reading.Door{At: b.now, Ended: ended})
		b.look()
		b.e.Pass(b.now)
	}
	for range 5 {
		step(10)
	}
	b.shifts()
	step(10)
	for range 8 {
		step(0)
	}
	v := b.e.View(b.now)
	if v.Front.Blind == "" || len(v.Lacks) == 0 || !oneof.IsA[crossing.LackCounts](v.Lacks[0]) {
		t.Errorf("it lacks %+v: %q", v.Lacks, v.Front.Blind)
	}
	for range 40 {
		step(0)
	}
	if s := b.e.State(); !s.Frozen() || s.Share != 2000 {
		t.Errorf("then it is at %v", s)
	}
	if b.e.live() != split.Blue {
		t.Error("it settled")
	}
}

// What users get is a reading as the configuration is: where it is grossly another, nothing goes on, settles or is
// retired.
func TestRequestsThatGoElsewhere(t *testing.T) {
	for _, c := range []struct {
		name        string
		blue, green int64 // requests of ten seconds while 20 % are to go to green
		sticky      bool
		astray      bool
	}{
		{"as asked", 160, 40, false, false}, {"a little off", 180, 20, false, false}, {"none", 200, 0, false, true},
		{"all", 0, 200, false, true},
		{"too few to say", 40, 0, false, false}, {"sessions", 200, 0, true, false},
	} {
		b := newBench(t)
		b.front.Sessions = c.sticky
		b.shifts()
		b.pass(5 * time.Second) // the tail
		b.answer(10*time.Second, c.blue/10, c.green/10)
		l, astray := b.e.astray(b.now)
		if astray != c.astray {
			t.Errorf("%s: %v, %+v", c.name, astray, l)
		}
	}
	b := newBench(t) // nothing is crossing, and an operator has wired the proxy to the spare side
	b.shifts()
	b.front.Split.Share = split.Whole
	b.pass(30 * time.Second)
	b.answer(20*time.Second, 20, 0)
	if l, astray := b.e.astray(b.now); !astray || oneof.As[crossing.LackAstray](l).Side != split.Blue ||
		oneof.As[crossing.LackAstray](l).Have < 100 {
		t.Errorf("a side without a share gets requests: %v, %+v", astray, l)
	}
	if list := b.e.stays(b.now, split.Green); len(list) == 0 || !oneof.IsA[crossing.LackAstray](list[0]) {
		t.Errorf("the side that gets them may be stopped: %+v", list)
	}
}

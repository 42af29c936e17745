package engine

import (
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
)

// until is a plan whose first leg lasts until sure.
func until(p *plan.Plan) {
	p.Guards = []plan.Guard{failing}
	p.Route[0].Sure, p.Route[0].Least, p.Route[0].Dwell = true, 10*time.Second, 2*time.Minute
}

// A leg until sure ends when the fault to find is excluded, and not before its least time.
func TestALegUntilSure(t *testing.T) {
	b := newBench(t, until)
	b.answer(10*time.Second, 1000, 0)
	b.shifts()
	begun := b.now
	b.answer(9*time.Second, 800, 200)
	if v := b.e.View(b.now); v.Crossing.Task.ID != 0 || v.Sure.Of != 0.99 {
		t.Errorf("before its least time: %v, %+v", v.Crossing, v.Sure)
	}
	for k := 0; b.e.State().Task.Do != crossing.TaskMove && k < 100; k++ {
		b.answer(time.Second, 800, 200)
	}
	if took := b.now.Sub(begun); b.e.State().Task.Do != crossing.TaskMove || took > time.Minute {
		t.Errorf("after %v it is %v, %+v", took, b.e.State(), b.e.View(b.now).Sure)
	}
}

// With too little traffic it says when it will probably be sure, lasts as long as it may, and asks a
// person, saying what could not be excluded.
func TestALegThatNeverIsSure(t *testing.T) {
	b := newBench(t, until)
	b.answer(10*time.Second, 100, 0)
	b.shifts()
	b.answer(20*time.Second, 16, 4)
	v := b.e.View(b.now)
	if ends, known := v.Ends(); len(v.Sure.Unsure) != 1 || v.Sure.Unsure[0].Guard != "failing" || !known || ends <= 0 ||
		ends > v.Left {
		t.Errorf("%+v: it ends in %v, %v; %v are left", v.Sure.Unsure, ends, known, v.Left)
	}
	b = newBench(t, until)
	b.answer(10*time.Second, 10, 0)
	b.shifts()
	b.answer(3*time.Minute, 8, 2)
	q := b.e.State().Question
	if u := oneof.As[crossing.AskUnsure](q); len(u.Unsure) != 1 || u.Unsure[0].Find != 0.02 || u.Part != 10_000 {
		t.Fatalf("after its longest time: %v, %+v", b.e.State(), q)
	}
	if err := b.command(crossing.Yes{Question: q.ID}); err != nil || b.e.State().Task.Do != crossing.TaskMove {
		t.Errorf("a yes: %v, %v", err, b.e.State())
	}
}

// A keeper that begins in the middle may be wrong about half of what is left, each time; one that
// another hands its evidence to goes on with it.
func TestEvidenceOverARestart(t *testing.T) {
	b := newBench(t, until)
	b.answer(10*time.Second, 1000, 0)
	b.shifts()
	b.answer(5*time.Second, 800, 200)
	before := b.e.View(b.now).Guards[0]
	handed := b.e.Hand(b.now)
	state := b.e.State()
	again := func(m Memory) (needed, excluded float64) {
		b.e = New(b.e.plan, state, b.now, m)
		b.answer(3*time.Second, 800, 200)
		state = b.e.State()
		g := b.e.View(b.now).Guards[0]
		return g.Needed, g.Excluded
	}
	if needed, excluded := again(handed); needed != before.Needed || excluded > before.Excluded {
		t.Errorf("handed over, it needs %v and excludes %v; before %v and %v", needed, excluded, before.Needed,
			before.Excluded)
	}
	one, _ := again(Memory{})
	two, _ := again(Memory{})
	if one < before.Needed+0.29 || two < one+0.29 || state.Resumed != 2 {
		t.Errorf("it needs %v, begun anew %v and then %v, resumed %d times", before.Needed, one, two, state.Resumed)
	}
}

package engine

import (
	"testing"
	"time"

	"vaiven/internal/core/calendar"
	"vaiven/internal/core/crossing"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
)

// hoursOf are spans of a week in UTC.
func hoursOf(t *testing.T, spans ...string) (h calendar.Hours) {
	t.Helper()
	h.Zone = time.UTC
	for _, text := range spans {
		s, err := calendar.ParseSpan(text)
		if err != nil {
			t.Fatal(err)
		}
		h.Spans = append(h.Spans, s)
	}
	return h
}

// A leg that ends outside the hours waits for them, and nobody's word goes past that; going home is free.
func TestOutsideTheHours(t *testing.T) {
	b := newBench(t, func(p *plan.Plan) {
		p.Hours = hoursOf(t, "Mon 09:00-21:01", "Mon 21:05-22:00") // it is Monday, nine in the evening
		p.Route[0].Dwell = 90 * time.Second
	})
	b.shifts()
	b.pass(80 * time.Second) // the hours are over, and the leg is not
	if v := b.e.View(b.now); v.Left > 11*time.Second || len(v.Lacks) > 0 || v.Crossing.Frozen() {
		t.Errorf("a leg that is on does not go on: %v left, lacking %v", v.Left, b.lacks())
	}
	b.refused(crossing.Next{Leg: 1}, crossing.IsForbidden{})
	b.refused(crossing.Steer{Share: 5000}, crossing.IsForbidden{})
	b.pass(60 * time.Second)
	v := b.e.View(b.now)
	if len(v.Lacks) != 1 || v.Crossing.Frozen() || v.Crossing.Leg != 0 ||
		!oneof.As[crossing.LackHours](v.Lacks[0]).Until.Equal(first.Add(5*time.Minute)) {
		t.Fatalf("the leg is over, lacking %+v: %v", v.Lacks, v.Crossing)
	}
	if err := b.command(crossing.Steer{Share: 1000}); err != nil {
		t.Errorf("steering to less: %v", err)
	}
	b.moves(b.order(crossing.TaskMove))
	if err := b.command(crossing.Back{Read: true, Home: crossing.Serving{Healthy: 1, Known: true}}); err != nil {
		t.Errorf("going home: %v", err)
	}
	b.order(crossing.TaskHome)
}

func TestTheHoursBegin(t *testing.T) {
	b := newBench(t, func(p *plan.Plan) { p.Hours = hoursOf(t, "Mon 21:03-22:00") })
	b.proven()
	b.told(split.Green)
	b.pass(2 * time.Minute)
	if kinds := b.lacks(); len(kinds) != 1 || kinds[0] != "hours" || b.e.State().Frozen() || len(b.e.Orders()) > 0 {
		t.Fatalf("proven before the hours, lacking %v: %v", kinds, b.e.State())
	}
	b.pass(70 * time.Second)
	if o := b.order(crossing.TaskMove); o.Share != 2000 {
		t.Errorf("then it goes to %v", o.Share)
	}
}

// An embargo that comes when a change is ordered already holds it, and so does one that cannot be read; when it is
// taken back the crossing goes on.
func TestAnEmbargo(t *testing.T) {
	b := newBench(t, func(p *plan.Plan) { p.Embargo = "/srv/embargo" })
	outside := Outside{}
	says := func(e calendar.Embargo, said string) {
		outside.Embargo, outside.EmbargoSaid = e, said
		b.e.Outside(b.now, outside)
	}
	pass := func(d time.Duration) { // it is read again and again
		for end := b.now.Add(d); b.now.Before(end); {
			b.pass(5 * time.Second)
			b.e.Outside(b.now, outside)
		}
	}
	says(calendar.Embargo{}, "")
	b.proven()
	b.told(split.Green)
	b.read()
	b.order(crossing.TaskMove)
	says(calendar.Embargo{On: true, Why: "the regatta", By: "harbour office"}, "")
	if list := b.e.Orders(); len(list) > 0 {
		t.Errorf("with an embargo %v may be done", list)
	}
	says(calendar.Embargo{}, "the disk hangs")
	if list := b.e.Orders(); len(list) > 0 {
		t.Errorf("not read, %v may be done", list)
	}
	says(calendar.Embargo{}, "")
	b.moves(b.order(crossing.TaskMove))
	pass(15 * time.Second)
	says(calendar.Embargo{On: true, Until: b.now.Add(30 * time.Second)}, "")
	if o := b.e.Orders(); len(o) > 0 {
		t.Errorf("the last leg is gone to: %v", o)
	}
	pass(40 * time.Second)
	if o := b.order(crossing.TaskMove); o.Share != split.Whole || b.e.State().Frozen() {
		t.Errorf("when it is over, %v: %v", o.Share, b.e.State())
	}
	b.pass(2 * time.Minute) // nobody has read it since
	if list := b.e.Orders(); len(list) > 0 {
		t.Errorf("not read for two minutes, %v may be done", list)
	}
}

// A shift by hand is bound by an embargo too, as long as home serves.
func TestAShiftInAnEmbargo(t *testing.T) {
	b := newBench(t, func(p *plan.Plan) { p.Embargo = "/srv/embargo" })
	b.stand(split.Green, "4.3.0", "healthy")
	b.told(split.Green)
	b.e.Outside(b.now, Outside{Embargo: calendar.Embargo{On: true}})
	b.pass(3 * time.Second)
	shift := func() error {
		_, err := b.e.Command(crossing.Moment{At: b.now, By: "marit", Said: "it has to"},
			crossing.Shift{Share: split.Whole, Unproven: true})
		return err
	}
	err := shift()
	if _, ok := crossing.Refused[crossing.IsForbidden](err); !ok {
		t.Errorf("away from home: %v", err)
	}
	b.stand(split.Blue, "4.2.0", "exited")
	b.pass(3 * time.Second)
	if err := shift(); err != nil {
		t.Errorf("away from a side that is dead: %v", err)
	}
}

// A day that is closed is none of the hours, and where it cannot be read which are, none is.
func TestClosedDays(t *testing.T) {
	b := newBench(t, func(p *plan.Plan) { p.Closed = "closed.ics" })
	day := first.Truncate(24 * time.Hour)
	b.shiftsWhen(func() {
		b.e.Outside(b.now, Outside{Closed: []calendar.Closed{{Name: "St Nicholas", From: day,
			To: day.AddDate(0, 0, 1)}}})
	}, func(l crossing.Lack) bool { return oneof.As[crossing.LackHours](l).Closed == "St Nicholas" })
	b.shiftsWhen(func() { b.e.Outside(b.now, Outside{ClosedSaid: "no such file"}) },
		func(l crossing.Lack) bool { return oneof.As[crossing.LackHours](l).Said == "no such file" })
	b.e.Outside(b.now, Outside{})
	b.pass(time.Second)
	b.order(crossing.TaskMove)
}

// shiftsWhen holds a crossing that is proven to a lack, once something is said.
func (b *bench) shiftsWhen(said func(), is func(crossing.Lack) bool) {
	b.t.Helper()
	said()
	if !b.e.State().Stage.UnderWay() {
		b.proven()
		b.told(split.Green)
	}
	b.pass(2 * time.Second)
	if v := b.e.View(b.now); len(v.Lacks) != 1 || !is(v.Lacks[0]) || len(b.e.Orders()) > 0 {
		b.t.Errorf("lacking %+v: %v", v.Lacks, v.Crossing)
	}
}

// After the machine slept nothing goes on before the prober has heard something.
func TestTheProberAfterASleep(t *testing.T) {
	b := newBench(t, func(p *plan.Plan) {
		p.Guards = append(p.Guards, plan.Guard{Name: "door", Watch: plan.Door, Margin: 0.05, Find: 0.1,
			Then: plan.RollBack})
		p.Quiet = plan.QuietGoOn
	})
	b.shifts()
	b.pass(9 * time.Second)
	b.now = b.now.Add(30 * time.Second)
	b.e.Slept(b.now, 30*time.Second)
	b.doored = true
	b.read()
	for _, side := range split.Sides {
		b.side(side)
	}
	if err := b.command(crossing.Resume{}); err != nil {
		t.Fatal(err)
	}
	b.pass(4 * time.Second)
	if kinds := b.lacks(); len(kinds) != 1 || kinds[0] != "door" || len(b.e.Orders()) > 0 {
		t.Errorf("the prober has heard nothing since, lacking %v, and %v is ordered", kinds, b.e.Orders())
	}
	b.doored = false
	b.pass(3 * time.Second)
	if o := b.order(crossing.TaskMove); o.Share != split.Whole {
		t.Errorf("when it has, %v", o.Share)
	}
}

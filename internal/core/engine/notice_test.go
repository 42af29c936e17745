package engine

import (
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
)

func notified(p *plan.Plan) {
	p.Notices.Rules = []plan.Notice{{To: []plan.Receiver{{Way: plan.ByMail, Address: "marit@linea-vessa.example"}}}}
	p.Keep = 30 * time.Minute
}

// arrives brings a crossing into its keep.
func (b *bench) arrives() {
	b.shifts()
	b.pass(time.Second)
	b.pass(11 * time.Second)
	b.moves(b.order(crossing.TaskMove))
	b.pass(time.Second)
}

// factsOf are those of events of one type.
func factsOf[T crossing.Fact](list []crossing.Event) (facts []T) {
	for _, e := range list {
		if f, ok := e.What.(T); ok {
			facts = append(facts, f)
		}
	}
	return facts
}

// What people are told that no other event says is an event, once: that the way back narrows and opens again, where
// that lasts, that a side is retired soon, and that something expires. Without notices none of it is.
func TestWhatPeopleAreTold(t *testing.T) {
	b := newBench(t, notified)
	b.arrives()
	told := func(what string, want wayback.State) {
		t.Helper()
		b.pass(20 * time.Second)
		seq := b.e.State().Seq
		if got := b.e.State().Told.WayBack; got != want {
			t.Errorf("%s: people were told last that the way back is %q, not %q", what, got, want)
		}
		if b.pass(20 * time.Second); b.e.State().Seq != seq {
			t.Errorf("%s: they are told again", what)
		}
	}
	told("all is well", "")
	b.stand(split.Blue, "4.2.0", reading.Failing)
	told("the side to go back to is ill", wayback.Closed)
	b.stand(split.Blue, "4.2.0", reading.Healthy)
	told("it is well again", wayback.Open)
	b.pass(15 * time.Minute)
	if b.e.State().Told.RetireDue {
		t.Error("people are told of the retirement too early")
	}
	if b.pass(6 * time.Minute); !b.e.State().Told.RetireDue {
		t.Error("people are not told of the retirement")
	}
	ends := b.now.Add(10 * 24 * time.Hour)
	certificate := []Expiring{{"the certificate", ends}, {"another", b.now.Add(90 * 24 * time.Hour)}}
	first := factsOf[crossing.Expires](b.e.Expire(b.now, certificate))
	again := factsOf[crossing.Expires](b.e.Expire(b.now, certificate))
	if len(first) != 1 || first[0].What != "the certificate" || len(again) > 0 {
		t.Errorf("of what expires people are told %+v, and then %+v", first, again)
	}
	b = newBench(t, notified, func(p *plan.Plan) { p.Notices = plan.Notices{} })
	b.arrives()
	b.stand(split.Blue, "4.2.0", reading.Failing)
	told("without notices", "")
}

// A figure that a source does not tell pauses the leg and freezes after a while, unless the plan says that silence goes
// on.
func TestASilentSource(t *testing.T) {
	for silent, freezes := range map[plan.Silent]bool{"": true, plan.SilentFreeze: true, plan.SilentGoOn: false} {
		b := newBench(t, func(p *plan.Plan) {
			p.Route[0].Dwell = 5 * time.Minute
			p.Guards = append(p.Guards, plan.Guard{Name: "wait", Watch: plan.Bound, Margin: 5, Then: plan.Freeze,
				Silent: silent, Every: 2 * time.Second, Figure: plan.Figure{Name: "wait", From: plan.FromPrometheus}})
		})
		tell := func(failed string) {
			r := reading.Figures{At: b.now, Guard: "wait", Failed: failed}
			if failed == "" {
				r.Of = []reading.Told{{Name: "green", Side: split.Green, Values: map[string]float64{"wait": 1}}}
			}
			b.e.FiguresRead(b.now, r)
		}
		tell("")
		b.begin()
		o := b.order(crossing.TaskRaise)
		b.stand(split.Green, "4.3.0", reading.Healthy)
		b.e.Started(b.now, o.ID)
		b.pass(time.Second)
		tell("")
		b.proves(b.order(crossing.TaskProve))
		b.told(split.Green)
		tell("")
		b.read()
		b.moves(b.order(crossing.TaskMove))
		for range 50 {
			b.pass(time.Second)
			tell("connection refused")
		}
		if frozen := b.e.State().Frozen(); frozen != freezes {
			t.Errorf("silent: %q, and it is frozen: %v (%v)", silent, frozen, b.lacks())
		}
	}
}

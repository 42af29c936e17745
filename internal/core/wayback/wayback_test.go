package wayback

import (
	"testing"
	"time"

	"vaiven/internal/core/oneof"
	"vaiven/internal/core/split"
)

func TestJudge(t *testing.T) {
	at := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	good := Facts{Side: split.Blue, Healthy: 3, Instances: 3, Rate: 700, Capacity: 1000, FrontRead: true,
		Rehearsal: Rehearsal{At: at, Took: 38 * time.Millisecond},
		Rehearsed: SpreadOf([]time.Duration{38 * time.Millisecond})}
	fine := Look{At: at, Of: 4}
	failing := func(where ...string) Look {
		l := fine
		for _, name := range where {
			l.Failed = append(l.Failed, Failing{What: "GET /", Where: name, Said: "status 500"})
		}
		return l
	}
	for _, c := range []struct {
		name  string
		spoil func(*Facts)
		want  State
		worst ConditionKind
	}{
		{"all well", func(*Facts) {}, Open, nil},
		{"capacity not known", func(f *Facts) { f.Capacity = 0 }, Open, nil},
		{"just large enough", func(f *Facts) { f.Rate = 1000 }, Open, nil},
		{"one instance down", func(f *Facts) { f.Healthy = 2 }, Narrow, Healthy{}},
		{"too small", func(f *Facts) { f.Rate = 1200 }, Narrow, Carries{}},
		{"readings too old", func(f *Facts) { f.Stale = 20 * time.Second }, Narrow, Healthy{}},
		{"all down", func(f *Facts) { f.Healthy = 0 }, Closed, Healthy{}},
		{"no instances", func(f *Facts) { f.Healthy, f.Instances = 0, 0 }, Closed, Healthy{}},
		{"retired", func(f *Facts) { f.Retired = true }, Closed, Healthy{}},
		{"front gone", func(f *Facts) { f.FrontRead = false }, Closed, Front{}},
		{"front blocked", func(f *Facts) { f.Rehearsal.Failed = "other.conf:12: unknown directive" }, Closed, Front{}},
		{"rehearsal broke off", func(f *Facts) {
			f.Rehearsal.Failed,
				f.Rehearsal.Broken = "the connection ended in the middle", true
		}, Narrow, Front{}},
		{"rehearsal broke off, and the front does not answer",
			func(f *Facts) { f.Rehearsal.Failed, f.Rehearsal.Broken, f.FrontRead = "timeout", true, false }, Closed,
			Front{}},
		{"users get another share than it says", func(f *Facts) { f.Elsewhere = true }, Narrow, Front{}},
		{"too small for the day's peak", func(f *Facts) { f.Peak = 1200 }, Narrow, Carries{}},
		{"looked at, and all well", func(f *Facts) { f.Looks.Same, f.Looks.Smoke, f.Looks.Data = fine, fine, fine },
			Open, nil},
		{"not as it was", func(f *Facts) { f.Looks.Same = failing("blue-1", "blue-2", "blue-3") }, Narrow, Same{}},
		{"one instance fails its checks", func(f *Facts) { f.Looks.Smoke = failing("blue-1", "blue-1") }, Narrow,
			Smoke{}},
		{"all fail their checks", func(f *Facts) { f.Looks.Smoke = failing("blue-1", "blue-2", "blue-3") }, Closed,
			Smoke{}},
		{"the data do not fit any more", func(f *Facts) { f.Looks.Data = failing("") }, Closed, Data{}},
		{"could not be looked at", func(f *Facts) { f.Looks.Data.Error = "no answer" }, Open, nil},
		{"the worst counts", func(f *Facts) { f.Healthy, f.FrontRead = 2, false }, Closed, Front{}},
		{"of equals the first", func(f *Facts) { f.Healthy, f.Rate = 2, 2000 }, Narrow, Healthy{}},
	} {
		f := good
		c.spoil(&f)
		r := Judge(f)
		if r.State != c.want || r.Worst.Kind() != Conditions.Name(c.worst) || len(r.Conditions) < 3 {
			t.Errorf("%s: %s because of %q, want %s because of %q", c.name, r.State, r.Worst.Kind(), c.want, Conditions.Name(c.worst))
		}
	}
	r := Judge(good)
	if got := oneof.As[Carries](r.Conditions[1]); got.Headroom < 0.42 || got.Headroom > 0.43 {
		t.Errorf("carries: %+v", got)
	}
	if got := oneof.As[Front](r.Conditions[2]); got.Takes.Middle != 38*time.Millisecond ||
		!got.Rehearsal.At.Equal(at) {
		t.Errorf("front: %+v", got)
	}
	if got := r.Conditions[0]; got != (Condition{Open, split.Blue, Healthy{Healthy: 3, Instances: 3}}) {
		t.Errorf("healthy: %+v", got)
	}
}

func TestSpread(t *testing.T) {
	var took []time.Duration
	for n := range 14 {
		took = append(took, time.Duration(14-n)*time.Millisecond)
	}
	s := SpreadOf(took)
	if want := (Spread{Of: 10, Least: time.Millisecond, Middle: 6 * time.Millisecond,
		Most: 10 * time.Millisecond}); s != want {
		t.Errorf("%+v, want %+v", s, want)
	}
	if took[0] != 14*time.Millisecond {
		t.Error("the times were put in another order")
	}
}

// A side that fails is no open way back, and what it fails by is said.
func TestAHomeThatFails(t *testing.T) {
	f := Facts{Side: split.Blue, Healthy: 3, Instances: 3, FrontRead: true}
	for bad, want := range map[float64]State{0: Open, 0.049: Open, 0.05: Narrow, 1: Narrow} {
		f.Bad = bad
		if r := Judge(f); r.State != want || want == Narrow && r.Worst.Is != (Answers{bad}) {
			t.Errorf("%.1f %% of its answers fail: %s, %+v", 100*bad, r.State, r.Worst)
		}
	}
}

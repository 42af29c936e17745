package wayback

import (
	"testing"
	"time"

	"vaiven/internal/core/split"
)

func TestJudge(t *testing.T) {
	at := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	good := Facts{Side: split.Blue, Healthy: 3, Instances: 3, Load: 0.7, FrontRead: true, Switched: 38 * time.Millisecond, SwitchedAt: at}
	for _, c := range []struct {
		name  string
		spoil func(*Facts)
		want  State
		worst Kind
	}{
		{"all well", func(*Facts) {}, Open, ""},
		{"capacity not known", func(f *Facts) { f.Load = 0 }, Open, ""},
		{"just large enough", func(f *Facts) { f.Load = 1 }, Open, ""},
		{"one instance down", func(f *Facts) { f.Healthy = 2 }, Narrow, Healthy},
		{"too small", func(f *Facts) { f.Load = 1.2 }, Narrow, Carries},
		{"readings too old", func(f *Facts) { f.Stale = 20 * time.Second }, Narrow, Healthy},
		{"all down", func(f *Facts) { f.Healthy = 0 }, Closed, Healthy},
		{"no instances", func(f *Facts) { f.Healthy, f.Instances = 0, 0 }, Closed, Healthy},
		{"retired", func(f *Facts) { f.Retired = true }, Closed, Healthy},
		{"front gone", func(f *Facts) { f.FrontRead = false }, Closed, Front},
		{"front blocked", func(f *Facts) { f.Blocked = "other.conf:12: unknown directive" }, Closed, Front},
		{"the worst counts", func(f *Facts) { f.Healthy, f.FrontRead = 2, false }, Closed, Front},
		{"of equals the first", func(f *Facts) { f.Healthy, f.Load = 2, 2 }, Narrow, Healthy},
	} {
		f := good
		c.spoil(&f)
		r := Judge(f)
		if r.State != c.want || r.Worst.Kind != c.worst || len(r.Conditions) != 4 {
			t.Errorf("%s: %s because of %q, want %s because of %q", c.name, r.State, r.Worst.Kind, c.want, c.worst)
		}
	}
	r := Judge(good)
	if got := r.Conditions[3]; got.Kind != Switched || got.Took != 38*time.Millisecond || !got.At.Equal(at) {
		t.Errorf("last switch: %+v", got)
	}
	if got := r.Conditions[0]; got.Healthy != 3 || got.Instances != 3 || got.Side != split.Blue {
		t.Errorf("healthy: %+v", got)
	}
}

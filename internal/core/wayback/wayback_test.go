package wayback

import (
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/split"
)

func TestJudge(t *testing.T) {
	now := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	good := Facts{Side: split.Blue, Healthy: 3, Instances: 3, Load: 0.7, FrontRead: true, Switched: 38 * time.Millisecond, SwitchedAt: now.Add(-12 * time.Second)}
	for _, c := range []struct {
		name  string
		spoil func(*Facts)
		want  State
		why   string
	}{
		{"all well", func(*Facts) {}, Open, ""},
		{"capacity not known", func(f *Facts) { f.Load = 0 }, Open, ""},
		{"one instance down", func(f *Facts) { f.Healthy = 2 }, Narrow, "2 of 3"},
		{"too small", func(f *Facts) { f.Load = 1.2 }, Narrow, "120 %"},
		{"readings too old", func(f *Facts) { f.Stale = 20 * time.Second }, Narrow, "not read for 20s"},
		{"all down", func(f *Facts) { f.Healthy = 0 }, Closed, "0 of 3"},
		{"no instances", func(f *Facts) { f.Healthy, f.Instances = 0, 0 }, Closed, "no instances"},
		{"retired", func(f *Facts) { f.Retired = true }, Closed, "retired"},
		{"front gone", func(f *Facts) { f.FrontRead = false }, Closed, "does not answer"},
		{"the worst counts", func(f *Facts) { f.Healthy, f.FrontRead = 2, false }, Closed, "does not answer"},
	} {
		f := good
		c.spoil(&f)
		r := Judge(f, now)
		if r.State != c.want || !strings.Contains(r.Why, c.why) {
			t.Errorf("%s: %s because %q, want %s because of %q", c.name, r.State, r.Why, c.want, c.why)
		}
	}
	if got := Judge(good, now).Conditions[3].Text; got != "12s ago, 38 ms" {
		t.Errorf("last switch: %q", got)
	}
}

package check

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
)

// A worker has no door: it is looked at from outside, by its process, by what it prints, and by what it tells of
// itself.
func TestOfAWorker(t *testing.T) {
	worker := instance(t, "green-1", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, "bookings_connected 1\nbookings_waiting 40\n")
	})
	worker.Started, worker.Output = time.Now().Add(-time.Minute),
		[]string{"begins", "takes bookings from bookings-green"}
	ended := worker
	ended.Running, ended.Exit, ended.Output = false, "exit status 3", []string{"berth 14 is nil"}
	young := worker
	young.Started = time.Now()
	bound := func(v float64) *float64 { return &v }
	figure := func(name string, least, most *float64) plan.Told {
		return plan.Told{Figure: plan.Figure{Name: name}, Path: "/metrics", Least: least, Most: most}
	}
	for what, c := range map[string]struct {
		of   reading.Instance
		asks plan.Asking
		good bool
		says []string
	}{
		"it runs":                {worker, plan.Runs{}, true, []string{"for 1m"}},
		"it has for long enough": {worker, plan.Runs{For: 30 * time.Second}, true, nil},
		"it has not yet": {young, plan.Runs{For: 30 * time.Second}, false,
			[]string{"it runs, and has for 30s"}},
		"it has ended":   {ended, plan.Runs{}, false, []string{"ended: exit status 3"}},
		"it has printed": {worker, plan.Printed{Text: "takes bookings from bookings-{side}"}, true, nil},
		"it has printed otherwise": {ended, plan.Printed{Text: "takes bookings"}, false,
			[]string{"not among 1 lines, the last: berth 14 is nil"}},
		"a figure": {worker, figure("bookings_connected", bound(1), nil), true,
			[]string{"bookings_connected at least 1"}},
		"a figure that is too high": {worker, figure("bookings_waiting", nil, bound(10)), false,
			[]string{"at most 10", "got 40"}},
		"a figure that is too low": {worker, figure("bookings_waiting", bound(50), nil), false,
			[]string{"at least 50", "got 40"}},
		"no such figure": {worker, figure("bookings_lost", nil, bound(0)), false,
			[]string{"/metrics does not have it"}},
	} {
		of := c.of
		target := on(of)
		target.Look = func(context.Context) (reading.Instance, error) { return of, nil }
		r := read(t, target, c.asks)
		if r.Good != c.good {
			t.Errorf("%s: %s", what, said(r))
		}
		for _, text := range c.says {
			if !strings.Contains(said(r), text) {
				t.Errorf("%s says %q, and not %q", what, said(r), text)
			}
		}
	}
	target := on(worker)
	if r := read(t, target, plan.Runs{}); r.Good {
		t.Error("what is about no instance runs")
	}
	target.Look = func(context.Context) (reading.Instance, error) {
		return worker,
			errors.New("the host does not answer")
	}
	if r := read(t, target, plan.Printed{Text: "begins"}); r.Good || !strings.Contains(said(r), "does not answer") {
		t.Errorf("what cannot be looked at: %s", said(r))
	}
}

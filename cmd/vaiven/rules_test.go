package main

import (
	"slices"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/calendar"
	"vaiven/internal/core/people"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

func TestRulesOf(t *testing.T) {
	if lines := rulesOf(&plan.Plan{}); len(lines) > 0 {
		t.Errorf("a plan that says nothing has %q", lines)
	}
	span, err := calendar.ParseSpan("Mon-Fri 09:00-16:30")
	if err != nil {
		t.Fatal(err)
	}
	p := &plan.Plan{Hours: calendar.Hours{Zone: time.UTC, Spans: []calendar.Span{span}}, Closed: "/srv/closed.ics",
		Embargo: "/srv/embargo", Build: plan.Build{Words: []string{"./make-version"}, Within: 15 * time.Minute},
		Start: plan.Start{When: plan.StartAppears, Every: time.Minute, Far: plan.FarLeg,
			At: calendar.Clock{Zone: time.UTC, At: 150 * time.Minute}},
		People: people.Rules{Socket: "sailings", FourEyes: true, May: map[people.Right][]string{
			people.Begin: {"crew", "deploy"}, people.Approve: {people.Everybody}}}}
	want := []string{
		"hours: legs begin Mon, Tue, Wed, Thu, Fri 09:00-16:30, not on the days of /srv/closed.ics (UTC)",
		"embargo: nothing leaves home as long as there is /srv/embargo",
		"start: a version begins when it appears, looked for every 1m, or somebody says so, at 02:30 (UTC); by itself it " +
			"goes as far as first leg",
		"build: ./make-version makes a version that there is not yet, within 15m",
		"people: the keeper is reached by the group sailings",
		"people: watch everybody; begin crew, deploy; steer nobody; approve everybody; accept nobody; force nobody; " +
			"retire nobody. Everybody may roll back",
		"people: who began a crossing does not say yes in it (four-eyes)",
		"figures: fewer bookings by Prometheus, every 10s; while it is silent the leg is paused, and frozen after 30s; " +
			"it compares with all of the live side, and not with the control group: {instances} would tell them apart",
		"figures: pages by Alertmanager, every 10s; while it is silent the route goes on without",
		"notices: 2 receivers (vaiven notices PLAN lists them); the command that answers a question stands in it",
	}
	p.Route = route.Route{{Part: 1000, Control: true}, {Part: split.Whole}}
	p.Guards = []plan.Guard{{Name: "failing", Watch: plan.Failing}, {Name: "fewer bookings", Watch: plan.Fewer,
		Every: 10 * time.Second, Figure: plan.Figure{From: plan.FromPrometheus,
			Query: plan.Query{Text: "b{s={side}}"}}},
		{Name: "pages", Watch: plan.Alert, Every: 10 * time.Second, Silent: plan.SilentGoOn}}
	to := []plan.Receiver{{Way: plan.ByMail, Address: "marit@linea-vessa.example"}}
	p.Notices.Rules = []plan.Notice{{To: to, After: time.Minute, Also: to}}
	if got := rulesOf(p); !slices.Equal(got, want) {
		t.Errorf("it says\n%s\nnot\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

package planfile

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/plan"
)

// Every key of figures from elsewhere, and of the guards on them, is read.
func TestFiguresFromElsewhere(t *testing.T) {
	p, err := Read("testdata/figures.yaml")
	if err != nil {
		t.Fatal(err)
	}
	dir := strings.TrimSuffix(p.File, "/figures.yaml")
	want := plan.Sources{
		Prometheus: plan.Server{URL: "https://metrics.example:9090", Every: 15 * time.Second, Within: 3 * time.Second,
			Fresh: 2 * time.Minute, Trust: plan.Trust{CA: dir + "/internal.pem", Name: "metrics.internal"}, User: "vaiven",
			Password: "{secret metrics}"},
		Alertmanager: plan.Server{URL: "http://alerts.example:9093", Every: 10 * time.Second, Within: 5 * time.Second,
			Fresh: 90 * time.Second, Token: "{secret alerts}"},
		SQL: plan.Server{URL: "postgres://vaiven:{secret reports}@reports.example/sailings", Every: time.Minute,
			Within: 20 * time.Second, Fresh: 90 * time.Second},
		Command: plan.Server{Every: 30 * time.Second, Within: 10 * time.Second, Fresh: 90 * time.Second},
	}
	if p.Sources != want {
		t.Errorf("the sources are\n%+v, not\n%+v", p.Sources, want)
	}
	asked := func(name string, from plan.From, unit string, q plan.Query) plan.Figure {
		return plan.Figure{Name: name, From: from, Unit: unit, Query: q}
	}
	guards := []plan.Guard{
		{Name: "process_open_fds grows", Watch: plan.Grows, Figure: plan.Figure{Name: "process_open_fds"}, Margin: 2,
			Then: plan.Freeze, Settle: 30 * time.Second, Every: 4 * time.Second},
		{Name: "backlog higher", Watch: plan.Higher, Margin: 20, Then: plan.Freeze, Settle: time.Minute,
			Every: 15 * time.Second, Figure: asked("backlog", plan.FromPrometheus, "mails",
				plan.Query{Text: `sum(backlog{side="{side}"})`})},
		{Name: "seats lower", Watch: plan.Lower, Margin: 5, Then: plan.Freeze, Settle: 30 * time.Second,
			Every: time.Minute, Silent: plan.SilentGoOn, Figure: asked("seats", plan.FromSQL, "",
				plan.Query{Text: "select seats from free where side = '{side}'"})},
		{Name: "fewer bookings", Watch: plan.Fewer, Margin: 0.2, After: 30 * time.Second, Then: plan.RollBack,
			Every: 15 * time.Second, Figure: asked("bookings", plan.FromPrometheus, "",
				plan.Query{Text: `bookings_total{instance=~"{instances}"}`})},
		{Name: "refused", Watch: plan.Rate, Margin: 0.01, Then: plan.Freeze, Settle: 10 * time.Second,
			Every: 15 * time.Second, Figure: asked("refused", plan.FromPrometheus, "",
				plan.Query{Bad: `refused_total{side="{side}"}`, Of: `bookings_total{side="{side}"}`})},
		{Name: "cancelled", Watch: plan.Rate, Margin: 0.005, Then: plan.Freeze, Every: 30 * time.Second,
			Figure: asked("cancelled", plan.FromCommand, "",
				plan.Query{Words: []string{dir + "/cancelled", "{side}", "{version}"}})},
		{Name: "wait", Watch: plan.Bound, Margin: 0.8, Then: plan.RollBack, Settle: 30 * time.Second,
			Every: 15 * time.Second, Figure: asked("wait", plan.FromPrometheus, "s", plan.Query{Text: "max(wait_seconds)"})},
		{Name: "stock", Watch: plan.Bound, Margin: 1, Down: true, Then: plan.Freeze, Settle: 30 * time.Second,
			Every: time.Minute, Figure: asked("stock", plan.FromSQL, "", plan.Query{Text: "select least from stock"})},
		{Name: "pages", Watch: plan.Alert, Then: plan.RollBack, Every: 10 * time.Second, Silent: plan.SilentFreeze,
			Alerts: []plan.Matcher{`severity="page"`, `side=~"{side}|"`}},
	}
	var got []plan.Guard
	for _, g := range p.Guards {
		if g.Watch.Figures() || g.Watch == plan.Alert {
			got = append(got, g)
		}
	}
	if len(got) != len(guards) {
		t.Fatalf("there are %d guards, not %d", len(got), len(guards))
	}
	for n, g := range guards {
		if !reflect.DeepEqual(got[n], g) {
			t.Errorf("the guard is\n%+v, not\n%+v", got[n], g)
		}
	}
}

// What cannot be asked is said where it stands, with what would be right.
func TestFiguresThatCannotBeAsked(t *testing.T) {
	const before = "service: sailings\nversions: folder builds\nstack: {instances: 2, command: ./s, build: b, ports: 18100-18199}\n" +
		"front: {listen: 127.0.0.1:18080}\nsmoke: [{request: /}]\nroute: [100 %]\nsecrets: {known: env KNOWN}\n"
	const there = "figures: {prometheus: 'http://m.example'}\n"
	for text, want := range map[string]string{
		"guards: {fewer: {name: b, query: 'b{side=\"{side}\"}', by: 1 %}}":                       "nobody to ask",
		there + "guards: {fewer: {name: b, query: 'rate(b{side=\"{side}\"}[1m])', by: 1 %}}":     "leave rate() out",
		there + "guards: {fewer: {name: b, query: 'b{side=\"{side}\"', by: 1 %}}":                "no PromQL: at character",
		there + "guards: {higher: {name: b, query: 'b[5m]', by: 1}}":                             "a number of one moment",
		there + "guards: {higher: {name: b, query: 'vector(1)', by: 1}}":                         "asks for no series",
		there + "guards: {higher: {name: b, query: 'sum(b)', by: 1}}":                            "the same of both sides",
		there + "guards: {higher: {query: 'b{s=\"{side}\"}', by: 1}}":                            "has no name",
		there + "guards: {higher: {name: b, query: 'b{s=\"{side}\"}', figure: b, by: 1}}":        "make it two guards",
		there + "guards: {higher: {name: b, by: 1}}":                                             "say one of: figure, query, sql, run",
		there + "guards: {rate: {name: b, bad: 'b{s=\"{side}\"}'}}":                              "a rate is of two counters",
		there + "guards: {bound: {name: b, query: b}}":                                           "at-most: 800",
		there + "guards: {bound: {name: b, query: b, at-most: 1, at-least: 0}}":                  "a guard has one bound",
		there + "guards: {higher: {name: b, query: 'b{s=\"{side}\",i=\"{instance}\"}', by: 1}}":  "one instance's",
		there + "guards: {higher: {name: b, query: 'b{s=\"{side} {secret known}\"}', by: 1}}":    "cannot stand in a query",
		"guards: {alert: {name: b, match: ['severity=\"page\"']}}":                               "alertmanager",
		"figures: {alertmanager: 'http://a.example'}\nguards: {alert: {name: b, match: [page]}}": "matches no alert",
		"figures: {prometheus: {url: 'http://m.example', user: u, password: hunter2}}":           "for all to read",
		"figures: {prometheus: {url: 'http://m.example', token: '{secret unknown}'}}":            "no secret is called",
		"figures: {prometheus: 'http://u:p@m.example'}":                                          "do not belong into an address",
		"figures: {prometheus: 'm.example:9090'}":                                                "no address of a server",
		"figures: {prometheus: {url: 'http://m.example', every: 10ms}}":                          "no rhythm",
	} {
		_, err := Parse("p.yaml", []byte(before+text+"\n"))
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s\nsays %v\nnot %q", text, err, want)
		}
		if err != nil && strings.Contains(err.Error(), "hunter2") {
			t.Errorf("a password is shown: %v", err)
		}
	}
}

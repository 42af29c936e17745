package metrics

import (
	"context"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/keeper"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/source"
	"vaiven/lab/monitortest"
	"vaiven/lab/testkit"
)

// knows is a keeper in the middle of a crossing.
type knows struct {
	snapshot keeper.Snapshot
	front    reading.Front
}

func (k *knows) Now() keeper.Snapshot     { return k.snapshot }
func (k *knows) FrontRead() reading.Front { return k.front }
func (k *knows) Outcomes(context.Context) (map[crossing.Stage]int, error) {
	return map[crossing.Stage]int{crossing.Settled: 11, crossing.RolledBack: 2}, nil
}

func known() *knows {
	h := reading.NewHistogram()
	for range 90 {
		reading.Record(h, 3*time.Millisecond)
	}
	for range 10 {
		reading.Record(h, 400*time.Millisecond)
	}
	latency := reading.Encode(h)
	k := &knows{snapshot: keeper.Snapshot{View: engine.View{
		Crossing: crossing.State{Number: 13, Stage: crossing.Shifting, Proven: true, Target: split.Green,
			Freezes: []crossing.Freezing{{ID: 7}}},
		Front: engine.FrontView{At: time.Now(), Split: reading.Split{Share: 2500}},
		Guards: []guard.Status{{Name: "failing", Watch: plan.Failing, State: guard.Watching,
			Evidence: 1.5, Needed: 2.8},
			{Name: "lost", Watch: plan.Lost, State: guard.Clear}},
		WayBack: wayback.Readiness{State: wayback.Narrow, Conditions: []wayback.Condition{{Is: wayback.Front{Read: true,
			Rehearsal: wayback.Rehearsal{At: time.Now(), Took: 12 * time.Millisecond}}}}},
	}}}
	k.snapshot.Sides[split.Green] = engine.SideView{Healthy: 3, Wanted: 4}
	k.front = reading.Front{At: time.Now(), Tells: reading.Capabilities{Counts: true, Times: true}}
	k.front.Sides[split.Green] = reading.Side{Lost: 5, Instances: []reading.Count{{
		Server: reading.Server{Name: "green-1"}, Status: [6]int64{2: 95, 5: 5}, Latency: latency}}}
	return k
}

// A real Prometheus reads the page, and has what the keeper knows.
func TestPrometheusReadsIt(t *testing.T) {
	page := httptest.NewServer(Handler("sailings", known()))
	t.Cleanup(page.Close)
	server := monitortest.Prometheus(t, []string{strings.TrimPrefix(page.URL, "http://")}, "")
	p := &plan.Plan{Service: "sailings", Sources: plan.Sources{Prometheus: plan.Server{URL: server.URL,
		Within: 5 * time.Second, Fresh: time.Minute}}}
	asks := source.New(p, secret.Values{})
	read := func(query string) float64 {
		t.Helper()
		g := plan.Guard{Name: "it", Watch: plan.Bound, Figure: plan.Figure{Name: "it", From: plan.FromPrometheus,
			Query: plan.Query{Text: query}}}
		r := asks.Read(t.Context(), g, []source.Subject{{Side: split.Green}})
		if len(r.Of) != 1 || r.Of[0].Said != "" {
			return -1
		}
		return r.Of[0].Values["it"]
	}
	testkit.Eventually(t, "it has read the page", func() bool { return read(`vaiven_crossing_number`) == 13 })
	for query, want := range map[string]float64{
		`vaiven_share_ratio{side="green",service="sailings"}`:     0.25,
		`vaiven_stage{stage="` + string(crossing.Shifting) + `"}`: 1,
		`sum(vaiven_stage)`:               1,
		`vaiven_frozen`:                   1,
		`vaiven_standbys`:                 0,
		`vaiven_asks`:                     0,
		`vaiven_proven`:                   1,
		`vaiven_way_back{state="narrow"}`: 1,
		`vaiven_home_seconds`:             0.012,
		`vaiven_guard_state{guard="failing",state="watching"}`:                  1,
		`vaiven_guard_evidence{guard="failing"} / vaiven_guard_evidence_needed`: 1.5 / 2.8,
		`vaiven_crossings_total{outcome="settled"}`:                             11,
		`vaiven_crossings_total{outcome="called off"}`:                          0,
		`vaiven_instances_wanted{side="green"} - vaiven_instances_healthy`:      1,
		`vaiven_front_requests_total{side="green",name="green-1",class="5xx"}`:  5,
		`vaiven_front_lost_requests_total{side="green"}`:                        5,
		`vaiven_front_answer_seconds_bucket{le="0.005"}`:                        90,
		`vaiven_front_answer_seconds_bucket{le="+Inf"}`:                         100,
		`vaiven_front_answer_seconds_count{side="green"}`:                       100,
	} {
		if got := read(query); got-want > 1e-9 || want-got > 1e-9 {
			t.Errorf("%s is %v, not %v", query, got, want)
		}
	}
}

// A keeper that has read nothing yet tells what it knows, and makes nothing up.
func TestNothingReadYet(t *testing.T) {
	w := httptest.NewRecorder()
	Handler("sailings", &knows{}).ServeHTTP(w, httptest.NewRequest("GET", "/metrics", nil))
	page := w.Body.String()
	if w.Code != 200 || strings.Contains(page, "share_ratio") || strings.Contains(page, "front_requests") ||
		strings.Contains(page, "way_back{") || !strings.Contains(page, `vaiven_stage{service="sailings",stage="resting"} 1`) {
		t.Errorf("it tells %d\n%s", w.Code, page)
	}
}

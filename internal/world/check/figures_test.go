package check

import (
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/world/place"
	"vaiven/internal/world/scrape"
	"vaiven/internal/world/secret"
)

const samplePage = `# HELP booked_total Searches that ended in a booking.
# TYPE booked_total counter
booked_total{class="deck",port="Vessa"} 12
booked_total{class="deck",port="Quillon"} 30
booked_total{class="cabin",port="Vessa"} 5
# TYPE process_resident_memory_bytes gauge
process_resident_memory_bytes 4.2e+07
# TYPE took_seconds histogram
took_seconds_bucket{le="0.1"} 3
took_seconds_bucket{le="+Inf"} 9
took_seconds_sum 4
took_seconds_count 9
odd NaN
plain 7
`

func TestFigures(t *testing.T) {
	page, status := samplePage, http.StatusOK
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/metrics" || r.Header.Get("Cache-Control") == "" {
			t.Errorf("asked %s, %v", r.URL, r.Header)
		}
		w.WriteHeader(status)
		fmt.Fprint(w, page)
	}))
	t.Cleanup(s.Close)
	target := Target{From: place.Local{}, Values: map[string]string{"address": strings.TrimPrefix(s.URL, "http://")},
		Secrets: secret.Values{}}
	deck := plan.Figure{Name: "booked_total", Labels: map[string]string{"class": "deck"}}
	wanted := []plan.Figure{deck, {Name: "booked_total"}, {Name: "process_resident_memory_bytes"},
		{Name: "took_seconds"}, {Name: "plain"}, {Name: "odd"}, {Name: "not_there"}}
	ask := func() (map[string]float64, error) {
		return target.Figures(t.Context(), plan.Page{Path: "/metrics"}, wanted, 5*time.Second)
	}
	values, err := ask()
	want := map[string]float64{`booked_total{class="deck"}`: 42, "booked_total": 47,
		"process_resident_memory_bytes": 42e6, "took_seconds": 9, "plain": 7}
	if err != nil || fmt.Sprint(values) != fmt.Sprint(want) {
		t.Errorf("it tells %v, %v; want %v", values, err, want)
	}
	for _, c := range []struct {
		page   string
		status int
		want   string
	}{
		{"", http.StatusServiceUnavailable, "status 503 at /metrics"},
		{"booked_total 12\n<html>sorry\n", http.StatusOK, "is no page of figures: line 2"},
		{strings.Repeat("# much\n", scrape.Limit/7+10), http.StatusOK, "more than 8 MiB"},
	} {
		if page, status = c.page, c.status; true {
			if values, err := ask(); err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%.20q: %v, %v; want %q", c.page, values, err, c.want)
			}
		}
	}
	s.Close()
	if _, err := ask(); place.CauseOf(err) != place.Refused && !errors.Is(err, http.ErrServerClosed) {
		t.Errorf("nobody listens: %v", err)
	}
}

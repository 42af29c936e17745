package report

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/trial"
	"vaiven/internal/plan/tryout"
)

func TestChartsOfASplit(t *testing.T) {
	r := tryout.Report{Log: "/var/log/access.log", Keys: []tryout.KeyReport{
		{Key: "client", Result: trial.Result{Window: 1e9,
			Shares: []trial.ShareResult{{Share: 2500, Windows: []float64{0.2, -1, 0.3, 0.25}}}}},
		{Key: "clock", Result: trial.Result{Window: 1e9,
			Shares: []trial.ShareResult{{Share: 2500, Windows: []float64{0, 1, 0, 1}}}}},
	}}
	dir := t.TempDir()
	svg := filepath.Join(dir, "split.svg")
	if err := Split(svg, r, 2500); err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(svg)
	if err != nil {
		t.Fatal(err)
	}
	for d := xml.NewDecoder(bytes.NewReader(data)); ; {
		if _, err := d.Token(); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatalf("the chart is no XML: %v", err)
		}
	}
	for _, want := range []string{"access.log", "25 % asked", "client", "clock"} {
		if !strings.Contains(string(data), want) {
			t.Errorf("%q is not in the chart", want)
		}
	}
	pdf := filepath.Join(dir, "split.pdf")
	if err := Split(pdf, r, 2500); err != nil {
		t.Fatal(err)
	}
	if data, err := os.ReadFile(pdf); err != nil || !bytes.HasPrefix(data, []byte("%PDF-")) {
		t.Errorf("the PDF begins with %.8q, %v", data, err)
	}
	if err := Split(filepath.Join(dir, "split.png"), r, 2500); err == nil {
		t.Error("a chart in another format")
	}
	if err := Split(svg, r, split.Whole); err == nil {
		t.Error("a chart of a share that was not tried")
	}
}

// A route and a guard's evidence are drawn as well, and say what they are of.
func TestChartsOfARouteAndOfEvidence(t *testing.T) {
	dir := t.TempDir()
	w := forecast.Question{Traffic: forecast.Traffic{Rate: 340, Failing: 0.001},
		Guarding: forecast.Guarding{Margin: 0.005, Level: 0.0024, Blocks: 4200},
		Keep:     10 * time.Minute}.Weigh(route.Route{{Part: 500, Dwell: 2 * time.Minute}, {Part: split.Whole}})
	grows := guard.Story{Guard: "memory grows", Watch: plan.Grows, Figure: "process_resident_memory_bytes",
		Margin: 10e6}
	story := guard.Story{Guard: "failing", Watch: plan.Failing, Unit: guard.Requests, Margin: 0.005}
	for n := range 100 {
		story.Points = append(story.Points,
			guard.Point{At: time.Date(2026, 11, 23, 21, 0, 5*n, 0, time.UTC),
				Live: evidence.Count{Bad: int64(n % 2), Of: 90}, Trial: evidence.Count{Bad: int64(n / 60), Of: 10},
				Evidence: float64(n-60) / 10, Needed: 2.5})
	}
	for n := range 30 {
		m := guard.Point{At: time.Date(2026, 11, 23, 21, 0, 5*n, 0, time.UTC), Evidence: float64(n-20) / 4, Needed: 2.8,
			Difference: 31e6}
		if n > 5 {
			m.Range = evidence.Interval{Low: 31e6 - 2e8/float64(n), High: 31e6 + 2e8/float64(n)}
		}
		grows.Points = append(grows.Points, m)
	}
	for _, ending := range []string{".svg", ".pdf"} {
		a, b, c := filepath.Join(dir, "route"+ending), filepath.Join(dir, "evidence"+ending),
			filepath.Join(dir, "grows"+ending)
		if err := errors.Join(Route(a, "sailings", w), Evidence(b, "sailings", story),
			Evidence(c, "sailings", grows)); err != nil {
			t.Fatal(err)
		}
		for file, wants := range map[string][]string{a: {"sailings: the route", "5 % for 2m", "all at once", "0.5 %"},
			b: {"sailings: failing since 2026-11-23 21:00:00, in requests", "where the guard trips", "live side"},
			c: {"sailings: memory grows since 2026-11-23 21:00:00, process_resident_memory_bytes",
				"what the plan allows", "more a minute, MB"}} {
			data, err := os.ReadFile(file)
			if err != nil || len(data) < 2000 {
				t.Errorf("%s has %d bytes: %v", file, len(data), err)
			}
			for _, want := range wants {
				if ending == ".svg" && !strings.Contains(string(data), want) {
					t.Errorf("%s does not say %q", file, want)
				}
			}
		}
	}
	if Route(filepath.Join(dir, "route.png"), "sailings", w) == nil ||
		Evidence(filepath.Join(dir, "e.txt"), "sailings", story) == nil ||
		Evidence(filepath.Join(dir, "e.svg"), "sailings", guard.Story{}) == nil ||
		Route(filepath.Join(dir, "none", "r.svg"), "sailings", w) == nil {
		t.Error("what cannot be drawn is")
	}
}

package report

import (
	"bytes"
	"cmp"
	"encoding/xml"
	"errors"
	"html"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/past"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
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
	dir := cmp.Or(os.Getenv("CHARTS"), t.TempDir())
	by := forecast.Question{Target: split.Green, Traffic: forecast.Traffic{Rate: 340, Failing: 0.001},
		Guarding: forecast.Guarding{Margin: 0.005, Level: 0.0024, Blocks: 4200},
		Keep:     10 * time.Minute}
	w := by.Weigh(route.Route{{Part: 500, Dwell: 2 * time.Minute}, {Part: 2500, Dwell: 5 * time.Minute, Ask: true},
		{Part: split.Whole}})
	grows := guard.Story{Guard: "memory grows", Watch: plan.Grows, Figure: "process_resident_memory_bytes",
		Margin: 10e6}
	story := guard.Story{Guard: "failing", Watch: plan.Failing, Unit: guard.Requests, Margin: 0.005}
	for n := range 100 {
		story.Points = append(story.Points,
			guard.Point{At: time.Date(2026, 11, 23, 21, 0, 5*n, 0, time.UTC),
				Live: evidence.Count{Bad: int64(n % 2), Of: 90}, Trial: evidence.Count{Bad: int64(n / 60), Of: 10},
				Evidence: float64(n-60) / 10, Needed: 2.5,
				Difference: max(0, float64(n-60)/500),
				Range: evidence.Interval{Low: max(0, float64(n-60)/500) - 0.02, High: max(0,
					float64(n-60)/500) + 0.02}})
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
		if err := errors.Join(Route(a, "sailings", by, w), Evidence(b, "sailings", split.Green, story),
			Evidence(c, "sailings", split.Green, grows)); err != nil {
			t.Fatal(err)
		}
		for file, wants := range map[string][]string{a: {"sailings: the route", "for 2m", "everything at once",
			"a fault of 5 %"},
			b: {"sailings: failing since 2026-11-23 21:00:", "than the plan allows", "the guard trips at 316:1",
				"blue"},
			c: {"sailings: memory grows since 2026-11-23 21:00:",
				"than the plan allows", "MB"}} {
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
	if Route(filepath.Join(dir, "route.png"), "sailings", by, w) == nil ||
		Evidence(filepath.Join(dir, "e.txt"), "sailings", split.Green, story) == nil ||
		Evidence(filepath.Join(dir, "e.svg"), "sailings", split.Green, guard.Story{}) == nil ||
		Route(filepath.Join(dir, "none", "r.svg"), "sailings", by, w) == nil {
		t.Error("what cannot be drawn is")
	}
}

// A record says in each form what a person has to know who was not there, and carries the digest of its events.
func TestRecord(t *testing.T) {
	at := time.Date(2026, 11, 28, 21, 0, 0, 0, time.UTC)
	var events []crossing.Event
	add := func(after time.Duration, by string, what crossing.Fact) {
		at = at.Add(after)
		events = append(events, crossing.Event{Seq: uint64(len(events) + 1), Crossing: 3, At: at, By: by, What: what})
	}
	alarm := crossing.Because(crossing.ByGuard{Alarm: crossing.Alarm{Guard: "failing", Watch: plan.Failing, Level: 0.2,
		Sure: 0.9999, Side: split.Green}})
	found := proof.Finding{Part: "web", Check: "sailings", Instance: "green-1", What: "404", Want: "200", Got: "404"}
	add(0, "marit", crossing.Begun{Service: "sailings", Number: 3, Target: split.Green, LiveVersion: "4.2.0",
		Choices: []raise.Choice{{Part: "web", Version: "4.3.0", Build: "sha256:3a7b"}}, Keep: time.Hour,
		Route: route.Route{{Part: 500, Dwell: time.Minute}, {Part: 5000, Dwell: time.Minute}, {Part: split.Whole}}})
	add(0, "vaiven", crossing.Ordered{Task: crossing.Task{Do: crossing.TaskRaise, Side: split.Green}})
	add(30*time.Second, "vaiven", crossing.Raised{Task: uint64(len(events))})
	add(10*time.Second, "vaiven", crossing.Proved{Proof: proof.Proof{Results: []proof.Result{{Pass: true},
		{Part: "web", Check: "sailings", Instance: "green-1", Want: "200", Got: "404", Ask: true}}}})
	add(20*time.Second, "ines", crossing.Answered{Question: crossing.Question{ID: 4}})
	add(0, "ines", crossing.Accepted{Findings: []proof.Finding{found}})
	for leg, share := range []split.Share{500, 5000} {
		add(time.Minute, "vaiven", crossing.Ordered{Task: crossing.Task{Do: crossing.TaskMove, Share: share, Leg: leg}})
		add(3*time.Second, "vaiven", crossing.TookEffect{Task: uint64(len(events)), Share: share, Nearest: share})
	}
	add(20*time.Second, "vaiven", crossing.RollsBack{Cause: alarm})
	add(0, "vaiven", crossing.Ordered{Task: crossing.Task{Do: crossing.TaskHome, Side: split.Blue}})
	add(2*time.Second, "vaiven", crossing.Returned{Task: uint64(len(events))})
	add(0, "vaiven", crossing.Ended{Stage: crossing.RolledBack, Cause: alarm, Counted: crossing.Counted{Requests: 1240,
		Failed: 248, All: 9000, AllFailed: 249, Asked: 4000, Lost: 2, LongestGap: 300 * time.Millisecond}})
	var points []engine.Point
	for from := events[0].At.Add(-time.Hour); from.Before(at); from = from.Add(time.Second) {
		p := engine.Point{At: from, All: 40, Green: 2}
		if from.Sub(events[0].At) > 190*time.Second {
			p.Green, p.Failing = 18+int64(from.Second()%5), 4
		}
		points = append(points, p)
	}
	quay := time.FixedZone("CET", 3600)
	r := Record{Events: events, Points: points, Made: at.Add(time.Hour), In: quay, Why: "failing: 20 %",
		Odd:    []past.Odd{{Step: "raise", Times: 3}},
		Guards: []past.Strong{{At: at, Status: guard.Status{Name: "failing", State: guard.Tripped}}},
		Digest: past.Digest{Crossing: 3, UpTo: 14, Events: 14, SHA256: strings.Repeat("3a7b", 16)}}
	r.Crossing, _ = past.Of(events, nil, at)
	r.Crossing.Notices = []past.Notice{{At: at, Letter: crossing.Letter{To: "harbour@lineavessa.example",
		About: "question"}}}
	dir := cmp.Or(os.Getenv("CHARTS"), t.TempDir())
	for _, form := range RecordForms {
		file := filepath.Join(dir, "record"+form)
		if err := r.Write(file); err != nil {
			t.Fatal(err)
		}
		data, err := os.ReadFile(file)
		if err != nil || len(data) < 2000 {
			t.Fatalf("%s has %d bytes: %v", file, len(data), err)
		}
		if d, err := past.DigestIn(data); err != nil || d != r.Digest {
			t.Errorf("%s: its digest is %+v, %v", form, d, err)
		}
		if form == ".pdf" || form == ".json" {
			continue
		}
		for _, want := range []string{"sailings: crossing 3, 4.2.0 → 4.3.0: rolled back", "failing: 20 %", "marit",
			"ines",
			"1 240", "248", "2 lost", "raised 3 times as long", "22:00:00 CET (21:00:00 UTC)", "harbour@lineavessa"} {
			if text := html.UnescapeString(string(data)); !strings.Contains(text, want) {
				t.Errorf("%s does not say %q", form, want)
			}
		}
		if strings.Contains(string(data), "<script") {
			t.Errorf("%s has a script", form)
		}
	}
	if r.Write(filepath.Join(dir, "r.png")) == nil || r.Write(filepath.Join(dir, "none", "r.svg")) == nil ||
		(Record{Events: events[1:], In: quay}).Write(filepath.Join(dir, "r.svg")) == nil {
		t.Error("what cannot be written is")
	}
}

// However much there is to say, it is one page, and what is left out is said.
func TestALongRecord(t *testing.T) {
	at := time.Date(2026, 11, 28, 21, 0, 0, 0, time.UTC)
	events := []crossing.Event{{Seq: 1, Crossing: 3, At: at, What: crossing.Begun{Service: "sailings", Number: 3,
		Choices: []raise.Choice{{Version: strings.Repeat("4.3.0-long", 20)}}}}}
	for n := range 300 {
		events = append(events, crossing.Event{Seq: uint64(n + 2), Crossing: 3,
			At: at.Add(time.Duration(n) * time.Second),
			By: "marit", What: crossing.Answered{Question: crossing.Question{ID: 4}}, Said: strings.Repeat("<&\" |",
				30)})
	}
	r := Record{Events: events, In: time.UTC, Made: at}
	r.Crossing, _ = past.Of(events, nil, at)
	dir := cmp.Or(os.Getenv("CHARTS"), t.TempDir())
	for _, form := range RecordForms {
		if err := r.Write(filepath.Join(dir, "long"+form)); err != nil {
			t.Fatal(err)
		}
	}
	data, err := os.ReadFile(filepath.Join(dir, "long.svg"))
	if err != nil || !strings.Contains(string(data), "more: the record as .html or .md has them") {
		t.Errorf("it does not say what is left out: %v", err)
	}
}

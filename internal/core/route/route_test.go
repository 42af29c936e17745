package route

import (
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/split"
)

func TestCheckNamesTheWrongLeg(t *testing.T) {
	for _, c := range []struct {
		name  string
		route Route
		leg   int
		want  string
	}{
		{"empty", nil, 0, "at least one leg"},
		{"does not end at 100 %", Route{{Part: 500}, {Part: 5000}}, 1, "end at 100 %"},
		{"goes back", Route{{Part: 500}, {Part: 400}, {Part: split.Whole}}, 1, "does not go further"},
		{"stands still", Route{{Part: 500}, {Part: 500}, {Part: split.Whole}}, 1, "does not go further"},
		{"starts at nothing", Route{{Part: 0}, {Part: split.Whole}}, 0, "does not go further"},
		{"too much", Route{{Part: 10_001}}, 0, "not between"},
		{"control beyond half", Route{{Part: 6000, Control: true}, {Part: split.Whole}}, 0, "more than all"},
		{"control later", Route{{Part: 500}, {Part: 1000, Control: true}, {Part: split.Whole}}, 1, "from the first leg"},
		{"dwells backwards", Route{{Part: 500, Dwell: -1}, {Part: split.Whole}}, 0, "dwell"},
	} {
		leg, err := c.route.Check()
		if err == nil || leg != c.leg || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: leg %d, %v, want leg %d, %q", c.name, leg, err, c.leg, c.want)
		}
	}
	if _, err := (Route{{Part: 500}, {Part: split.Whole}}).Check(); err != nil {
		t.Errorf("a good route: %v", err)
	}
}

func TestForecastAddsUp(t *testing.T) {
	r := Route{{Part: 500, Dwell: 2 * time.Minute}, {Part: 5000, Dwell: time.Minute, Ask: true}, {Part: split.Whole}}
	f := r.Forecast(30*time.Minute, 0)
	if last := (Route{{Part: split.Whole, Dwell: time.Hour}}).Forecast(time.Minute, 0); last.Total != time.Minute {
		t.Errorf("the dwell of the last leg counts: %v", last.Total)
	}
	if f.Total != 33*time.Minute || f.Asks != 1 {
		t.Errorf("total %v, asks %d, want 33m, 1", f.Total, f.Asks)
	}
	for i, want := range []time.Duration{0, 2 * time.Minute, 3 * time.Minute} {
		if f.Stops[i].Begins != want {
			t.Errorf("leg %d begins at %v, want %v", i+1, f.Stops[i].Begins, want)
		}
	}
	f = r.Forecast(30*time.Minute, 5*time.Second) // three changes
	if f.Total != 33*time.Minute+15*time.Second || f.Stops[2].Begins != 3*time.Minute+10*time.Second {
		t.Errorf("where changes are remembered: %+v", f)
	}
}

func TestReached(t *testing.T) {
	r := Route{{Part: 500}, {Part: 5000}, {Part: split.Whole}}
	for part, want := range map[split.Share]int{0: -1, 499: -1, 500: 0, 4000: 0, 5000: 1, split.Whole: 2} {
		if got := r.Reached(part); got != want {
			t.Errorf("Reached(%v) = %d, want %d", part, got, want)
		}
	}
}

func TestALegInWords(t *testing.T) {
	for want, l := range map[string]Leg{"5 % for 2m": {Part: 500, Dwell: 2 * time.Minute},
		"ask, 50 %": {Part: 5000, Ask: true}, "100 %": {Part: split.Whole},
		"5 % until sure, at most 20m": {Part: 500, Sure: true, Dwell: 20 * time.Minute},
		"5 % until sure, at least 2m, at most 20m": {Part: 500, Sure: true, Least: 2 * time.Minute,
			Dwell: 20 * time.Minute}} {
		if l.String() != want {
			t.Errorf("it is %q, not %q", l, want)
		}
	}
}

func TestShort(t *testing.T) {
	for d, want := range map[time.Duration]string{
		300 * time.Millisecond: "300ms", 1500 * time.Millisecond: "1.5s", time.Second: "1s", time.Minute: "1m",
		1240 * time.Millisecond: "1.2s", 61*time.Second + 400*time.Millisecond: "1m1s",
		61*time.Minute + 20*time.Second: "1h1m", 45 * time.Second: "45s", 2 * time.Minute: "2m",
		90 * time.Second: "1m30s", time.Hour: "1h", 90 * time.Minute: "1h30m", 26 * time.Hour: "26h",
	} {
		if got := Short(d); got != want {
			t.Errorf("Short(%v) = %q, want %q", d, got, want)
		}
	}
}

// A leg until sure lasts no longer at least than at most, and what is short is told in milliseconds.
func TestBoundsOfALeg(t *testing.T) {
	for least, wrong := range map[time.Duration]bool{0: false, time.Minute: false, time.Minute + 1: true} {
		r := Route{{Part: 500, Dwell: time.Minute, Sure: true, Least: least}, {Part: split.Whole}}
		if leg, err := r.Check(); (err != nil) != wrong || leg != 0 && wrong {
			t.Errorf("at least %v, at most a minute: leg %d, %v", least, leg, err)
		}
	}
	for d, want := range map[time.Duration]string{999_900 * time.Microsecond: "1s", 12345 * time.Microsecond: "12ms",
		time.Second: "1s", 1040 * time.Millisecond: "1s", 60 * time.Second: "1m"} {
		if got := Short(d); got != want {
			t.Errorf("%v is told as %q, not %q", d, got, want)
		}
	}
}

package splitkeys

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/engine"
	"vaiven/internal/core/split"
	"vaiven/internal/core/trial"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/people/tui/theme"
	"vaiven/internal/plan/tryout"
	"vaiven/lab/testkit"
	"vaiven/lab/tuitest"
)

func sample() tryout.Report {
	var steady, bursts []float64
	for n := range 200 {
		steady = append(steady, 0.23+0.04*float64(n%2))
		bursts = append(bursts, float64(n/3%2))
	}
	report := tryout.Report{Log: "access.log", Lines: 412_345}
	for n, name := range []string{"random", "client", "cookie passenger", "clock"} {
		k := tryout.KeyReport{Key: name,
			Result: trial.Result{Requests: 412_345, Clients: 8_123, Span: 2 * time.Hour, Window: 32 * time.Second}}
		if n == 2 {
			k.Missing, k.Error = 1_200, 32
		}
		for _, share := range []split.Share{500, 2500, 5000} {
			s := trial.ShareResult{Share: share, Achieved: share.Fraction() + 0.001, Spread: 0.02, Chance: 0.02,
				Change: 1_600, Even: 3 * time.Minute, Windows: steady}
			if n == 0 {
				s.Split = 7_800
			}
			if n == 3 {
				s.Windows, s.Bursts, s.Spread, s.Even, s.Achieved = bursts, time.Second, 0.5, -1, share.Fraction()+0.05
			}
			k.Shares = append(k.Shares, s)
		}
		report.Keys = append(report.Keys, k)
	}
	return report
}

func TestScreens(t *testing.T) {
	m := Model{}.Take(tried{sample(), "client", nil})
	for _, s := range [][2]int{{142, 38}, {80, 24}, {40, 10}} {
		f := frame.Frame{Theme: theme.New(true), W: s[0], H: s[1],
			S: keeper.Snapshot{View: engine.View{Service: "sailings"}}}
		testkit.Golden(t, fmt.Sprintf("keys-%dx%d.txt", s[0], s[1]), tuitest.Draw(t, m, f)+"\n")
	}
}

func TestWhatThereIsNot(t *testing.T) {
	f := frame.Frame{Theme: theme.New(true), W: 100, H: 20}
	reading := func(p frame.Page) frame.Page {
		p, _ = p.Press(f, "k")
		return p
	}
	for want, m := range map[string]frame.Page{
		"nothing read yet": Model{}, "reading the log": reading(Model{}),
		"no such file": Model{}.Take(tried{err: errors.New("open: no such file")}),
		"again":        reading(Model{}.Take(tried{report: sample()})),
	} {
		if v := tuitest.Draw(t, m, f); !strings.Contains(v, want) {
			t.Errorf("%q is missing in\n%s", want, v)
		}
	}
}

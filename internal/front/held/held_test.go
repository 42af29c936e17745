package held

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
)

// fake is a front in memory, that breaks one promise.
type fake struct {
	share      split.Share
	revision   uint64
	generation uint64
	instances  [2][]reading.Count
	breaks     string
	whole      bool // it moves all requests at once
}

func newFake(breaks string) *fake {
	f := &fake{breaks: breaks, revision: 1}
	for _, side := range split.Sides {
		f.instances[side] = []reading.Count{{Server: reading.Server{Name: side.String() + "-1",
			Address: side.String() + ":80"}}}
	}
	return f
}

func (f *fake) split() reading.Split { return reading.Split{Share: f.share, Revision: f.revision} }

func (f *fake) Read(context.Context) (reading.Front, error) {
	if f.breaks == "reads the same twice" {
		f.revision++
	}
	r := reading.Front{At: time.Now(), Split: f.split(), Order: reading.Order{Generation: f.generation}}
	for _, side := range split.Sides {
		r.Sides[side].Instances = f.instances[side]
	}
	return r, nil
}

func (f *fake) Foresee(_ context.Context, share split.Share) (front.Change, error) {
	if f.breaks == "foresees and does nothing" {
		f.share = share
	}
	return front.Change{From: 0, Reached: share}, nil
}

func (f *fake) Set(_ context.Context, share split.Share, e front.Expect) (front.Done, error) {
	switch {
	case e.Generation < f.generation && f.breaks != "stays at home":
		return front.Done{}, front.ErrNewer
	case e.Revision != f.revision && f.breaks != "refuses an old revision":
		return front.Done{}, front.ErrChanged
	}
	if _, all := share.Alone(); f.whole && !all {
		return front.Done{}, front.ErrRefused
	}
	if f.share = share; f.breaks == "does the share that it says" {
		f.share = share / 2
	}
	f.revision++
	return front.Done{Split: reading.Split{Share: share, Revision: f.revision}, Nearest: share}, nil
}

func (f *fake) Home(_ context.Context, h front.Homing) (front.Done, error) {
	if f.breaks == "goes home from another process" && h.Why == "a try" {
		return front.Done{}, errors.New("only the one that set it")
	}
	f.share = split.Toward(h.Side, split.Whole)
	f.generation++
	f.revision++
	return front.Done{Split: f.split()}, nil
}

func (f *fake) Rehearse(context.Context, split.Side) ([]wayback.Step, error) {
	if f.breaks == "rehearses going home" {
		f.generation++
	}
	return nil, nil
}

func (f *fake) NewTerm(context.Context, uint64) (uint64, error) { return 0, nil }

func (f *fake) SetInstances(_ context.Context, side split.Side, list []reading.Server) error {
	if f.breaks == "keeps the share when its instances are told again" {
		f.share = 100
	}
	return nil
}

// A front that keeps its promises is told so, and of one that breaks one it is said which.
func TestEachBrokenPromiseIsFound(t *testing.T) {
	nobodyLost := func(context.Context) (int64, string) { return 0, "" }
	for n := -1; n < len(rules); n++ {
		breaks := ""
		if n >= 0 {
			breaks = rules[n].name
		}
		f := newFake(breaks)
		results, err := Try(t.Context(), func() front.Driver { return f }, nobodyLost, false)
		if err != nil {
			t.Errorf("%q: %v", breaks, err)
		}
		if len(results) != len(rules) {
			t.Errorf("%q: %d rules were tried", breaks, len(results))
		}
		found := false
		for _, r := range results {
			found = found || r.Rule == breaks && r.Err != nil
			if breaks == "" && r.Err != nil {
				t.Errorf("a good front: %s: %v", r.Rule, r.Err)
			}
		}
		if breaks != "" && !found {
			t.Errorf("nothing is said of a front that breaks this: %s", breaks)
		}
		if f.share != 0 {
			t.Errorf("%q: in the end %v are on green", breaks, f.share)
		}
	}
}

// Requests that are lost on the way are a promise broken, whatever the front says; and it is not tried where it could
// harm.
func TestWhatIsLostIsSaid(t *testing.T) {
	f := newFake("")
	results, err := Try(t.Context(), func() front.Driver { return f },
		func(context.Context) (int64, string) { return 3, "502" }, false)
	if err != nil || results[0].Err == nil || !strings.Contains(results[0].Err.Error(), "3 requests") {
		t.Errorf("%+v, %v", results, err)
	}
	for what, change := range map[string]func(*fake){"on green": func(f *fake) { f.share = 100 },
		"green": func(f *fake) { f.instances[split.Green] = nil }} {
		f := newFake("")
		change(f)
		if results, err := Try(t.Context(), func() front.Driver { return f }, nil, false); !errors.Is(err, ErrNotNow) ||
			!strings.Contains(fmt.Sprint(err), what) || results != nil {
			t.Errorf("%s: %v, %v", what, results, err)
		}
	}
}

// Where requests move all at once nothing is moved, and what cannot be known so is not said to hold.
func TestNothingIsMovedWhereAllMoveAtOnce(t *testing.T) {
	f := newFake("")
	f.whole = true
	results, err := Try(t.Context(), func() front.Driver { return f },
		func(context.Context) (int64, string) { return 0, "" }, true)
	untried := 0
	for _, r := range results {
		if r.Untried {
			untried++
		}
		if r.Err != nil {
			t.Errorf("%s: %v", r.Rule, r.Err)
		}
	}
	if err != nil || untried != 2 || len(results) != len(rules) {
		t.Errorf("%+v, %v", results, err)
	}
}

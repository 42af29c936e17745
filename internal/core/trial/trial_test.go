package trial

import (
	"fmt"
	"math"
	"testing"
	"time"

	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

var start = time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)

// stream makes requests of clients over a time; place says where each falls.
func stream(t *testing.T, n int, span time.Duration, clients int,
	place func(n, client int, at time.Time) split.Place) Result {
	t.Helper()
	r := testkit.Rand(t)
	trial := New([]split.Share{500, 2500, 5000})
	for k := range n {
		at := start.Add(span * time.Duration(k) / time.Duration(n))
		client := r.IntN(clients)
		trial.Add(at, place(k, client, at), uint64(client))
	}
	return trial.Result()
}

func TestARandomKeySplitsEverybody(t *testing.T) {
	rnd := testkit.Rand(t)
	r := stream(t, 60_000, 10*time.Minute, 500,
		func(int, int, time.Time) split.Place { return split.Place(rnd.Uint64()) })
	if r.Requests != 60_000 || r.Clients != 500 || r.Error != 0 || len(r.Shares) != 3 {
		t.Fatalf("%+v", r)
	}
	// 100 requests a second: after 300 seconds a half is off by less than evenWithin but once in a thousand million.
	for _, s := range r.Shares {
		if math.Abs(s.Achieved-s.Share.Fraction()) > 0.0125 || s.Bursts > 0 || s.Even < 0 || s.Even > 5*time.Minute ||
			s.Spread > 1.5*s.Chance {
			t.Errorf("%v: %+v", s.Share, s)
		}
		if s.Share > 500 && s.Split < 495 {
			t.Errorf("%v: %d of 500 clients are split", s.Share, s.Split)
		}
	}
}

func TestAClientsKeySplitsNobody(t *testing.T) {
	of := func(_, client int, _ time.Time) split.Place {
		return split.PlaceOf(fmt.Sprintf("passenger %d", client))
	}
	r := stream(t, 60_000, 10*time.Minute, 2000, of)
	on := map[split.Share]int64{}
	for _, s := range []split.Share{500, 2500, 5000, split.Whole} {
		for c := range 2000 {
			if of(0, c, start).Side(s) == split.Green {
				on[s]++
			}
		}
	}
	next := map[split.Share]split.Share{500: 2500, 2500: 5000, 5000: split.Whole}
	for _, s := range r.Shares {
		if s.Split != 0 || s.Change != on[next[s.Share]]-on[s.Share] {
			t.Errorf("%v: %d split, %d change, want 0 and %d", s.Share, s.Split, s.Change,
				on[next[s.Share]]-on[s.Share])
		}
		if s.Bursts > 0 {
			t.Errorf("%v comes in bursts: %+v", s.Share, s)
		}
	}
}

// A clock as key sends everything of a while to one side.
func TestAClockComesInBursts(t *testing.T) {
	r := stream(t, 60_000, 4*time.Minute, 500, func(_, _ int, at time.Time) split.Place {
		return split.PlaceOf(at.Truncate(10 * time.Second).String())
	})
	for _, s := range r.Shares[1:] {
		if s.Bursts != time.Second {
			t.Errorf("%v: %+v", s.Share, s)
		}
	}
}

// Bursts that are much shorter than the windows of a long log show all the same.
func TestShortBurstsShowInALongLog(t *testing.T) {
	r := stream(t, 400_000, 3*time.Hour, 500, func(_, _ int, at time.Time) split.Place {
		return split.PlaceOf(at.Truncate(time.Second).String())
	})
	for _, s := range r.Shares {
		if s.Bursts != time.Second || r.Window < 10*time.Second {
			t.Errorf("%v: bursts of %v, windows of %v", s.Share, s.Bursts, r.Window)
		}
	}
}

// Of very many clients a sample is kept, whose error is the one said.
func TestManyClientsAreSampled(t *testing.T) {
	const clients = 1_000_000
	trial := New([]split.Share{2500})
	for n := range clients {
		trial.Add(start.Add(time.Duration(n)*time.Millisecond), split.PlaceOf(fmt.Sprint(n)), uint64(n))
	}
	r := trial.Result()
	if len(trial.clients) > mostClients || len(trial.windows) > mostWindows || r.Error == 0 || r.Error > 0.01*clients {
		t.Fatalf("%d clients and %d windows are kept, error %v", len(trial.clients), len(trial.windows), r.Error)
	}
	if off := math.Abs(float64(r.Clients) - clients); off > 5*r.Error {
		t.Errorf("%d clients of %d, off by %.0f, said %.0f", r.Clients, clients, off, r.Error)
	}
	if s := r.Shares[0]; math.Abs(float64(s.Change)-0.75*clients) > 5*s.ChangeError || s.ChangeError >= r.Error ||
		s.Split != 0 || s.SplitError < 1 {
		t.Errorf("%d change of %d: %+v", s.Change, clients*3/4, s)
	}
	if r.Window < 4*time.Second || r.Span < 1000*time.Second {
		t.Errorf("windows of %v over %v", r.Window, r.Span)
	}
}

func TestNothingAndDisorder(t *testing.T) {
	trial := New([]split.Share{2500})
	if r := trial.Result(); r.Requests != 0 || r.Shares[0].Even >= 0 {
		t.Errorf("of nothing: %+v", r)
	}
	trial.Add(start, 0, 1)
	trial.Add(start.Add(-time.Minute), 0, 1)
	if r := trial.Result(); r.Requests != 2 || r.Shares[0].Achieved != 1 || r.Clients != 1 {
		t.Errorf("out of order: %+v", r)
	}
}

// The error said of a number is that of this number, however few it is about.
func TestTheErrorIsThatOfTheNumber(t *testing.T) {
	within := 0
	for seed := range 20 {
		trial := New([]split.Share{5000})
		split1 := int64(0)
		for n := range 90_000 {
			client := uint64(split.PlaceOf(fmt.Sprint(seed, n)))
			trial.Add(start, 0, client)
			if n%100 == 0 {
				trial.Add(start, split.Place(math.MaxUint64), client)
				split1++
			}
		}
		if s := trial.Result().Shares[0]; math.Abs(float64(s.Split-split1)) <= s.SplitError {
			within++
		}
	}
	if within < 6 || within > 19 { // two thirds of 20, more or less
		t.Errorf("within the error that is said in %d of 20", within)
	}
}

// One line with a wrong clock makes nothing of hours; a gap of a night is one.
func TestALineFromTheFuture(t *testing.T) {
	trial := New([]split.Share{5000})
	trial.Add(start.AddDate(10, 0, 0), 0, 1)
	for n := range 600 {
		trial.Add(start.Add(time.Duration(n)*time.Second/10), 0, uint64(n))
		if n == 300 {
			trial.Add(start.AddDate(3, 0, 0), 0, 1)
			trial.Add(start.AddDate(-3, 0, 0), 0, 1)
		}
	}
	if r := trial.Result(); r.Window != time.Second || r.Span != time.Minute || r.Requests != 600 || r.Astray != 3 {
		t.Errorf("%+v", r)
	}
	for n := range 600 {
		trial.Add(start.Add(8*time.Hour+time.Duration(n)*time.Second/10), 0, uint64(n))
	}
	if r := trial.Result(); r.Span < 8*time.Hour || r.Requests != 1200 || r.Astray != 3 {
		t.Errorf("after a night: %+v", r)
	}
}

func TestAsking(t *testing.T) {
	trial := New([]split.Share{5000})
	if n, _, list := trial.Asking(10); n != 0 || list != nil {
		t.Errorf("of nothing %d, %v", n, list)
	}
	for n := range 100 {
		trial.Add(start.Add(time.Duration(n)*time.Second/10), 0, uint64(n%2))
	}
	n, span, list := trial.Asking(10)
	if n != 2 || span != 10*time.Second || len(list) != 2 || math.Abs(list[0]-5) > 1e-9 {
		t.Errorf("%d clients ask %v a second over %v", n, list, span)
	}
	if _, _, list := trial.Asking(1); len(list) != 1 {
		t.Errorf("one that stands for both: %v", list)
	}
}

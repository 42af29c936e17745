package trial

import (
	"math"
	"slices"
	"testing"
	"time"

	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

// made is one request, as the slow twin keeps it.
type made struct {
	second int
	point  uint16
	client uint64
}

// The figures of a result are those that one gets by going through all requests again and again, as their
// definitions say.
func TestAsByTheDefinitions(t *testing.T) {
	r := testkit.Rand(t)
	shares := []split.Share{500, 2500, 5000}
	for range 150 {
		seconds := 3 + r.IntN(150)
		together := []int{0, 1, 10, 60}[r.IntN(4)] // seconds whose requests go the same way, 0 for none
		half := r.Float64()
		var list []made
		for second := range seconds {
			for range r.IntN(12) {
				client := uint64(r.IntN(30))
				point := uint16(r.IntN(10_000))
				switch r.IntN(3) {
				case 0:
					point = uint16(client * 333) // one that stays
				case 1:
					point = uint16(shares[r.IntN(len(shares))]) - uint16(r.IntN(2)) // at the border itself
				}
				if together > 0 && r.Float64() < half {
					point = uint16(9999 * (second / together % 2))
				}
				list = append(list, made{second, point, client})
			}
		}
		if len(list) == 0 {
			continue
		}
		at := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
		trial := New(shares)
		for _, a := range list {
			trial.Add(at.Add(time.Duration(a.second)*time.Second), placeAt(a.point), a.client)
		}
		got := trial.Result()
		first := list[0].second
		windows := list[len(list)-1].second - first + 1
		if got.Requests != int64(len(list)) || got.Span != time.Duration(windows)*time.Second ||
			got.Window != time.Second || len(got.Shares) != len(shares) {
			t.Fatalf("%d requests in %v, windows of %v; want %d in %ds", got.Requests, got.Span, got.Window, len(list),
				windows)
		}
		for n, share := range shares {
			want := slow(list, first, windows, share, shares)
			have := got.Shares[n]
			if near := func(a, b float64) bool { return math.Abs(a-b) < 1e-9 }; !near(have.Achieved, want.Achieved) ||
				!near(have.Spread, want.Spread) || !near(have.Chance, want.Chance) ||
				have.Even != want.Even || have.Split != want.Split || have.Change != want.Change ||
				!slices.Equal(have.Windows, want.Windows) {
				t.Fatalf("at %v it is %+v\nwant %+v", share, have, want)
			}
			if bursts := slowBursts(list, at, share); have.Bursts != bursts {
				t.Errorf("at %v it comes in bursts of %v, want %v", share, have.Bursts, bursts)
			}
		}
	}
}

// placeAt is a place with a point.
func placeAt(point uint16) split.Place {
	// The middle of the point's part of all places.
	width := math.MaxUint64/10_000 + 1
	return split.Place(uint64(point)*uint64(width) + uint64(width)/2)
}

func slow(list []made, first, windows int, share split.Share, shares []split.Share) ShareResult {
	r := ShareResult{Share: share, Even: -1}
	green := func(of func(made) bool) (green, all float64) {
		for _, a := range list {
			if of(a) {
				all++
				if split.Share(a.point) < share {
					green++
				}
			}
		}
		return green, all
	}
	g, all := green(func(made) bool { return true })
	p := g / all
	r.Achieved = p
	used := 0.0
	for k := range windows {
		g, all := green(func(a made) bool { return a.second == first+k })
		seen := -1.0
		if all > 0 {
			seen = g / all
			used++
			r.Spread += math.Pow(seen-p, 2)
			r.Chance += p * (1 - p) / all
		}
		r.Windows = append(r.Windows, seen)
	}
	r.Spread, r.Chance = math.Sqrt(r.Spread/used), math.Sqrt(r.Chance/used)
	for k := windows - 1; k >= 0; k-- { // the first time from which on it stays even
		g, all := green(func(a made) bool { return a.second <= first+k })
		if math.Abs(g/all-share.Fraction()) > evenWithin {
			break
		}
		r.Even = time.Duration(k+1) * time.Second
	}
	next := split.Whole
	for _, s := range shares {
		if s > share {
			next = min(next, s)
		}
	}
	low, high := map[uint64]uint16{}, map[uint64]uint16{}
	for _, a := range list {
		if l, ok := low[a.client]; !ok || a.point < l {
			low[a.client] = a.point
		}
		high[a.client] = max(high[a.client], a.point)
	}
	for c := range low {
		if split.Share(low[c]) < share && split.Share(high[c]) >= share {
			r.Split++
		}
		if split.Share(low[c]) < next && split.Share(high[c]) >= share {
			r.Change++
		}
	}
	return r
}

// slowBursts is the shortest length at which the windows that are over go together.
func slowBursts(list []made, start time.Time, share split.Share) time.Duration {
	g := 0.0
	for _, a := range list {
		if split.Share(a.point) < share {
			g++
		}
	}
	p := g / float64(len(list))
	for _, length := range scaleLengths {
		type counts struct{ green, all float64 }
		of := map[int64]counts{}
		last := int64(0)
		for _, a := range list {
			n := start.Add(time.Duration(a.second)*time.Second).UnixNano() / int64(length)
			c := of[n]
			if c.all++; split.Share(a.point) < share {
				c.green++
			}
			of[n], last = c, n
		}
		delete(of, last) // it is not over
		deviation, squares, requests := 0.0, 0.0, 0.0
		for _, c := range of {
			deviation += (c.green - p*c.all) * (c.green - p*c.all)
			squares += c.all * c.all
			requests += c.all
		}
		chance := p * (1 - p)
		if len(of) >= leastWindows && p > 0 && p < 1 && deviation > bursty*bursty*chance*requests &&
			deviation/(chance*squares) > 0.25 {
			return length
		}
	}
	return 0
}

// Requests as far apart as may be belong together, and one that is farther is astray until others agree with it.
func TestHowFarIsFar(t *testing.T) {
	at := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	begin := func() *Trial {
		trial := New([]split.Share{5000})
		for n := range agreeing {
			trial.Add(at.Add(time.Duration(n)*time.Millisecond), placeAt(1), uint64(n))
		}
		trial.Add(at, placeAt(1), 1)
		return trial
	}
	trial := begin()
	trial.Add(at.Add(near), placeAt(1), 1)
	if r := trial.Result(); r.Requests != agreeing+2 || r.Astray != 0 {
		t.Errorf("as far as may be: %d requests, %d astray", r.Requests, r.Astray)
	}
	trial = begin()
	trial.Add(at.Add(near+1), placeAt(1), 1)
	if r := trial.Result(); r.Requests != agreeing+1 || r.Astray != 1 {
		t.Errorf("farther: %d requests, %d astray", r.Requests, r.Astray)
	}
	trial = begin()
	for n := range agreeing {
		if r := trial.Result(); r.Requests != agreeing+1 || r.Astray != int64(n) {
			t.Errorf("%d that agree: %d requests, %d astray", n, r.Requests, r.Astray)
		}
		trial.Add(at.Add(10*near+time.Duration(n)*near), placeAt(1), 1)
	}
	if r := trial.Result(); r.Requests != 2*agreeing+1 || r.Astray != 0 {
		t.Errorf("enough that agree: %d requests, %d astray", r.Requests, r.Astray)
	}
}

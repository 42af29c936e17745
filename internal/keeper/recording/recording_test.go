package recording

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/world/state"
	"vaiven/lab/testkit"
)

// voyage is a service that is seen second by second.
type voyage struct {
	r      *rand.Rand
	begun  time.Time
	now    time.Time
	number int
	each   int // instances of a side
	served bool
	s      keeper.Snapshot
}

func newVoyage(t testing.TB, each int) *voyage {
	now := time.Now().Round(0).Truncate(time.Second)
	return &voyage{r: testkit.Rand(t), begun: now, now: now, number: 3, each: each, served: true}
}

// second is the next one's snapshot and its point of the track: figures differ, and now and then an instance fails.
func (v *voyage) second() (keeper.Snapshot, []engine.Point) {
	v.now = v.now.Add(time.Second)
	s := v.s
	s.At, s.Service, s.Ready = v.now, "sailings", true
	s.Crossing.Number, s.Crossing.Target = v.number, split.Green
	s.Crossing.Begun = v.begun
	if s.Crossing.Stage == "" {
		s.Crossing.Stage = crossing.Shifting
	}
	s.Front.At, s.Front.Every, s.Front.Split.Share = v.now, time.Second, 2500
	for _, side := range split.Sides {
		w := &s.Sides[side]
		before := w.Instances
		w.At, w.Every, w.Wanted = v.now, time.Second, v.each
		w.Figures = figures.Figures{Requests: v.r.Int64N(4000), Failing: v.r.Int64N(9), Rate: v.r.Float64() * 300,
			P50: time.Duration(v.r.Int64N(1e7)), P99: time.Duration(v.r.Int64N(1e8)), Span: 10 * time.Second, To: v.now}
		w.Instances, w.Served = make([]reading.Condition, v.each), nil
		for n := range w.Instances {
			name := fmt.Sprintf("%v-%d", side, n+1)
			c := reading.Condition{Instance: reading.Instance{Name: name, Part: "web", Side: side, Version: "4.2.0",
				Build:   "sha256:3a7bd3e2360a3d29eea436fcfb7e44c735d117c42d1c1835420b6b9942dd4f1b",
				Address: fmt.Sprintf("10.1.%d.%d:8080", side, n+1), Place: "quay" + fmt.Sprint(n%40), Running: true,
				Started: v.now.Truncate(time.Hour), Digest: "d41d8cd98f00b204e9800998ecf8427e"},
				State: reading.Healthy, Since: v.now.Truncate(time.Hour)}
			if n < len(before) {
				c = before[n]
			}
			c.At, c.Took = v.now.Add(-time.Duration(v.r.IntN(900))*time.Millisecond), time.Duration(v.r.Int64N(5e6))
			history := append(slices.Clone(c.History), float64(c.Took)/1e6)
			c.History = history[max(0, len(history)-24):]
			if v.r.IntN(20*v.each) == 0 {
				c.State, c.Since = reading.Failing, v.now
			} else if c.State == reading.Failing && v.r.IntN(10) == 0 {
				c.State, c.Since = reading.Healthy, v.now
			}
			w.Instances[n] = c
			if v.served {
				w.Served = append(w.Served, figures.Served{Name: name, Address: c.Address, Rate: v.r.Float64() * 10,
					History: []int64{v.r.Int64N(20), v.r.Int64N(20), v.r.Int64N(20), v.r.Int64N(20)}})
			}
		}
	}
	s.Guards = nil
	for _, name := range []string{"failing", "slow", "unhealthy", "lost", "front door"} {
		s.Guards = append(s.Guards, guard.Status{Name: name, State: guard.Watching, Sure: v.r.Float64(),
			Evidence: v.r.NormFloat64(), Difference: v.r.NormFloat64() / 1000})
	}
	s.Door.At, s.Door.Answers = v.now, s.Door.Answers+20
	s.Door.Recent = append(slices.Clone(s.Door.Recent), reading.Mark{Side: []string{"blue", "green"}[v.r.IntN(2)]})
	s.Door.Recent = s.Door.Recent[max(0, len(s.Door.Recent)-120):]
	v.s = s
	return s, []engine.Point{{At: v.now, Planned: 2500, Green: v.r.Int64N(100), All: 310, Failing: v.r.Int64N(3)}}
}

func open(t testing.TB) *state.Folder {
	t.Helper()
	in, err := state.Open(filepath.Join(t.TempDir(), "state"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { in.Close() })
	return in
}

func quietly() *slog.Logger { return slog.New(slog.DiscardHandler) }

// finish closes a writer, and waits until all is written.
func finish(t testing.TB, w *Writer) {
	t.Helper()
	w.Close()
	testkit.Eventually(t, "all is written", func() bool {
		select {
		case <-w.done:
			return true
		default:
			return false
		}
	})
}

func readOf(t testing.TB, in *state.Folder, number int) *Recording {
	t.Helper()
	data, err := Find(in, number)
	if err != nil {
		t.Fatal(err)
	}
	r, err := Read(data)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// same is what differs between a frame and what was seen, "" for nothing.
func same(t testing.TB, f Frame, s keeper.Snapshot) string {
	t.Helper()
	for side := range s.Sides {
		for n := range s.Sides[side].Instances {
			f.Sides[side].Instances[n].At = s.Sides[side].Instances[n].At
			f.Sides[side].Instances[n].History, s.Sides[side].Instances[n].History = nil, nil
		}
	}
	got, want := jsonOf(t, f.Snapshot), jsonOf(t, s)
	if bytes.Equal(got, want) {
		return ""
	}
	at := 0
	for at < min(len(got), len(want)) && got[at] == want[at] {
		at++
	}
	return fmt.Sprintf("...%.200s, and was ...%.200s", got[max(0, at-40):], want[max(0, at-40):])
}

// A service of a few instances is seen again, at each moment, as it was, with the situation that was shown.
func TestAsItWasSeen(t *testing.T) {
	in, v := open(t), newVoyage(t, 4)
	w := NewWriter(in, 0, quietly())
	var seen []keeper.Snapshot
	var points []engine.Point
	for n := range 400 {
		if n%50 == 0 { // however much it is that has changed
			v.s.Crossing.Baselines = append(slices.Clone(v.s.Crossing.Baselines),
				crossing.Baseline{Guard: strings.Repeat("failing", 200)})
		}
		s, p := v.second()
		w.Take(s, p)
		seen, points = append(seen, s), append(points, p...)
	}
	finish(t, w)
	r := readOf(t, in, 3)
	if r.Lost > 0 || !r.From().Equal(seen[0].At) || !r.To().Equal(seen[len(seen)-1].At) {
		t.Errorf("from %v to %v, %d members lost", r.From(), r.To(), r.Lost)
	}
	for n := 0; n < len(seen); n += 1 + v.r.IntN(40) {
		f, err := r.At(seen[n].At.Add(400 * time.Millisecond))
		if err != nil {
			t.Fatal(err)
		}
		if len(f.Track) != n+1 || !bytes.Equal(jsonOf(t, f.Track[n]), jsonOf(t, points[n])) {
			t.Errorf("second %d: the track has %d points", n, len(f.Track))
		}
		want := situation.Of(seen[n].View, situation.Seen{Heard: seen[n].At}, seen[n].At)
		if got := jsonOf(t, f.Situation); !bytes.Equal(got, jsonOf(t, want)) {
			t.Errorf("second %d: the situation is %s", n, got)
		}
		if what := same(t, f, seen[n]); what != "" {
			t.Fatalf("second %d is %s", n, what)
		}
	}
	if at := r.Step(seen[200].At, 1); !at.Equal(seen[201].At) {
		t.Errorf("a step on is %v", at)
	}
}

func jsonOf(t testing.TB, v any) []byte {
	t.Helper()
	data, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return short(data)
}

// Of many instances each change is there at once, and figures of some at a time.
func TestManyInstances(t *testing.T) {
	in, v := open(t), newVoyage(t, 250)
	w := NewWriter(in, 0, quietly())
	var seen []keeper.Snapshot
	for range 60 {
		s, p := v.second()
		w.Take(s, p)
		seen = append(seen, s)
	}
	finish(t, w)
	r := readOf(t, in, 3)
	for n, s := range seen {
		f, err := r.At(s.At)
		if err != nil {
			t.Fatal(err)
		}
		for side := range s.Sides {
			got := f.Sides[side]
			if !bytes.Equal(jsonOf(t, got.Figures), jsonOf(t, s.Sides[side].Figures)) || len(got.Instances) != 250 ||
				len(got.Served) != 250 {
				t.Fatalf("second %d: %d instances, %+v", n, len(got.Instances), got.Figures)
			}
			for i, c := range s.Sides[side].Instances {
				if g := got.Instances[i]; g.Name != c.Name || g.State != c.State || !g.Since.Equal(c.Since) {
					t.Errorf("second %d: %+v, and was %+v", n, g, c)
				}
			}
		}
	}
}

// Instances that are gone are gone.
func TestRowsThatAreGone(t *testing.T) {
	in, v := open(t), newVoyage(t, 3)
	w := NewWriter(in, 0, quietly())
	for n := range 9 {
		v.each = 3 - n/4
		w.Take(v.second())
	}
	finish(t, w)
	f, err := readOf(t, in, 3).At(v.now)
	if err != nil || len(f.Sides[0].Instances) != 1 || len(f.Sides[1].Served) != 1 {
		t.Errorf("%+v, %v", f.Sides[0].Instances, err)
	}
}

// What is cut off or damaged costs what cannot be read, and is said; a writer that goes on writes all anew.
func TestDamage(t *testing.T) {
	in, v := open(t), newVoyage(t, 2)
	var ends []time.Time
	for range 3 {
		w := NewWriter(in, 0, quietly())
		for range 40 {
			w.Take(v.second())
		}
		finish(t, w)
		ends = append(ends, v.now)
	}
	data, err := Find(in, 3)
	if err != nil {
		t.Fatal(err)
	}
	second := next(data, 1)
	third := next(data, second+1)
	whole, err := Read(data)
	if err != nil || whole.Lost != 0 || third >= len(data) {
		t.Fatalf("whole: %+v, %v", whole, err)
	}
	for name, c := range map[string]struct {
		data []byte
		lost int
		last time.Time
	}{
		"the end is cut off": {data[:len(data)-9], 0, ends[2].Add(-20 * time.Second)},
		"the middle is overwritten": {slices.Concat(data[:second+200], bytes.Repeat([]byte{'x'}, 50),
			data[second+250:]), 1,
			ends[2]},
		"the beginning is missing": {data[40:], 1, ends[2]},
		"killed in the middle":     {slices.Concat(data[:second-11], data[second:]), 1, ends[2]},
	} {
		r, err := Read(c.data)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if r.Lost != c.lost || r.To().Before(c.last) {
			t.Errorf("%s: %d lost, to %v", name, r.Lost, r.To())
		}
		f, err := r.At(ends[2])
		if what := ""; err == nil && c.last.Equal(ends[2]) {
			if what = same(t, f, v.s); what != "" {
				t.Errorf("%s: it ends with %s", name, what)
			}
		} else if err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := Read([]byte("nonsense")); !errors.Is(err, keeper.ErrNotRecorded) {
		t.Errorf("nonsense is %v", err)
	}
	for range 60 { // whatever stands there
		n := v.r.IntN(len(data))
		broken := slices.Clone(data)
		broken[n] ^= byte(1 + v.r.IntN(255))
		if r, err := Read(broken); err == nil {
			if _, err := r.At(ends[v.r.IntN(3)]); err != nil && !strings.Contains(err.Error(), "the recording at") {
				t.Errorf("with byte %d another: %v", n, err)
			}
		}
	}
}

// While nobody watched there is a hole.
func TestAHole(t *testing.T) {
	in, v := open(t), newVoyage(t, 1)
	w := NewWriter(in, 0, quietly())
	for n := range 20 {
		if n == 10 {
			v.now = v.now.Add(30 * time.Second)
		}
		w.Take(v.second())
	}
	finish(t, w)
	r := readOf(t, in, 3)
	if h, ok := r.Hole(v.now.Add(-20 * time.Second)); !ok || h.To.Sub(h.From) != 31*time.Second {
		t.Errorf("there is %+v, %t", h, ok)
	}
	if h, ok := r.Hole(v.now.Add(-2 * time.Second)); ok {
		t.Errorf("there is %+v", h)
	}
}

// The track outlives the keeper for an hour, through crossings and rest.
func TestTheTrack(t *testing.T) {
	in, v := open(t), newVoyage(t, 1)
	v.now = v.now.Add(-10 * time.Minute)
	w := NewWriter(in, 0, quietly())
	all := 0
	for n := range 300 {
		switch {
		case n < 100:
			v.s.Crossing.Stage = crossing.Settled
		case n == 100:
			v.s.Crossing.Stage, v.number = crossing.Shifting, 4
		}
		w.Take(v.second())
		all++
	}
	finish(t, w)
	points, err := NewWriter(in, 0, quietly()).Points()
	if err != nil || len(points) < all-30 { // of the rest, what came after it was written last
		t.Errorf("%d points of %d, %v", len(points), all, err)
	}
	for n := 1; n < len(points); n++ {
		if !points[n].At.After(points[n-1].At) {
			t.Fatalf("point %d is not after the one before", n)
		}
	}
}

// On a disk that takes nothing there is a hole, and the rest is as it was.
func TestTheDiskIsFull(t *testing.T) {
	in, v := open(t), newVoyage(t, 2)
	w := NewWriter(in, 0, quietly())
	for range 30 {
		w.Take(v.second())
	}
	finish(t, w)
	before, err := Find(in, 3)
	if err != nil {
		t.Fatal(err)
	}
	w = NewWriter(in, 0, quietly())
	name := in.Path(fileOf(3, ending))
	if err := errors.Join(os.Rename(name, name+".away"), os.Mkdir(name, 0o700)); err != nil { // nothing can be written
		t.Fatal(err)
	}
	testkit.Eventually(t, "it was tried", func() bool {
		if !w.again.Load() { // whoever records takes it back: until it is known, more is recorded
			w.Take(v.second())
		}
		return w.again.Load()
	})
	if err := errors.Join(os.Remove(name), os.Rename(name+".away", name)); err != nil {
		t.Fatal(err)
	}
	for range 12 {
		w.Take(v.second())
	}
	finish(t, w)
	after, err := Find(in, 3)
	if err != nil || !bytes.HasPrefix(after, before) {
		t.Fatalf("what was there is not as it was: %v", err)
	}
	r := readOf(t, in, 3)
	f, err := r.At(v.now)
	if err != nil || r.Lost > 0 {
		t.Fatalf("%d lost, %v", r.Lost, err)
	}
	if what := same(t, f, v.s); what != "" {
		t.Errorf("it goes on with %s", what)
	}
}

// What is old is thinned, and still says what happened.
func TestThinned(t *testing.T) {
	in, v := open(t), newVoyage(t, 2)
	w := NewWriter(in, time.Hour, quietly())
	for n := range 500 {
		if n == 333 {
			v.s.Crossing.GoingBack = true
		}
		w.Take(v.second())
	}
	finish(t, w)
	whole, err := Find(in, 3)
	if err != nil {
		t.Fatal(err)
	}
	full := readOf(t, in, 3)
	old := time.Now().Add(-2 * time.Hour)
	if err := os.Chtimes(in.Path(fileOf(3, ending)), old, old); err != nil {
		t.Fatal(err)
	}
	finish(t, NewWriter(in, time.Hour, quietly()))
	thin, err := Find(in, 3)
	if err != nil || len(thin) > len(whole)/4 {
		t.Fatalf("%d bytes are %d, %v", len(whole), len(thin), err)
	}
	r := readOf(t, in, 3)
	at := full.Step(full.From(), 333)
	a, errA := r.At(at)
	b, errB := full.At(at)
	if errors.Join(errA, errB) != nil || !a.Crossing.GoingBack || !reflect.DeepEqual(a.Sides[1].Figures,
		b.Sides[1].Figures) {
		t.Errorf("when it went back it was %+v, and is %+v: %v %v", b.Sides[1].Figures, a.Sides[1].Figures, errA, errB)
	}
	sum := func(points []engine.Point) (n int64) {
		for _, p := range points {
			n += p.All
		}
		return n
	}
	if sum(r.Points()) != sum(full.Points()) {
		t.Errorf("%d requests of %d", sum(r.Points()), sum(full.Points()))
	}
	if h, ok := r.Hole(at.Add(-5 * time.Second)); ok {
		t.Errorf("what was thinned is called a hole: %+v", h)
	}
	if names, err := in.Names(folder); err != nil || len(names) != 1 {
		t.Errorf("there are %v, %v", names, err)
	}
}

// Who reads what is being recorded reads all of it.
func TestReadingWhatGrows(t *testing.T) {
	in, v := open(t), newVoyage(t, 2)
	w := NewWriter(in, 0, quietly())
	w.Take(v.second())
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for {
			select {
			case <-stop:
				return
			case <-time.After(10 * time.Millisecond):
				w.Take(v.second())
			}
		}
	}()
	before := time.Now()
	data, err := w.Read(3)
	close(stop)
	<-done
	if err != nil {
		t.Fatal(err)
	}
	if r, err := Read(data); err != nil || time.Since(before) > readLimit && r.To().Equal(r.From()) {
		t.Errorf("%+v, %v", r, err)
	}
	finish(t, w)
}

// Of an hour that has had its share every tenth moment is written, and all of the track.
func TestAnHourHasItsShare(t *testing.T) {
	in, v := open(t), newVoyage(t, 2)
	w := NewWriter(in, 0, quietly())
	for n := range 300 {
		if n >= 100 {
			w.sparse.Store(true)
		}
		w.Take(v.second())
	}
	finish(t, w)
	r := readOf(t, in, 3)
	if len(r.lines) < 115 || len(r.lines) > 125 || v.now.Sub(r.To()) > sparsely || len(r.Points()) < 290 {
		t.Errorf("there are %d moments until %v before the end, and %d points", len(r.lines), v.now.Sub(r.To()),
			len(r.Points()))
	}
}

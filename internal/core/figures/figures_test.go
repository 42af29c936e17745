package figures

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

var start = time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)

// instance counts answers by their latency.
type instance struct {
	reading.Count
	h *hdrhistogram.Histogram
}

func newInstance(name string) *instance {
	return &instance{Count: reading.Count{Server: reading.Server{Name: name, Address: name + ":1"}},
		h: reading.NewHistogram()}
}

func (i *instance) answer(t *testing.T, n int64, status int, took time.Duration) {
	t.Helper()
	i.Requests += n
	i.Status[status/100] += n
	if err := i.h.RecordValues(took.Microseconds(), n); err != nil {
		t.Fatal(err)
	}
	data, err := i.h.Encode(hdrhistogram.V2CompressedEncodingCookieBase)
	if err != nil {
		t.Fatal(err)
	}
	i.Latency = data
}

func read(second int, lost int64, green ...*instance) reading.Front {
	r := reading.Front{At: start.Add(time.Duration(second) * time.Second)}
	r.Sides[split.Green].Lost = lost
	for _, i := range green {
		r.Sides[split.Green].Instances = append(r.Sides[split.Green].Instances, i.Count)
	}
	return r
}

func add(t *testing.T, s *Series, r reading.Front) {
	t.Helper()
	if err := s.Add(r); err != nil {
		t.Fatal(err)
	}
}

func TestFiguresOfATime(t *testing.T) {
	var s Series
	i := newInstance("green-1")
	i.answer(t, 1000, 200, time.Millisecond) // before we looked
	add(t, &s, read(0, 5, i))
	if f := s.Over(split.Green, start, time.Second); f.Requests != 0 || !f.To.IsZero() {
		t.Errorf("the first reading alone says %+v", f)
	}
	i.answer(t, 90, 200, 10*time.Millisecond)
	i.answer(t, 10, 500, 300*time.Millisecond)
	add(t, &s, read(1, 5, i))
	i.answer(t, 98, 200, 10*time.Millisecond)
	add(t, &s, read(2, 7, i))
	f := s.Over(split.Green, start, 250*time.Millisecond)
	if f.Requests != 200 || f.Failing != 12 || f.Lost != 2 || f.Slow != 10 || f.Rate != 100 || f.Span != 2*time.Second {
		t.Errorf("figures %+v", f)
	}
	if f.P50 < 9*time.Millisecond || f.P50 > 11*time.Millisecond || f.P99 < 290*time.Millisecond ||
		f.P99 > 310*time.Millisecond {
		t.Errorf("p50 %v, p99 %v", f.P50, f.P99)
	}
	if f := s.Over(split.Green, start.Add(time.Second), time.Second); f.Requests != 100 || f.Failing != 2 {
		t.Errorf("the last second: %+v", f)
	}
	if f := s.Over(split.Blue, start, time.Second); f.Requests != 0 {
		t.Errorf("the other side: %+v", f)
	}
	requests, failing := s.Last()
	if requests[split.Green] != 100 || failing[split.Green] != 2 {
		t.Errorf("the last step: %v, %v", requests, failing)
	}
}

// What a counter had counted before it was seen is nobody's: a slot at a proxy that an
// earlier crossing used, say. One that falls began anew.
func TestInstancesComeAndGoAndFrontsStartAnew(t *testing.T) {
	var s Series
	a, b := newInstance("green-1"), newInstance("green-2")
	a.answer(t, 100, 200, time.Millisecond)
	add(t, &s, read(0, 3, a))
	b.answer(t, 700, 500, time.Millisecond)
	add(t, &s, read(1, 3, a, b)) // one more
	b.answer(t, 7, 200, time.Millisecond)
	add(t, &s, read(2, 3, b)) // one less
	fresh := newInstance("green-2")
	fresh.answer(t, 4, 500, time.Millisecond)
	add(t, &s, read(3, 1, fresh)) // counted from zero again
	fresh.answer(t, 2, 200, time.Millisecond)
	add(t, &s, read(4, 2, fresh))
	if f := s.Over(split.Green, start, time.Second); f.Requests != 7+2+1 || f.Lost != 1 || f.Failing != 1 {
		t.Errorf("figures %+v", f)
	}
}

// What an instance does not tell for a while is counted when it tells again, and what it had answered before is not
// counted anew.
func TestWhatIsNotToldForAWhile(t *testing.T) {
	var s Series
	i, late := newInstance("green-1"), newInstance("green-2")
	i.answer(t, 1000, 500, time.Millisecond) // long ago
	late.answer(t, 5000, 500, time.Millisecond)
	untold := func(i *instance) *instance {
		return &instance{Count: reading.Count{Server: i.Server, Untold: true}}
	}
	add(t, &s, read(0, 7, i, untold(late)))
	add(t, &s, read(1, 0, untold(i), untold(late)))
	i.answer(t, 30, 200, time.Millisecond)
	add(t, &s, read(2, 7, i, late)) // which is seen first now
	late.answer(t, 20, 200, time.Millisecond)
	add(t, &s, read(3, 8, i, late))
	if f := s.Over(split.Green, start, 0); f.Requests != 51 || f.Failing != 1 {
		t.Errorf("counted are %d, of them %d failing, want 51 and the one that was lost", f.Requests, f.Failing)
	}
}

func TestDamagedLatenciesAreSaid(t *testing.T) {
	var s Series
	i := newInstance("green-1")
	add(t, &s, read(0, 0, i))
	i.answer(t, 5, 200, time.Millisecond)
	i.Latency = []byte("not a histogram")
	if err := s.Add(read(1, 0, i)); err == nil {
		t.Error("a damaged histogram was taken")
	}
}

func TestTheSeriesForgets(t *testing.T) {
	var s Series
	i := newInstance("green-1")
	for n := range 2000 {
		i.answer(t, 1, 200, time.Millisecond)
		add(t, &s, read(n, 0, i))
	}
	if n := len(s.steps); n > int(longest/time.Second)+2 {
		t.Errorf("%d steps are kept", n)
	}
}

func BenchmarkOver(b *testing.B) {
	var s Series
	i := newInstance("green-1")
	for n := range 240 {
		i.Requests += 50
		for k := range 50 {
			_ = i.h.RecordValue(int64(5000 + 100*k))
		}
		i.Latency, _ = i.h.Encode(hdrhistogram.V2CompressedEncodingCookieBase)
		_ = s.Add(read(n, 0, i))
	}
	b.ReportAllocs()
	for b.Loop() {
		s.Over(split.Green, start, 250*time.Millisecond)
	}
}

// At a front that does not tell how long its open requests have waited, those hang that are
// more than there would be if answers took two seconds each, for a while.
func TestWhatHangsByHowManyAreOpen(t *testing.T) {
	for _, c := range []struct {
		name     string
		open     []int64 // by half second
		answered int64   // in each
		want     int64
	}{
		{"as many as ever", []int64{4, 5, 3, 4, 6, 4, 5, 4}, 20, 0},
		{"slow, and answered", []int64{80, 80, 80, 80, 80, 80, 80, 80}, 20, 0}, // 40 a second: two seconds each
		{"more than that", []int64{4, 30, 60, 90, 100, 110, 100, 100, 100, 100, 100}, 20, 20},
		{"none is answered any more", []int64{4, 25, 50, 75, 100, 125, 150, 175, 200}, 0, 75},
		{"for a moment", []int64{4, 90, 4, 4, 90, 4, 4, 4, 4}, 0, 4},
		{"at first", []int64{90, 90}, 0, 0},
	} {
		var s Series
		var count reading.Count
		for n, open := range c.open {
			count.Open = open
			count.Requests += c.answered
			count.Status[2] += c.answered
			r := reading.Front{At: start.Add(time.Duration(n) * time.Second / 2)}
			r.Sides[split.Green].Instances = []reading.Count{count}
			add(t, &s, r)
		}
		f := s.Over(split.Green, start, time.Second)
		if f.Hanging != c.want || f.FailingCount().Of != f.Requests+c.want {
			t.Errorf("%s: %d of %d hang, want %d", c.name, f.Hanging, f.Requests, c.want)
		}
		count.Waiting = []int64{9, 9, 9, 9, 3}
		r := reading.Front{At: start.Add(time.Minute), Tells: reading.Capabilities{Waits: true}}
		r.Sides[split.Green].Instances = []reading.Count{count}
		add(t, &s, r)
		if f := s.Over(split.Green, start, time.Second); f.Hanging != 3 || f.Late != 9 {
			t.Errorf("%s: told, %d hang and %d are late", c.name, f.Hanging, f.Late)
		}
	}
}

// What single instances answered: by the second, and none that has gone.
func TestWhatEachInstanceAnswered(t *testing.T) {
	at := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	var s Series
	count := func(name string, requests, failing int64) reading.Count {
		return reading.Count{Server: reading.Server{Name: name, Address: name + ":80"}, Requests: requests,
			Status: [6]int64{5: failing}}
	}
	for n := range int64(20) {
		r := reading.Front{At: at.Add(time.Duration(n) * time.Second)}
		r.Sides[split.Green].Instances = []reading.Count{count("green-2", 40*n, n/19), count("green-1", 10*n, 0)}
		if n < 15 {
			r.Sides[split.Green].Instances = append(r.Sides[split.Green].Instances, count("green-3", 5, 0))
		}
		if err := s.Add(r); err != nil {
			t.Fatal(err)
		}
	}
	got := s.Each(split.Green, at.Add(19*time.Second+100*time.Millisecond))
	if len(got) != 2 || got[0].Name != "green-1" || got[0].Rate != 10 || got[1].Rate != 40 || got[1].Failing != 1 ||
		fmt.Sprint(got[1].History) != "[40 40 40 40 40 40 40 40]" {
		t.Errorf("they answered %+v", got)
	}
	// An hour later it is as if nobody had answered, and blue never has.
	if got := s.Each(split.Green, at.Add(time.Hour)); got[0].Rate != 0 || s.Each(split.Blue, at) != nil {
		t.Errorf("an hour later %+v", got)
	}
}

// What the front answers itself belongs to the side that gets all requests, or that it assigned them to, once that
// was given instances; else to nobody.
func TestAnswersOfNobody(t *testing.T) {
	var s Series
	i := newInstance("green-1")
	at := func(second int, share split.Share, own, lost int64, green ...*instance) {
		r := read(second, lost, green...)
		r.Own, r.Split.Share = own, share
		add(t, &s, r)
	}
	is := func(what string, lost, own int64) {
		t.Helper()
		if f := s.Count(split.Green, start, 0); f.Lost != lost || f.Requests != lost || s.Own(start) != own {
			t.Errorf("%s: green lost %d of %d, and %d are nobody's; want %d and %d", what, f.Lost, f.Requests,
				s.Own(start), lost, own)
		}
	}
	at(0, split.Whole, 500, 0)
	at(1, split.Whole, 510, 5)
	is("before anybody stands there", 0, 15)
	at(2, split.Whole, 510, 5, i)
	at(3, split.Whole, 517, 5, i)
	is("all of them are green's", 7, 15)
	r := read(3, 5, i)
	r.At, r.Own, r.Split.Share, r.Forgot = r.At.Add(time.Millisecond), 540, split.Whole, true
	add(t, &s, r)
	is("it had forgotten who was there", 7, 38)
	at(4, 5000, 540, 5, i)
	at(5, 5000, 550, 6, i)
	is("both get some", 8, 48)
	data, err := json.Marshal(s)
	if err == nil {
		s = Series{}
		err = json.Unmarshal(data, &s)
	}
	if err != nil || s.Own(start) != 48 || s.Stood(split.Green) != start.Add(2*time.Second) ||
		!s.Stood(split.Blue).IsZero() {
		t.Errorf("as it is read back %d are nobody's, and green stands since %v: %v", s.Own(start),
			s.Stood(split.Green), err)
	}
}

// Somebody should look at an instance of which a twentieth fails, and three or more.
func TestABadInstance(t *testing.T) {
	for _, c := range []struct {
		failing, all int64
		bad          bool
	}{{3, 60, true}, {3, 61, false}, {2, 2, false}, {3, 3, true}, {0, 0, false}, {100, 2000, true}, {100, 2001,
		false}} {
		if got := (Served{Failing: c.failing, History: []int64{c.all - 1, 1}}).Bad(); got != c.bad {
			t.Errorf("%d of %d failing: %v", c.failing, c.all, got)
		}
	}
}

// Beside a control group the rest of its side does not count: not its answers, what hangs there, or what it lost.
func TestBeside(t *testing.T) {
	rest, group := newInstance("green-1"), newInstance("green-2")
	var whole Series
	rest.answer(t, 100, 200, time.Millisecond)
	add(t, &whole, read(0, 0, rest, group))
	rest.answer(t, 50, 500, time.Millisecond)
	add(t, &whole, read(1, 0, rest, group))
	beside := whole.Beside()
	group.Control = true
	second, lost := 1, int64(0)
	next := func(ofRest, ofGroup int64) {
		rest.answer(t, ofRest, 500, 300*time.Millisecond)
		group.answer(t, ofGroup, 200, time.Millisecond)
		second++
		for _, s := range []*Series{&whole, beside} {
			add(t, s, read(second, lost, rest, group))
		}
	}
	next(1, 1) // from whole to group: nothing is compared by that
	for st := range beside.After(start.Add(time.Second)) {
		if !st.Mixed {
			t.Error("the step in which the group begins is not mixed")
		}
	}
	from := start.Add(time.Duration(second) * time.Second)
	rest.Waiting = make([]int64, len(reading.Waits))
	for n := range rest.Waiting {
		rest.Waiting[n] = 5
	}
	rest.Failures, group.Failures, lost = 6, 3, 9
	next(40, 10)
	if f := beside.Over(split.Green, from, 250*time.Millisecond); f.Requests != 13 || f.Lost != 3 || f.Failing != 3 ||
		f.Slow != 0 || f.Hanging != 0 || f.Late != 0 {
		t.Errorf("of the group: %+v", f)
	}
	if f := whole.Over(split.Green, from, 250*time.Millisecond); f.Requests != 59 || f.Lost != 9 || f.Slow != 40 {
		t.Errorf("of the whole side: %+v", f)
	}
	if list := beside.Instances(split.Green); list["green-2:1"].Of != 11 {
		t.Errorf("of the instances: %v", list)
	}
	group.Control = false
	next(40, 10)
	from = start.Add(time.Duration(second) * time.Second)
	next(40, 10)
	if f := beside.Over(split.Green, from, time.Second); f.Requests != 50 {
		t.Errorf("after the group: %+v", f)
	}
}

package figures

import (
	"encoding/json"
	"slices"
	"testing"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// steps are those of a series after a second.
func steps(s *Series, second int) []Step {
	return slices.Collect(s.After(start.Add(time.Duration(second) * time.Second)))
}

func TestSteps(t *testing.T) {
	var s Series
	i := newInstance("green-1")
	share := func(r reading.Front, part split.Share) reading.Front {
		r.Split.Share = part
		r.Tells.Waits = true
		return r
	}
	add(t, &s, share(read(0, 0, i), 500))
	i.answer(t, 90, 200, 10*time.Millisecond)
	i.answer(t, 10, 500, 400*time.Millisecond)
	add(t, &s, share(read(1, 2, i), 500))
	i.answer(t, 50, 200, 10*time.Millisecond)
	add(t, &s, share(read(2, 2, i), 2500)) // the share has changed within
	other := newInstance("green-2")
	add(t, &s, share(read(3, 2, i, other), 2500)) // and here who is there
	add(t, &s, share(read(4, 2, other), 2500))
	add(t, &s, share(read(5, 2, other), 2500))
	list := steps(&s, 0)
	mixed := make([]bool, len(list))
	for n, st := range list {
		mixed[n] = st.Mixed
	}
	if want := []bool{false, true, true, true, false}; !slices.Equal(mixed, want) {
		t.Errorf("mixed are %v, want %v", mixed, want)
	}
	first := list[0]
	if got := first.Failing(split.Green); got != (evidence.Count{Bad: 12, Of: 102}) || first.Share != 500 ||
		first.To.Sub(first.From) != time.Second {
		t.Errorf("%+v: %+v", first, got)
	}
	if got := first.Slow(split.Green, 250*time.Millisecond); got != (evidence.Count{Bad: 10, Of: 100}) {
		t.Errorf("slow: %+v", got)
	}
	if got := first.Failing(split.Blue); got != (evidence.Count{}) {
		t.Errorf("blue: %+v", got)
	}
	if late := steps(&s, 4); len(late) != 1 || late[0].Mixed {
		t.Errorf("after 4 s there are %+v", late)
	}
}

// A request that hangs counts once: when it does, and not again when it is answered after all.
func TestWhatHangsCountsOnce(t *testing.T) {
	var s Series
	i := newInstance("green-1")
	told := func(second int) reading.Front {
		r := read(second, 0, i)
		r.Tells.Waits = true
		return r
	}
	add(t, &s, told(0))
	i.answer(t, 10, 200, time.Millisecond)
	i.Waiting = []int64{5, 5, 5, 5, 4}
	add(t, &s, told(1))
	add(t, &s, told(2))
	i.answer(t, 4, 200, 3*time.Second)
	i.answer(t, 1, 500, 3*time.Second)
	i.Waiting = nil
	add(t, &s, told(3))
	var failing, slow evidence.Count
	for _, st := range steps(&s, 0) {
		failing, slow = failing.Plus(st.Failing(split.Green)), slow.Plus(st.Slow(split.Green, 250*time.Millisecond))
	}
	if failing != (evidence.Count{Bad: 4, Of: 15}) || slow != (evidence.Count{Bad: 5, Of: 15}) {
		t.Errorf("failing %+v, slow %+v", failing, slow)
	}
}

func TestClientsOfSteps(t *testing.T) {
	var s Series
	i := newInstance("green-1")
	level := reading.NearestLevel(250 * time.Millisecond)
	told := func(second int, seen, of, bad int64) reading.Front {
		r := read(second, 0, i)
		turned := new(reading.Turned)
		turned[reading.AnyAnswer][level][2] = evidence.Count{Bad: bad, Of: of}
		turned[reading.AnyAnswer][0][0] = evidence.Count{Bad: bad, Of: of}
		r.Sides[split.Green].Clients = reading.Clients{Seen: seen, Asked: of, Good: of - bad, Turns: turned.Bytes()}
		return r
	}
	add(t, &s, told(0, 7, 7, 7))
	add(t, &s, told(1, 10, 9, 8))
	add(t, &s, told(2, 1, 1, 1)) // the front began anew
	data, err := json.Marshal(s)
	var written Series
	if err != nil || json.Unmarshal(data, &written) != nil {
		t.Fatal("it cannot be written")
	}
	for _, s := range []*Series{&s, &written} {
		list := steps(s, 0)
		one := evidence.Count{Bad: 1, Of: 2}
		a, b := list[0].Turned(split.Green, reading.AnyAnswer, 0), list[0].Turned(split.Green, reading.AnyAnswer,
			240*time.Millisecond)
		if came := s.Came(split.Green); a[0] != one || b[2] != one || came != 3 {
			t.Errorf("%+v, slow %+v, %d came", a, b, came)
		}
		if all, good := list[0].Asked(split.Green); all != 2 || good != 1 {
			t.Errorf("%d asked, %d of them well", all, good)
		}
		a = list[1].Turned(split.Green, reading.AnyAnswer, 0)
		if came := s.Came(split.Blue); a != (reading.Turns{}) || came != 0 {
			t.Errorf("of a front that began anew %+v, %d", a, came)
		}
	}
	r := told(3, 2, 2, 1)
	r.Sides[split.Green].Clients.Turns = []byte("t")
	if err := s.Add(r); err == nil {
		t.Error("times that cannot be read are taken")
	}
}

// Times and clients that a front does not tell this once are not counted again when it tells them anew.
func TestWhatIsNotToldThisOnce(t *testing.T) {
	var s Series
	i := newInstance("green-1")
	at := 0
	tell := func(told bool, seen int64) {
		r := read(at, 0, i)
		r.Tells.Times, r.Tells.Clients = told, told
		r.Sides[split.Green].Clients = reading.Clients{Seen: seen}
		if !told {
			r.Sides[split.Green].Instances[0].Latency, r.Sides[split.Green].Clients = nil, reading.Clients{}
		}
		add(t, &s, r)
		at++
	}
	tell(true, 0)
	i.answer(t, 90, 200, time.Second)
	tell(true, 40)
	i.answer(t, 10, 200, time.Millisecond)
	tell(false, 0)
	i.answer(t, 5, 200, time.Second)
	tell(true, 43)
	list := steps(&s, 0)
	for n, want := range []evidence.Count{{Bad: 90, Of: 90}, {}, {Bad: 5, Of: 15}} {
		if got := list[n].Slow(split.Green, 250*time.Millisecond); got != want {
			t.Errorf("step %d: %+v, want %+v", n, got, want)
		}
	}
	if n := s.Came(split.Green); n != 43 {
		t.Errorf("%d clients came, want 43", n)
	}
}

func TestUsual(t *testing.T) {
	var s Series
	i := newInstance("green-1")
	add(t, &s, read(0, 0, i))
	i.answer(t, 98, 200, 10*time.Millisecond)
	i.answer(t, 2, 200, time.Second)
	add(t, &s, read(1, 0, i))
	list := s.Usual(split.Green, start, []float64{0.5, 0.98, 0.99}, 100)
	if len(list) != 3 || list[0] < 10*time.Millisecond || list[0] > 11*time.Millisecond || list[1] != list[0] ||
		list[2] < time.Second || list[2] > 1010*time.Millisecond {
		t.Errorf("usual are %v", list)
	}
	if s.Usual(split.Green, start, []float64{0.5}, 101) != nil ||
		s.Usual(split.Blue, start, []float64{0.5}, 0) != nil ||
		s.Usual(split.Green, start.Add(time.Minute), []float64{0.5}, 1) != nil {
		t.Error("it says what is usual of too few")
	}
}

// What is bad is never more than there was, whatever was counted twice: failing and cut, or hanging and answered since.
func TestNoMoreIsBadThanThereIs(t *testing.T) {
	for _, c := range []struct {
		count evidence.Count
		more  int64
		want  evidence.Count
	}{
		{evidence.Count{Bad: 6, Of: 5}, 0, evidence.Count{Bad: 5, Of: 5}},
		{evidence.Count{Bad: 2, Of: 5}, 3, evidence.Count{Bad: 5, Of: 8}},
		{evidence.Count{Bad: 2, Of: 5}, -3, evidence.Count{Bad: 0, Of: 2}},
		{evidence.Count{Bad: 2, Of: 2}, -3, evidence.Count{}},
	} {
		if got := ahead(c.count, c.more); got != c.want {
			t.Errorf("%+v with %d more is %+v, want %+v", c.count, c.more, got, c.want)
		}
	}
	var s Series
	i := newInstance("green-1")
	add(t, &s, read(0, 0, i))
	i.answer(t, 5, 500, time.Millisecond)
	i.Cut += 2
	add(t, &s, read(1, 0, i))
	if f := s.Count(split.Green, start, 0); f.Cut != 2 || f.Compared() != (evidence.Count{Bad: 5, Of: 5}) ||
		f.FailingCount() != (evidence.Count{Bad: 5, Of: 5}) {
		t.Errorf("counted %+v", f)
	}
}

// What was led to a queue is what was published to it, but for what was carried there, and that holds while nothing of
// it is done.
func TestLed(t *testing.T) {
	var s Series
	for n, q := range [][2]reading.Queue{
		{{Published: 500}, {Published: 90}},
		{{Published: 600}, {Published: 100}},
		{{Published: 700, Carried: 40}, {Published: 150}}, // 40 of these were carried
		{{Published: 800, Carried: 40}, {Published: 160}},
	} {
		r := reading.Front{At: start.Add(time.Duration(n) * time.Second)}
		for side := range q {
			r.Sides[side].Queue = &q[side]
		}
		add(t, &s, r)
	}
	for side, want := range [2]int64{300, 30} {
		if got, queued := s.Led(split.Side(side), start); got != want || !queued {
			t.Errorf("%v: %d, %v; want %d", split.Side(side), got, queued, want)
		}
	}
	if late, _ := s.Led(split.Green, start.Add(2*time.Second)); late != 10 {
		t.Errorf("in the last second %d", late)
	}
}

// Messages that an instance has had for much longer than is usual on the other side hang, and only those: long work is
// none where the other side's takes as long.
func TestMessagesThatHang(t *testing.T) {
	for what, c := range map[string]struct {
		usual, out time.Duration // of blue's oldest message, and of green's
		known      bool          // blue was seen to do any
		hanging    int64
	}{
		"as usual":                 {20 * time.Second, 50 * time.Second, true, 0},
		"three times as long":      {20 * time.Second, 61 * time.Second, true, 40},
		"short work, a while":      {0, 9 * time.Second, true, 0},
		"short work, that hangs":   {0, 11 * time.Second, true, 40},
		"nobody knows what is not": {0, time.Hour, false, 0},
	} {
		var s Series
		at := start
		read := func(done int64, usual, out time.Duration) {
			t.Helper()
			at = at.Add(time.Second)
			count := func(name string, done, open int64, out time.Duration) reading.Side {
				return reading.Side{Queue: &reading.Queue{Oldest: 2 * out}, Instances: []reading.Count{{
					Server: reading.Server{Name: name}, Requests: done, Open: open, Oldest: out}}}
			}
			add(t, &s, reading.Front{At: at, Split: reading.Split{Share: split.Whole / 2},
				Sides: [2]reading.Side{count("blue-1", done, 0, usual), count("green-1", 7, 40, out)}})
		}
		read(0, 0, 0)
		done := int64(0)
		if c.known {
			done = 100
			read(done, c.usual, 0)
		}
		read(done, 0, c.out)
		last := steps(&s, 0)
		if got := last[len(last)-1].Failing(split.Green); got != (evidence.Count{Bad: c.hanging, Of: c.hanging}) {
			t.Errorf("%s: %+v", what, got)
		}
		if waited, known := s.Waited(split.Blue); known != c.known || waited != 2*c.usual {
			t.Errorf("%s: blue's queue has had messages for %v, %v", what, waited, known)
		}
		text, err := json.Marshal(s)
		var again Series
		if err == nil {
			err = json.Unmarshal(text, &again)
		}
		if waited, known := again.Waited(split.Blue); err != nil || known != c.known || waited != 2*c.usual {
			t.Errorf("%s: written down and read it is %v, %v, %v", what, waited, known, err)
		}
	}
}

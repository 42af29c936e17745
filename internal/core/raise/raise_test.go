package raise

import (
	"fmt"
	"testing"
	"time"

	"vaiven/internal/core/split"
)

const s = time.Second

func TestTypicalIsTheMedian(t *testing.T) {
	for _, c := range []struct {
		earlier []time.Duration
		want    time.Duration
	}{
		{nil, 0},
		{[]time.Duration{4 * s}, 4 * s},
		{[]time.Duration{9 * s, 2 * s, 100 * s}, 9 * s},
		{[]time.Duration{4 * s, 1 * s, 2 * s, 90 * s}, 3 * s},
	} {
		if got := Typical(c.earlier); got != c.want {
			t.Errorf("Typical(%v) = %v, want %v", c.earlier, got, c.want)
		}
	}
}

func TestStuck(t *testing.T) {
	for _, c := range []struct {
		waited, typical time.Duration
		want            bool
	}{
		{time.Hour, 0, false},
		{3 * s, 200 * time.Millisecond, false}, // many times as long, but only seconds
		{6 * s, 200 * time.Millisecond, true},
		{80 * s, 30 * s, false},
		{91 * s, 30 * s, true},
	} {
		if got := Overdue(c.waited, c.typical); got != c.want {
			t.Errorf("Overdue(%v, %v) = %v", c.waited, c.typical, got)
		}
	}
}

func TestOverlapBeginsWithTheLaterSide(t *testing.T) {
	at := func(minute int) time.Time { return time.Date(2026, 11, 23, 21, minute, 0, 0, time.UTC) }
	if _, ok := Overlap([]time.Time{at(1)}, nil); ok {
		t.Error("one side alone overlaps")
	}
	since, ok := Overlap([]time.Time{at(3), at(1)}, []time.Time{at(30), at(20)})
	if !ok || !since.Equal(at(20)) {
		t.Errorf("overlap since %v, %v", since, ok)
	}
	if again, _ := Overlap([]time.Time{at(30), at(20)}, []time.Time{at(3), at(1)}); !again.Equal(since) {
		t.Error("it matters which side is which")
	}
	if cost := Cost(0.5, []time.Time{at(0), at(30), at(59)}, at(30)); cost != 0.25 {
		t.Errorf("one instance for half an hour at 0.5 costs %v", cost)
	}
}

// With more of the traffic there are more instances, and what was chosen does not change with that.
func TestGrown(t *testing.T) {
	choices := []Choice{{Part: "web", Instances: 2, Until: 2500, Then: 8}, {Part: "worker", Instances: 1},
		{Part: "mail", Instances: 1, Until: 5000, Then: 3}}
	for _, c := range []struct {
		part split.Share
		want string
		more bool
	}{
		{0, "[2 1 1]", false}, {2500, "[2 1 1]", false}, {2501, "[8 1 1]", true}, {5000, "[8 1 1]", true},
		{split.Whole, "[8 1 3]", true},
	} {
		grown, more := Grown(choices, c.part)
		var got []int
		for _, g := range grown {
			got = append(got, g.Instances)
		}
		if fmt.Sprint(got) != c.want || more != c.more {
			t.Errorf("with %v: %v, %v", c.part, got, more)
		}
		if again, more := Grown(grown, c.part); more || Wanted(again) != Wanted(grown) {
			t.Errorf("with %v again: %+v", c.part, again)
		}
	}
	if Wanted(choices) != 4 {
		t.Errorf("at first %d are wanted", Wanted(choices))
	}
}

// What takes three times as long as usual, and five seconds more, is overdue; what takes just that is not.
func TestWhatIsOverdue(t *testing.T) {
	const s = time.Second
	for _, c := range []struct {
		waited, typical time.Duration
		overdue         bool
	}{{30 * s, 10 * s, false}, {30*s + 1, 10 * s, true}, {6 * s, s, false}, {6*s + 1, s, true}, {time.Hour, 0, false},
		{15 * s, 5 * s, false}, {7500 * time.Millisecond, 2500 * time.Millisecond, false}} {
		if got := Overdue(c.waited, c.typical); got != c.overdue {
			t.Errorf("after %v, usually %v: %v", c.waited, c.typical, got)
		}
	}
}

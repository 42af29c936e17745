package front

import (
	"fmt"
	"testing"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Weights within a side follow what the plan says of single instances, by their name, their address or the host in it;
// going home to it as well.
func TestWeighByCapacity(t *testing.T) {
	sides := [2][]reading.Server{
		{{Name: "blue-1", Address: "10.1.0.1:80"}, {Name: "blue-2", Address: "10.1.0.2:80"}},
		{{Name: "green-1", Address: "10.1.0.3:80"}, {Name: "green-2", Address: "10.1.0.4:80"},
			{Name: "green-3", Address: "10.1.0.5:81"}},
	}
	carry := [2]plan.Capacity{{},
		{Each: 100, Of: map[string]float64{"green-1": 50, "10.1.0.4": 200, "10.1.0.5:80": 700}}}
	for _, c := range []struct {
		share split.Share
		want  string
	}{
		{0, "[[1 1] [0 0 0]]"},
		{split.Whole, "[[0 0] [64 256 128]]"},
		{5000, "[[7 7] [2 8 4]]"},
	} {
		w, of, err := Weigh(sides, carry, c.share, 256)
		if got := fmt.Sprint(of); err != nil || got != c.want || w.Reached[split.Green] != c.share {
			t.Errorf("%v on green: %s reach %v, %v; want %s", c.share, got, w.Reached, err, c.want)
		}
	}
}

// A control group gets as much as the other side, to the weight, and nothing beside one that gets nothing; where it is
// all that its side has, or the other has more than half, it is as the rest.
func TestWeighControl(t *testing.T) {
	of := func(out ...bool) (list []reading.Server) {
		for n, is := range out {
			list = append(list, reading.Server{Name: fmt.Sprint("blue-", n+1),
				Address: fmt.Sprint("10.1.0.", n+1, ":80"), Out: is, Control: n > 2})
		}
		return list
	}
	green := []reading.Server{{Name: "green-1", Address: "10.1.1.1:80"}, {Name: "green-2", Address: "10.1.1.2:80"}}
	for _, c := range []struct {
		share split.Share
		blue  []reading.Server
		want  string
	}{
		{0, of(false, false, false, false, false), "[[1 1 1 0 0] [0 0]]"},
		{1000, of(false, false, false, false, false), "[[16 16 16 3 3] [3 3]]"},
		{3000, of(false, false, false, false, false), "[[8 8 8 9 9] [9 9]]"},
		{1000, of(false, true, false, false, true), "[[8 0 8 2 0] [1 1]]"},
		{1000, of(true, true, true, false, false), "[[0 0 0 9 9] [1 1]]"},
		{1000, of(false, false, false, true, true), "[[6 6 6 0 0] [1 1]]"},
		{7500, of(false, false, false, false, false), "[[2 2 2 2 2] [15 15]]"},
		{split.Whole, of(false, false, false, false, false), "[[0 0 0 0 0] [1 1]]"},
	} {
		w, got, err := Weigh([2][]reading.Server{c.blue, green}, [2]plan.Capacity{}, c.share, 256)
		if err != nil || w.Reached[split.Green] != c.share {
			t.Errorf("%v: %v, %v", c.share, w.Reached, err)
		}
		if fmt.Sprint(got) != c.want {
			t.Errorf("%v of %+v: %v, want %s", c.share, c.blue, got, c.want)
		}
	}
	w, err := Within(of(false, false, false, false), 2000, 256)
	if err != nil || fmt.Sprint(w) != "[1 1 1 1]" {
		t.Errorf("within a side at 20 %%: %v, %v", w, err)
	}
	if w, err := Within(green, 2000, 256); err != nil || w != nil {
		t.Errorf("without a group: %v, %v", w, err)
	}
}

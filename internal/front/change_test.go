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

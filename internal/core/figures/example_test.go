package figures_test

import (
	"fmt"
	"time"

	"vaiven/internal/core/figures"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

func ExampleSeries() {
	var s figures.Series
	at := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	for n := range int64(11) { // a reading of the front each second
		r := reading.Front{At: at.Add(time.Duration(n) * time.Second), Tells: reading.Capabilities{Counts: true}}
		green := reading.Count{Server: reading.Server{Name: "green-1"}, Requests: 40 * n}
		r.Sides[split.Green].Instances = []reading.Count{green}
		if err := s.Add(r); err != nil {
			fmt.Println(err)
		}
	}
	f := s.Over(split.Green, at, 250*time.Millisecond)
	fmt.Println(f.Requests, f.Rate)
	// Output: 400 40
}

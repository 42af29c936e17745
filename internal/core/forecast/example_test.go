package forecast_test

import (
	"fmt"
	"time"

	"vaiven/internal/core/forecast"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

func ExampleQuestion_Weigh() {
	q := forecast.Question{Traffic: forecast.Traffic{Rate: 340, Failing: 0.001}, Target: split.Green, Keep: time.Hour}
	w := q.Weigh(route.Route{{Part: 500, Dwell: 2 * time.Minute}, {Part: split.Whole}})
	fmt.Println(len(w.Legs), w.Harm <= w.HarmAtOnce)
	// Output: 2 true
}

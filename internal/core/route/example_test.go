package route_test

import (
	"fmt"
	"time"

	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

func ExampleRoute_Forecast() {
	r := route.Route{{Part: 5 * split.Percent, Dwell: 2 * time.Minute}, {Part: split.Whole}}
	fmt.Println(r.Forecast(30*time.Minute, 0).Total)
	// Output: 32m0s
}

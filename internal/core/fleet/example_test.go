package fleet_test

import (
	"fmt"
	"time"

	"vaiven/internal/core/fleet"
)

func ExampleFleet_Course() {
	f := fleet.Fleet{AtOnce: 1, Members: []fleet.Member{{Name: "sailings", Needs: []fleet.Edge{{To: "fares"}}},
		{Name: "fares"}}}
	c := f.Course(f.Names(), map[string]time.Duration{"sailings": 10 * time.Minute, "fares": 5 * time.Minute})
	for _, t := range c.Turns {
		fmt.Println(t.Name, t.Begins, t.Ends())
	}
	// Output:
	// fares 0s 5m0s
	// sailings 5m0s 15m0s
}

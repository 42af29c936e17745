package engine_test

import (
	"fmt"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/plan"
)

func ExampleEngine() {
	now := time.Now()
	e := engine.New(&plan.Plan{Parts: []plan.Part{{Name: "web"}}}, crossing.State{}, now, engine.Memory{})
	_, err := e.Command(crossing.Moment{At: now, By: "marit"}, crossing.Resume{})
	fmt.Println(err, e.Orders())
	// Output: not now: not read []
}

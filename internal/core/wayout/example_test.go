package wayout_test

import (
	"fmt"

	"vaiven/internal/core/split"
	"vaiven/internal/core/wayout"
)

func ExampleList() {
	facts := wayout.Facts{Target: split.Green, Share: 2500, Proven: true, Rate: 40}
	facts.Sides[split.Blue] = wayout.Side{Known: true, Instances: 3, Bad: 1}
	facts.Sides[split.Green] = wayout.Side{Known: true, Instances: 3, Healthy: 3}
	fmt.Println(wayout.List(facts)[0].Do) // what helps most comes first
	// Output: forward
}

package plan_test

import (
	"fmt"

	"vaiven/internal/core/plan"
)

func ExampleExpand() {
	fmt.Println(plan.Expand("./run --listen {address}", map[string]string{"address": "127.0.0.1:8080"}))
	// Output: ./run --listen 127.0.0.1:8080
}

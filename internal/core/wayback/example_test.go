package wayback_test

import (
	"fmt"

	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
)

func ExampleJudge() {
	r := wayback.Judge(wayback.Facts{Side: split.Blue, Healthy: 0, Instances: 3, FrontRead: true})
	fmt.Println(r.State)
	// Output: closed
}

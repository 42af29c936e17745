package difference_test

import (
	"fmt"

	"vaiven/internal/core/difference"
)

func ExampleCompare() {
	fact := func(value string) []difference.Fact {
		return []difference.Fact{{Part: "web", Area: "environment", Name: "REGION", Value: value}}
	}
	report := difference.Compare([2][]difference.Fact{fact("north"), fact("south")}, nil, difference.Names{})
	for _, d := range report.List {
		fmt.Println(d.Name, d.Value)
	}
	// Output: REGION [north south]
}

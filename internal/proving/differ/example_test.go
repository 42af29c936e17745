package differ_test

import (
	"context"
	"fmt"

	"vaiven/internal/core/plan"
	"vaiven/internal/proving/differ"
	"vaiven/internal/stack"
)

func ExampleCompare() {
	var p *plan.Plan
	var standing *stack.Set
	report := differ.Compare(context.Background(), differ.Question{Plan: p, Standing: standing})
	fmt.Println(len(report.List))
}

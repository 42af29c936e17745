package prove_test

import (
	"context"
	"fmt"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/proving/prove"
	"vaiven/internal/stack"
)

func ExampleProve() {
	var p *plan.Plan
	var set *stack.Set
	made, _ := prove.Prove(context.Background(), prove.Question{Plan: p, Standing: set, Target: split.Green})
	fmt.Println(made.Pass())
}

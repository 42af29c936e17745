package guard_test

import (
	"fmt"

	"vaiven/internal/core/figures"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
)

func ExampleGuards() {
	guards := guard.New([]plan.Guard{{Name: "failing", Watch: plan.Failing, Margin: 0.005, Find: 0.05}}, guard.Terms{})
	list := guards.Evaluate(guard.Facts{Series: &figures.Series{}}) // as time passes, whatever could be read
	alarm, tripped := guard.Gravest(list, split.Green, nil)
	fmt.Println(alarm.Guard, tripped)
	// Output:  false
}

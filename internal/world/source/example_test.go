package source_test

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/source"
)

func ExampleSources_Read() {
	p := &plan.Plan{Service: "sailings", Sources: plan.Sources{Command: plan.Server{Within: 5 * time.Second}}}
	rule := plan.Guard{Name: "seats", Watch: plan.Lower, Figure: plan.Figure{Name: "seats", From: plan.FromCommand,
		Query: plan.Query{Words: []string{"sh", "-c", "test $VAIVEN_SIDE = blue && echo 42"}}}}
	r := source.New(p, secret.Values{}).Read(context.Background(), rule,
		[]source.Subject{{Side: split.Blue}, {Side: split.Green}})
	for _, told := range r.Of {
		fmt.Println(told.Side, told.Values, cmp.Or(told.Said, "is told"))
	}
	// Output:
	// blue map[seats:42] is told
	// green map[] exit status 1
}

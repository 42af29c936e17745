package crossing_test

import (
	"fmt"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

func ExampleDecide() {
	asked := crossing.State{Seq: 7, Number: 1, Stage: crossing.Proving, Proven: true, Target: split.Green, Leg: -1,
		Route:    route.Route{{Part: 500}, {Part: split.Whole}},
		Question: crossing.Question{ID: 7, Is: crossing.AskStart{}}}
	events, err := crossing.Decide(asked, crossing.Moment{By: "marit", Seen: 7}, crossing.Yes{Question: 7})
	for _, e := range events {
		asked = crossing.Apply(asked, e)
	}
	fmt.Println(asked.Orders()[0], err)
	// Output: shift to 5 % (#9) <nil>
}

package headless_test

import (
	"context"
	"fmt"

	"vaiven/internal/keeper"
	"vaiven/internal/people/headless"
)

func ExampleCross() {
	var client keeper.Client
	sum, err := headless.Cross(context.Background(), client, headless.Options{Version: "4.3.0", By: "marit",
		Yes: headless.ApprovedAll})
	fmt.Println(sum.Outcome, err)
}

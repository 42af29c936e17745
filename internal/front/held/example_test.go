package held_test

import (
	"context"
	"fmt"

	"vaiven/internal/front"
	"vaiven/internal/front/embedded"
	"vaiven/internal/front/held"
)

func ExampleTry() {
	open := func() front.Driver { return embedded.Dial("front.sock") }
	ask := func(context.Context) (failed int64, last string) { return 0, "" }
	results, err := held.Try(context.Background(), open, ask, false)
	for _, r := range results {
		fmt.Println(r.Rule, r.Err)
	}
	fmt.Println(err)
}

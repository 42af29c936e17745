package permit_test

import (
	"context"
	"errors"
	"fmt"

	"vaiven/internal/world/permit"
)

func ExampleAsk() {
	ctx := permit.With(context.Background(), func(context.Context) error { return errors.New("the route is frozen") })
	fmt.Println(permit.Ask(ctx)) // before each step on the world
	// Output: the route is frozen
}

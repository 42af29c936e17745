package front_test

import (
	"context"
	"errors"
	"fmt"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

func ExampleDriver() {
	var f front.Driver // any one: see all.Open
	var ctx context.Context
	r, err := f.Read(ctx)
	if err == nil {
		_, err = f.Set(ctx, 25*split.Percent, front.AsRead(r))
	}
	if errors.Is(err, front.ErrChanged) { // by somebody else since it was read: nothing was done
		_, err = f.Home(ctx, front.Homing{Side: split.Blue, By: "marit"}) // holds, whatever is under way
	}
	fmt.Println(err)
}

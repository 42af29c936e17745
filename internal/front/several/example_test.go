package several_test

import (
	"context"
	"fmt"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/several"
)

func ExampleNew() {
	var a, b front.Driver
	f := several.New([]several.Member{{Name: "haproxy at 10.1.0.5:80", Driver: a},
		{Name: "nginx at 10.1.0.6:80", Driver: b}})
	_, err := f.Home(context.Background(), front.Homing{Side: split.Blue}) // one that hangs holds up no other
	fmt.Println(err)
}

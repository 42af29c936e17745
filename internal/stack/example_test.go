package stack_test

import (
	"context"
	"fmt"

	"vaiven/internal/core/split"
	"vaiven/internal/stack"
)

func ExampleDriver() {
	var driver stack.Driver // any one: see all.Open
	var ctx context.Context
	err := driver.Raise(ctx, split.Green, stack.Build{Version: "4.3.0", ID: "b92f", Instances: 3})
	if err != nil {
		return
	}
	instances, err := driver.List(ctx, split.Green)
	for _, i := range instances {
		fmt.Println(i.Name, i.Address, i.Running, i.Exit, err)
	}
}

package all_test

import (
	"context"
	"fmt"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/stack/all"
	"vaiven/internal/world/secret"
)

func ExampleOpen() {
	var p *plan.Plan
	set, err := all.Open(p, secret.Values{}, "/usr/bin/vaiven-relay", nil)
	if err != nil {
		return
	}
	defer set.Close()
	list, err := set.List(context.Background(), split.Green)
	fmt.Println(len(list), err)
}

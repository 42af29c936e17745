package versions_test

import (
	"context"
	"fmt"

	"vaiven/internal/core/plan"
	"vaiven/internal/world/versions"
)

func ExampleOpen() {
	source, err := versions.Open(plan.Versions{Kind: plan.VersionFolder, Where: "/srv/builds"}, "", "")
	if err == nil {
		list, err := source.List(context.Background()) // newest first
		fmt.Println(len(list), err)
	}
}

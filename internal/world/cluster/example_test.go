package cluster_test

import (
	"context"
	"fmt"

	"vaiven/internal/core/plan"
	"vaiven/internal/world/cluster"
)

func ExampleClient() {
	ctx := context.Background()
	c, err := cluster.Open(plan.API{File: "kubeconfig", Namespace: "ferries"})
	if err != nil {
		return
	}
	pods, err := c.List(ctx, cluster.Pods, "app=sailings")
	fmt.Println(len(pods), err)
}

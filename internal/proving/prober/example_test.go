package prober_test

import (
	"context"
	"fmt"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/proving/door"
	"vaiven/internal/proving/prober"
	"vaiven/internal/world/secret"
)

func ExampleProber() {
	p := prober.New(prober.Config{Fronts: []string{"127.0.0.1:8080"}, Path: "/sailings", Rate: 20,
		Door: door.New(plan.Entrance{}, secret.Values{}), Timeout: 2 * time.Second, Status: 200})
	go p.Run(context.Background())
	fmt.Println(p.Report(time.Now()).LongestGap)
}

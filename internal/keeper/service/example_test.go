package service_test

import (
	"context"
	"fmt"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/service"
	"vaiven/internal/world/secret"
)

func ExampleOpen() {
	ctx := context.Background()
	var p *plan.Plan
	s, err := service.Open(ctx, p, secret.Values{}, "marit", keeper.Memory{})
	if err != nil {
		return
	}
	defer s.Close()
	_, err = s.Keeper.Do(ctx, keeper.Command{Act: crossing.Begin{Version: "4.3.0"}})
	fmt.Println(err)
}

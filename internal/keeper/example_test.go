package keeper_test

import (
	"context"
	"fmt"

	"vaiven/internal/core/crossing"
	"vaiven/internal/keeper"
)

func ExampleKeeper() {
	ctx := context.Background()
	k, err := keeper.New(ctx, keeper.Config{}) // with plan, front, stacks and logbook
	if err != nil {
		return
	}
	go k.Run(ctx)
	_, err = k.Do(ctx, keeper.Command{Act: crossing.Begin{Version: "4.3.0"}, By: "marit"})
	for s := range k.Snapshots(ctx) {
		fmt.Println(s.Crossing, err)
	}
}

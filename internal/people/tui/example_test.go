package tui_test

import (
	"context"
	"fmt"

	"vaiven/internal/keeper"
	"vaiven/internal/people/tui"
)

func ExampleRun() {
	var client keeper.Client
	final, err := tui.Run(context.Background(), tui.Config{Client: client, By: "marit", Version: "4.3.0"})
	fmt.Println(final.Crossing, err)
}

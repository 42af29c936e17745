package api_test

import (
	"context"
	"fmt"
	"net"

	"vaiven/internal/core/crossing"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/api"
)

func ExampleDial() {
	dial := func(ctx context.Context) (net.Conn, error) {
		return new(net.Dialer).DialContext(ctx, "unix", "/var/lib/vaiven/sailings/keeper.sock")
	}
	c := api.Dial(api.Config{Dial: dial, By: "marit"})
	_, err := c.Do(context.Background(), keeper.Command{Act: crossing.Freeze{}})
	fmt.Println(err)
}

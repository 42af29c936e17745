package broker_test

import (
	"context"
	"fmt"

	"vaiven/internal/world/broker"
	"vaiven/internal/world/place"
)

func ExampleClient() {
	ctx := context.Background()
	b := broker.New(place.Local{}, broker.Config{Address: "127.0.0.1:5672", Management: "http://127.0.0.1:15672",
		User: "vaiven"})
	b2 := broker.Binding{Source: "bookings", Destination: "bookings-next", Kind: broker.ToQueue}
	if err := b.Do(ctx, broker.Bind(b2)); err != nil {
		fmt.Println(err)
	}
}

package link_test

import (
	"context"

	"vaiven/internal/world/link"
)

func ExampleDial() {
	client, err := link.Dial(context.Background(), link.Login{User: "deploy", Address: "10.1.0.5:22"})
	if err == nil {
		defer client.Close()
	}
}

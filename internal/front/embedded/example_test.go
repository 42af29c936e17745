package embedded_test

import (
	"context"
	"fmt"

	"vaiven/internal/front/embedded"
)

func ExampleServer() {
	srv, err := embedded.NewServer(embedded.Config{Listen: "127.0.0.1:8080", Socket: "front.sock", State: "front.json"})
	if err == nil {
		err = srv.Run(context.Background())
	}
	fmt.Println(err)
}

package door_test

import (
	"context"
	"fmt"
	"net/http"

	"vaiven/internal/core/plan"
	"vaiven/internal/proving/door"
	"vaiven/internal/world/secret"
)

func ExampleDoor() {
	d := door.New(plan.Entrance{}, secret.Values{})
	client := http.Client{Transport: d.Transport(true)}
	r, err := d.Request(context.Background(), http.MethodGet, "10.1.0.1:443", "/sailings")
	if err == nil {
		_, err = client.Do(r)
	}
	fmt.Println(err)
}

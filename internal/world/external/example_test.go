package external_test

import (
	"context"
	"fmt"
	"time"

	"vaiven/internal/world/external"
)

func ExampleAsk() {
	type answer struct {
		Instances []string `json:"instances"`
	}
	plain := func(said string) string { return said }
	a, err := external.Ask[answer](context.Background(), []string{"./yard"}, "list", struct{}{}, 10*time.Second, plain)
	fmt.Println(a.Instances, err)
}

package trust_test

import (
	"context"
	"fmt"

	"vaiven/internal/world/place"
	"vaiven/internal/world/trust"
)

func ExampleFiles_Config() {
	f := trust.Files{CA: "/etc/vaiven/missing.pem"}
	_, err := f.Config(context.Background(), place.Local{}, "sailings.internal")
	fmt.Println(err)
	// Output: authorities: open /etc/vaiven/missing.pem: no such file or directory
}

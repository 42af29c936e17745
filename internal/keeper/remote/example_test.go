package remote_test

import (
	"fmt"

	"vaiven/internal/keeper/remote"
)

func ExampleParse() {
	at, ok := remote.Parse("marit@quay2:/srv/sailings.yaml")
	fmt.Println(at.Plan, ok)
	// Output: /srv/sailings.yaml true
}

package delivered_test

import (
	"fmt"

	"vaiven/internal/world/delivered"
)

func ExampleManifest() {
	m, err := delivered.Take("/srv/builds/4.3.0") // remembers each file of it
	if err == nil {
		fmt.Println(m.Differs()) // what is not as it was
	}
}

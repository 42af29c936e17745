package reading_test

import (
	"fmt"

	"vaiven/internal/core/reading"
)

func ExampleInstance_Values() {
	i := reading.Instance{Name: "green-1", Address: "10.1.0.5:8080", Version: "4.3.0"}
	fmt.Println(i.Values("sailings")["port"])
	// Output: 8080
}

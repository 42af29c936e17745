package raise_test

import (
	"fmt"
	"time"

	"vaiven/internal/core/raise"
)

func ExampleTypical() {
	earlier := []time.Duration{9 * time.Second, 14 * time.Second, 11 * time.Second}
	fmt.Println(raise.Typical(earlier))
	// Output: 11s
}

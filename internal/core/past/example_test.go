package past_test

import (
	"fmt"

	"vaiven/internal/core/past"
)

func ExampleDigestIn() {
	d, err := past.DigestIn([]byte("For the record: crossing 12, 40 events up to number 57, SHA-256 " +
		"3a7bd3e2360a3d29eea436fcfb7e44c735d117c42d1c1835420b6b9942dd4f1b"))
	fmt.Println(d.Crossing, d.Events, d.UpTo, err)
	// Output: 12 40 57 <nil>
}

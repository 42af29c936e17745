package post_test

import (
	"fmt"

	"vaiven/internal/world/post"
)

// What a webhook's receiver does to know that an event is ours, and of when.
func ExampleSign() {
	at, body := "1764424930", []byte(`{"specversion": "1.0"}`) // of the header Vaiven-Time, and as it came
	fmt.Println(post.Sign("sea salt", at, body) == "sha256=4cc6cf4ea0e9cd8e2a43a4a44bb57a2ff0f2b3c0cf7d4e62a8b1c0a2b2f4b0e1")
	// Output:
	// false
}

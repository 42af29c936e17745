package tryout_test

import (
	"context"
	"fmt"
	"strings"

	"vaiven/internal/core/split"
	"vaiven/internal/plan/tryout"
)

func ExampleRead() {
	key, err := tryout.ParseKey("client")
	if err != nil {
		return
	}
	log := strings.NewReader(`127.0.0.1 - - [01/Jun/2026:09:00:00 +0000] "GET /sailings HTTP/1.1" 200 512`)
	r, err := tryout.Read(context.Background(), "access.log", log, []tryout.Key{key}, []split.Share{2500})
	fmt.Println(len(r.Keys), err)
	// Output: 1 <nil>
}

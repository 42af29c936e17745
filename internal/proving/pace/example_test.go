package pace_test

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"

	"vaiven/internal/proving/pace"
)

func ExampleEach() {
	one := make(chan struct{}, 1) // at a time
	room := func(int) chan struct{} { return one }
	var sum atomic.Int64
	pace.Each(context.Background(), 3, time.Millisecond, room, func(k int) { sum.Add(int64(k)) })
	fmt.Println(sum.Load())
	// Output: 3
}

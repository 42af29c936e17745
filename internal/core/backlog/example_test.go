package backlog_test

import (
	"fmt"
	"time"

	"vaiven/internal/core/backlog"
)

func ExampleLine() {
	at := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	var l backlog.Line
	l.Add(at, 10, 0)                  // ten have come so far, and none waits
	l.Add(at.Add(time.Minute), 16, 6) // six more, and nobody took any
	fmt.Println(l.Oldest(at.Add(time.Minute)).Round(time.Second))
	// Output: 50s
}

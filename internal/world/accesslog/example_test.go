package accesslog_test

import (
	"fmt"

	"vaiven/internal/world/accesslog"
)

func ExampleParser() {
	line := `127.0.0.1 - - [01/Jun/2026:09:00:00 +0000] "GET /sailings HTTP/1.1" 200 512`
	var p accesslog.Parser
	var e accesslog.Entry
	if p.Parse([]byte(line), &e) {
		fmt.Println(string(e.Client))
	}
	// Output: 127.0.0.1
}

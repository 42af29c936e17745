package scrape_test

import (
	"fmt"
	"strings"

	"vaiven/internal/world/scrape"
)

func ExampleRead() {
	page, err := scrape.Read(strings.NewReader("bookings_total{kind=\"berth\"} 4\nbookings_total{kind=\"deck\"} 7\n"))
	v, found := page.Sum("bookings_total", map[string]string{"kind": "berth"})
	fmt.Println(v, found, err)
	// Output: 4 true <nil>
}

package pairs_test

import (
	"context"
	"fmt"

	"vaiven/internal/proving/pairs"
)

func ExampleCompare() {
	report := pairs.Compare(context.Background(), pairs.Config{Rate: 40, Repeat: 5,
		Sides: [2][]string{{"127.0.0.1:8080"}, {"127.0.0.1:8081"}}})
	fmt.Println(report)
}

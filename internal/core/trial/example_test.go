package trial_test

import (
	"fmt"
	"time"

	"vaiven/internal/core/split"
	"vaiven/internal/core/trial"
)

func ExampleTrial() {
	t := trial.New([]split.Share{500, 2500, 5000})
	at := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	for n := range 10_000 {
		client := fmt.Sprint("client ", n%400)
		t.Add(at.Add(time.Duration(n)*time.Second), split.PlaceOf(client), uint64(n%400))
	}
	fmt.Println(len(t.Result().Shares))
	// Output: 3
}

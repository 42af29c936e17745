package evidence_test

import (
	"fmt"

	"vaiven/internal/core/evidence"
)

func ExampleWorse() {
	w := evidence.NewWorse(0.005, 4200) // is the rate on trial higher by more than half a point?
	for range 40 {
		w.Add(evidence.Block{Live: evidence.Count{Bad: 1, Of: 500}, Trial: evidence.Count{Bad: 3, Of: 30}})
	}
	fmt.Println(w.Sure(0.25) > 0.99) // for a guard that may spend a quarter of the error allowed
	// Output: true
}

package metrics_test

import (
	"context"
	"fmt"
	"net/http/httptest"
	"strings"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/reading"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/metrics"
)

// rests is a keeper of a service that is not crossing.
type rests struct{}

func (rests) Now() keeper.Snapshot                                     { return keeper.Snapshot{} }
func (rests) FrontRead() reading.Front                                 { return reading.Front{} }
func (rests) Outcomes(context.Context) (map[crossing.Stage]int, error) { return nil, nil }

func ExampleHandler() {
	w := httptest.NewRecorder()
	metrics.Handler("sailings", rests{}).ServeHTTP(w, httptest.NewRequest("GET", "/metrics", nil))
	for line := range strings.Lines(w.Body.String()) {
		if strings.HasPrefix(line, "vaiven_frozen") {
			fmt.Print(line)
		}
	}
	// Output:
	// vaiven_frozen{service="sailings"} 0
}

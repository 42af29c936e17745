package survey_test

import (
	"context"
	"fmt"
	"time"

	"vaiven/internal/plan/survey"
	"vaiven/internal/world/place"
)

func ExampleRead() {
	found, err := survey.Read(context.Background(),
		survey.Question{On: place.Local{}, Target: "/run/haproxy/admin.sock",
			For: time.Minute})
	if err == nil {
		fmt.Print(found.Plan(time.Now()))
	}
}

package check_test

import (
	"context"
	"fmt"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/world/check"
	"vaiven/internal/world/place"
)

func ExampleTarget() {
	i := reading.Instance{Name: "green-1", Address: "127.0.0.1:8080"}
	t := check.Target{From: place.Local{}, Values: i.Values("sailings")}
	r := t.Read(context.Background(), plan.Check{What: plan.TCP{Address: "{address}"}, Within: time.Second})
	fmt.Println(r.Found)
}

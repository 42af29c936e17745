package place_test

import (
	"context"

	"vaiven/internal/world/place"
)

func ExampleLocal() {
	conn, err := place.Local{}.Dial(context.Background(), "tcp", "db.internal:5432")
	if err == nil {
		defer conn.Close()
	}
}

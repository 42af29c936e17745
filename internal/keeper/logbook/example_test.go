package logbook_test

import (
	"context"
	"fmt"

	"vaiven/internal/keeper/logbook"
)

func ExampleBook() {
	ctx := context.Background()
	book, err := logbook.Open("logbook.db")
	if err != nil {
		return
	}
	defer book.Close()
	state, unknown, err := book.Load(ctx) // a fold over the events
	fmt.Println(state, unknown, err)
}

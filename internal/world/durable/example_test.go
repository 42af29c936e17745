package durable_test

import (
	"fmt"

	"vaiven/internal/world/durable"
)

func ExampleWriteFile() {
	if err := durable.WriteFile("front.json", []byte("{}")); err != nil {
		fmt.Println(err)
	}
}

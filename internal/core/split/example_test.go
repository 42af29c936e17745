package split_test

import (
	"fmt"

	"vaiven/internal/core/split"
)

func ExamplePlaceOf() {
	place := split.PlaceOf("client 4711")
	before, after := place.Side(25*split.Percent), place.Side(50*split.Percent)
	fmt.Println(before != split.Green || after == split.Green) // who is on green stays there while green grows
	// Output: true
}

package planfile_test

import (
	"errors"
	"fmt"

	"vaiven/internal/plan/planfile"
	"vaiven/internal/world/section"
)

func ExampleParse() {
	_, err := planfile.Parse("sailings.yaml", []byte("servce: sailings\n"))
	var problems section.Problems
	if errors.As(err, &problems) {
		fmt.Println(problems.List[0].Line) // every mistake, each with its line and what would be right
	}
	// Output: 1
}

package cells_test

import (
	"fmt"
	"strings"

	"vaiven/internal/people/tui/cells"
)

func ExampleGrid() {
	g := cells.New(12, 1)
	g.Text(2, 0, "blue", cells.Style{})
	fmt.Println(strings.TrimSpace(g.String()))
	// Output: blue
}

package theme_test

import (
	"vaiven/internal/core/split"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/theme"
)

func ExampleNew() {
	t := theme.New(true)
	g := cells.New(12, 1)
	g.Text(0, 0, "BLUE", t.Side(split.Blue).In(true))
}

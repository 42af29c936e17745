package tui

import (
	"vaiven/internal/tui/crossing"
	"vaiven/internal/tui/differences"
	"vaiven/internal/tui/frame"
	"vaiven/internal/tui/gathered"
	"vaiven/internal/tui/proof"
	"vaiven/internal/tui/splitkeys"
	"vaiven/internal/tui/weighing"
)

// pages are the views of the screen, each with the key that turns to it; the first is shown at
// the beginning. A new one is a package and a line here.
var pages = []struct {
	key, name string
	new       func() frame.Page
}{
	{"c", "crossing", crossing.New},
	{"p", "proof", proof.New},
	{"d", "differences", differences.New},
	{"t", "who goes where", splitkeys.New},
	{"r", "route", weighing.New},
	{"e", "evidence", gathered.New},
}

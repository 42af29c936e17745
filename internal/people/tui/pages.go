package tui

import (
	"vaiven/internal/people/tui/crossing"
	"vaiven/internal/people/tui/differences"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/people/tui/gathered"
	"vaiven/internal/people/tui/logged"
	"vaiven/internal/people/tui/proof"
	"vaiven/internal/people/tui/splitkeys"
	"vaiven/internal/people/tui/weighing"
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
	{"l", "logbook", logged.New},
}

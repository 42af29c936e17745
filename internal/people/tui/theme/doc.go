// Package theme holds every style of the screens, for dark and for light
// terminals. No colour is named anywhere else.
//
//	t := theme.New(true)
//	grid.Text(0, 0, "BLUE", t.Side(split.Blue).In(true))
//
// Colour never carries a meaning alone: position and letters say the same.
package theme

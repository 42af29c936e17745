// Package change shows what a change of the share would do at the front, before it is
// made: in a box over whatever view is there.
//
//	box := change.New(t, c).View(w, h)
package change

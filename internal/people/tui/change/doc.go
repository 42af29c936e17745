// Package change says what a change of the share would do at the front, before it is made.
//
//	title, lines := change.Title(c), change.Lines(t, c, width)
package change

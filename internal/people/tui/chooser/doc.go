// Package chooser is the list of versions that a raise chooses from, newest first
// and filtered while typing.
//
// It draws a box for the root to lay over a view.
package chooser

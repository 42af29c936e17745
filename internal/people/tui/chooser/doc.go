// Package chooser is the list of versions that a raise chooses from, newest first
// and filtered while typing.
//
//	m := chooser.New(theme.New(true)).SetOffer(offer)
//	m = m.Typed(key)
//	version, ok := m.Chosen()
//
// It draws a box for the root to lay over a view.
package chooser

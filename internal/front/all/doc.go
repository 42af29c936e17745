// Package all opens the front of a plan, whatever it is.
//
// Nothing is asked before the first call. To add a kind of front, see CONTRIBUTING.md.
package all

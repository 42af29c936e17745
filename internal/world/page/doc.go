// Package page serves a page or two over HTTP beside everything else, at an address of its own: bounded, for people and
// programs that ask seldom.
package page

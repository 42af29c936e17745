// Package remote reaches the keeper of a plan that is on another machine, over SSH: its socket is
// forwarded, and no port is opened there. Where no keeper runs that machine's own vaiven is asked
// to start one.
//
// What needs no screen and no keeper is run there as it is, by [Machine.Run].
package remote

// Package tui is the screen: it shows a keeper's snapshots and turns keys into
// commands for it.
//
// Only the root is a Bubble Tea model; the views below it turn snapshots into
// text. Update and View do no I/O and read no clock: time comes in with messages,
// and everything that has to be finished is the keeper's.
package tui

// Package backlog computes how long messages wait in a queue from nothing but how many have come and how many are
// there, so that it needs no time stamp in them.
//
// It reads no clock.
package backlog

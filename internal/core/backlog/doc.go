// Package backlog computes how long messages wait in a queue from nothing but how many have come and how many are
// there, so that it needs no time stamp in them.
//
//	var l backlog.Line
//	l.Add(now, came, there)
//	age := l.Oldest(now)
//
// It reads no clock.
package backlog

// Package engine is the judgement on one service: it owns the state, is given commands,
// reports, readings and the time, and gives back the events that then have happened, what
// has to be done, and the view.
//
// It decides by package crossing, and judges guards, way back, split and raises as time
// passes, whatever could be read. It has no goroutine, no clock, no I/O and no sentence.
// An engine is not safe for concurrent use.
package engine

// Package crossing is one release as a state machine: raise the spare side,
// prove it, shift the traffic leg by leg, keep the old side, settle; or roll
// back, or call off.
//
// Three functions are all of it. [Decide] takes a state and an input (what a person asks
// for, a report, an observation) and says which events come of it, or refuses. [Apply]
// takes a state and an event and gives the next state, and cannot fail. [State.Orders]
// says what somebody has to do now.
//
// The events are what happened, and what a logbook keeps: folding Apply over them gives
// the state again, and with it what is unfinished. Two promises hold for every sequence
// of inputs: traffic is moved towards the spare side only while that side is proven, and
// while traffic is on it, going back always leads to an order that takes all of it home.
//
// The package is pure. It performs nothing, keeps no time, and trusts the reports it gets
// about the world over its own memory.
package crossing

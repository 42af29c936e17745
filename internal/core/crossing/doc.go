// Package crossing is one release as a state machine: raise the spare side,
// prove it, shift the traffic leg by leg, keep the old side, settle; or roll
// back, or call off.
//
// [Step] takes a state and an event and returns the next state and the effects
// that somebody now has to perform:
//
//	state, effects, err := crossing.Step(state, crossing.Event{
//		At: now, By: "marit", What: crossing.NextAsked{}})
//
// Time comes in with events, and equal inputs give equal outputs, so replaying
// a recorded crossing gives the same states. Two promises hold for every
// sequence of events: traffic is moved towards the spare side only while that
// side is proven, and while traffic is on it, [BackAsked] always leads to an
// effect that takes all of it home.
//
// The package is pure. It performs nothing, retries nothing by itself but on
// [Tick], and trusts the reports it gets about the world over its own memory.
package crossing

// Package words makes all sentences that Vaiven says of a service: of questions, freezes,
// troubles, refusals, guards, the way back, events. Screens, commands and the logbook take
// them from here, so that one thing is said in one way.
//
// It is given values and returns text; it reads nothing and knows no clock.
package words

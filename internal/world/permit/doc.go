// Package permit carries with a context the question whether what was ordered may still be done.
//
// An order is given once and done in steps, which may take long: a hook, a drain, a stop, a start, a change. Whoever
// takes a step asks before it. A context that was cancelled says the same later, and only to those who wait.
package permit

// Package overssh makes a front of one that stands on another machine: it is steered over a connection
// that is kept, and going home tries every way there is at once.
//
// A connection that was cut off says nothing for a long time. So going home does not wait for it:
// it makes others beside, again and again, and the first that comes through is enough. That it is
// done twice does no harm.
package overssh

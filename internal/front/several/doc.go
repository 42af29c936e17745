// Package several makes one front of two or more that stand before the same service:
// all are set, in order, or put back, and the one that did not follow is named.
//
// Going home is told to all at once, and does not wait for one that does not answer to
// tell the others. The package knows no proxy.
package several

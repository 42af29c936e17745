// Package parts takes snapshots apart, and puts them together again: what is told of a service again and again, over
// the socket and in recordings, is the parts that have changed.
package parts

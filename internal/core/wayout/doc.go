// Package wayout weighs what can be done when a side that gets requests does not serve as it
// should: send everything forward, hold, or take everything home, by how many requests come
// to nothing with each.
//
// The package is pure.
package wayout

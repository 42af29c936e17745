// Package clients counts, for fronts whose key keeps clients together, how many clients turn bad of those that are at
// risk: a thousand requests of one client that fail together are no more evidence than one.
package clients

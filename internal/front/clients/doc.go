// Package clients counts each client once, by its first answer, for fronts whose key keeps clients
// together: a thousand requests of one client that fail together are no more evidence than one.
package clients

// Package door makes requests at a front as its users make them: with their scheme, their host name,
// over TLS with what that needs, in HTTP/2 where the front offers it.
package door

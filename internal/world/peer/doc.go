// Package peer finds out who is at the other end of a Unix socket: the user, by number and name, and the Unix groups,
// as the kernel noted them when the connection was made. Nobody can say them of themselves.
package peer

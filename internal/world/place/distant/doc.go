// Package distant is a machine that is reached over SSH, as a place: whatever is done there is
// done by the shell of whoever logs in, or over a connection that the server forwards.
//
// The connection is made when it is first needed, and made anew when it was lost. Nothing waits for
// a machine that does not answer any longer than its context lasts.
package distant

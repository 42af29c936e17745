// Package keeper has a service's crossing done: it performs what its engine orders, reads
// front and stacks, writes the logbook, and tells its clients. It judges nothing.
//
// Clients send commands and receive snapshots and events, all of them plain
// values that can be serialised; [Client] is the whole of what they may use.
//
// What is ordered is done when the order is in the logbook, with one exception: going
// home is done first and recorded after, because safety must not wait for a disk. Logbook
// and log are written beside the loop, so that a disk that hangs holds up nothing else. When
// the keeper starts in the middle of a crossing it reads front and stacks and believes them
// over its notes.
package keeper

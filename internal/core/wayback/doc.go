// Package wayback judges whether a rollback would work now, and how long it
// would take.
//
// The package is pure. It judges what was read; that the readings are fresh is
// part of the facts. It never prevents a rollback: one is tried in any state.
package wayback

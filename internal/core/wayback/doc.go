// Package wayback judges whether a rollback would work now, and how long it
// would take.
//
//	r := wayback.Judge(wayback.Facts{Side: split.Blue, Healthy: 3, Instances: 3, FrontRead: true})
//	r.State // wayback.Open
//
// The package is pure. It judges what was read; that the readings are fresh is
// part of the facts. It never prevents a rollback: one is tried in any state.
package wayback

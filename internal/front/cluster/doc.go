// Package cluster steers what an orchestrator divides requests by: the weights of an HTTPRoute, or the selector of a
// Service.
//
// Every change is a JSON Patch that tests what was read, so that nobody's change is written over; going home tests
// nothing. A change is accepted before it is so: it is in force when the route's status has seen it, or when the
// endpoint slices list those who are to serve. Who is on a side is told by labels on the pods.
package cluster

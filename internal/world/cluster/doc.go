// Package cluster asks an orchestrator's API, with the rights that somebody has.
//
// Connections are made through it to a pod ([Client.Dial]) and from inside one ([Client.DialFrom]).
//
// Errors say what the API said, and wrap what callers branch on.
package cluster

// Package api is how screens and commands talk to a keeper that is a process of its own: HTTP/1.1
// and JSON over a Unix socket, the same in meaning as in one process.
//
// [Client] is a [keeper.Client]. What it reads again and again has a cursor: a client that
// connects again misses no event and gets none twice, and of a view it is sent what has changed.
// docs/keeper.md and docs/keeper.openapi.yaml describe the wire for other programs; a test holds
// them true.
package api

// Package testkit holds what tests share: golden files, seeds for properties, and
// waiting for something to become true.
//
//	testkit.Golden(t, "crossing-80x24", got) // go test ./internal/people/tui/crossing -update rewrites it
//
// It asserts nothing by itself beyond that, and no program imports it.
package testkit

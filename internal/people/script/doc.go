// Package script writes values for scripts, in the one shape that docs/json.md describes: each
// value is an object of its own with a schema number and a kind, each kind of value has one unit,
// and no name or state has a space in it.
//
// Times that last are seconds, in fields whose names end in _s; moments are RFC 3339. A share is
// in percent, of green and of the new side, the side that is crossed to. What is known of both
// sides is an object of blue and green. What is empty is left out. Schema describes the same as a
// JSON Schema, from the same types.
package script

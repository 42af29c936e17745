// Package difference compares what is known of the two sides.
//
// What is known arrives as facts: an area, a name, a value. Values that are
// secret are compared and never shown. What the plan declares as meant is marked,
// and stands behind the rest. The package is pure; package differ gathers the
// facts.
package difference

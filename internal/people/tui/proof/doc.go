// Package proof is the view that answers: is the spare side good?
//
// Checks stand in rows and instances in columns, part by part; below the grid the
// chosen reading stands in full. It turns a snapshot, the time and its own cursor
// into text; keys are the root's.
package proof

// Package proof is the view that answers: is the spare side good?
//
//	m := proof.Model{}.In(frame.Frame{Theme: theme.New(true), W: 142, H: 38, S: snapshot, Now: now})
//	m.View()
//
// Checks stand in rows and instances in columns, part by part; below the grid the
// chosen reading stands in full. It turns a snapshot, the time and its own cursor
// into text; keys are the root's.
package proof

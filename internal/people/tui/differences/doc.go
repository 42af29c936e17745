// Package differences is the view that answers: what differs between the sides?
//
// What was not meant stands first, blue's value on the left and green's on the
// right; below it the chosen one in full. It turns a snapshot, the time and its own
// cursor into text; keys are the root's.
package differences

// Package cells draws text onto a grid of terminal cells: everything has a place,
// and what does not fit is cut off at the edge.
//
// Runes may take one cell or two, and marks combine with what they follow. What would steer
// a terminal, or turn around the order of what it shows, is drawn as a dot. The grid knows
// nothing of themes or terminals.
package cells

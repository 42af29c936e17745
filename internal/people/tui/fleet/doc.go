// Package fleet is the screen on many services: a line for each, with its bob on a short rail between its two
// versions. Its first line answers whether it is all right with all of them. It shows, opens one, and evacuates a side
// with all; what is done with one service is done on its own screen.
package fleet

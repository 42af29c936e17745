// Package reading is what is read from the world, as values: a front with its
// split and its counts, the instances of a side with their health, the answers
// at the front door. Each says when it was read.
//
// The package reads nothing itself; drivers and watchers do.
package reading

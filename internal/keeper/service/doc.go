// Package service puts together what a plan needs to be worked on: fronts, stacks, prober,
// logbook and log, and the keeper that owns the crossing.
package service

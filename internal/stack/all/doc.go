// Package all puts together what a plan's stacks need: the driver of each part and
// side, and the source of its versions.
//
// A new driver is added here and nowhere else.
package all

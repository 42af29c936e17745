// Package all puts together what a plan's stacks need: the driver of each part and
// side, and the source of its versions.
//
//	set, err := all.Open(plan, secrets, relay)
//	defer set.Close()
//	sources, err := all.Sources(plan)
//
// A new driver is added here and nowhere else.
package all

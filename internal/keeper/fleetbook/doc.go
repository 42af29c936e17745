// Package fleetbook is the durable record of a fleet's crossings: one JSON object a line, in a folder beside the fleet
// file. Each of its members has a logbook of its own; this one has what was decided for all of them.
package fleetbook
